#include "app/model/errands.hpp"

#include <iterator>

namespace heathmist::app {

Errands::Errands(QObject* parent) : QObject(parent) {
  worker_ = std::jthread([this](std::stop_token stop) { loop(stop); });
}

Errands::~Errands() {
  worker_.request_stop();
  wake_.notify_all();
}

void Errands::run(const std::string& name, Work work) {
  {
    std::scoped_lock held(lock_);
    if (const auto before = waiting_.find(name); before != waiting_.end()) queue_.erase(before->second);
    queue_.emplace_back(name, std::move(work));
    if (!name.empty()) waiting_[name] = std::prev(queue_.end());
  }
  wake_.notify_all();
}

bool Errands::is_busy() const {
  std::scoped_lock held(lock_);
  return running_ || !queue_.empty();
}

void Errands::loop(std::stop_token stop) {
  while (true) {
    Work work;
    {
      std::unique_lock held(lock_);
      running_ = false;
      if (!wake_.wait(held, stop, [&] { return !queue_.empty(); })) return;
      work = std::move(queue_.front().second);
      waiting_.erase(queue_.front().first);
      queue_.pop_front();
      running_ = true;
    }
    std::function<void()> after;
    try {
      after = work();
    } catch (const std::exception& error) {
      emit failed(QString::fromUtf8(error.what()));
    } catch (...) {
      emit failed(tr("Something went wrong that has no name; what was on its way does not come."));
    }
    if (after) QMetaObject::invokeMethod(this, std::move(after), Qt::QueuedConnection);
  }
}

}  // namespace heathmist::app
