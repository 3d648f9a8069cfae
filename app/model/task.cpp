#include "app/model/task.hpp"

#include <sys/resource.h>
#include <sys/syscall.h>
#include <unistd.h>

namespace heathmist::app {

namespace {

/// Long work stands back (its own threads inherit this), so that the window's thread is never kept waiting by it.
void stand_back() { setpriority(PRIO_PROCESS, id_t(syscall(SYS_gettid)), 8); }

}  // namespace

Task::~Task() {
  for (auto& [run, thread] : works_) thread.request_stop();
  works_.clear();
}

void Task::start(std::function<void(const Job&)> work) {
  drop();
  running_ = true;
  since_.start();
  works_[run_] = std::jthread([this, run = run_, work = std::move(work)](std::stop_token stop) {
    stand_back();
    auto tell = [this](auto what) { QMetaObject::invokeMethod(this, std::move(what), Qt::QueuedConnection); };
    Job job;
    job.stop = stop;
    job.progress = [this, run, tell](double fraction) {
      tell([this, run, fraction] {
        if (run == run_ && running_) emit progressed(fraction);
      });
    };
    bool whole = false;
    QString failure;
    try {
      work(job);
      whole = true;
    } catch (const Cancelled&) {
    } catch (const std::exception& error) {
      failure = QString::fromUtf8(error.what());
    } catch (...) {
      failure = QObject::tr("Something went wrong that has no name; try it again");
    }
    tell([this, run, whole, failure] { end(run, whole, failure); });
  });
}

void Task::end(int run, bool whole, const QString& failure) {
  works_.erase(run);  // its thread has nothing left to do
  if (run != run_ || !running_) return;
  running_ = false;
  emit ended(whole, failure);
}

void Task::cancel() {
  if (const auto work = works_.find(run_); work != works_.end()) work->second.request_stop();
}

void Task::drop() {
  cancel();
  ++run_;
  running_ = false;
}

std::optional<double> Task::left_s(double fraction) const {
  if (!since_.isValid() || fraction < 0.02) return {};
  return double(since_.elapsed()) / 1000 * (1 - fraction) / fraction;
}

}  // namespace heathmist::app
