#include "app/model/task.hpp"

namespace heathmist::app {

void Task::start(std::function<void(const Job&)> work) {
  cancel();
  running_ = true;
  since_.start();
  thread_ = std::jthread([this, work = std::move(work)](std::stop_token stop) {
    Job job;
    job.stop = stop;
    job.progress = [this, stop](double fraction) {
      if (!stop.stop_requested())
        QMetaObject::invokeMethod(
            this, [this, fraction] { emit progressed(fraction); }, Qt::QueuedConnection);
    };
    bool whole = false;
    QString failure;
    try {
      work(job);
      whole = true;
    } catch (const Cancelled&) {
    } catch (const std::exception& error) {
      failure = QString::fromUtf8(error.what());
    }
    running_ = false;
    QMetaObject::invokeMethod(
        this, [this, whole, failure] { emit ended(whole, failure); }, Qt::QueuedConnection);
  });
}

void Task::cancel() {
  if (!thread_.joinable()) return;
  thread_.request_stop();
  thread_.join();
}

std::optional<double> Task::left_s(double fraction) const {
  if (!since_.isValid() || fraction < 0.02) return {};
  return double(since_.elapsed()) / 1000 * (1 - fraction) / fraction;
}

}  // namespace heathmist::app
