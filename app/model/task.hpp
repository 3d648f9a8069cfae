// One long piece of work off the interface thread, with progress and cancel.
#pragma once
#include <QElapsedTimer>
#include <QObject>
#include <atomic>
#include <functional>
#include <thread>

#include "core/job.hpp"

namespace heathmist::app {

class Task : public QObject {
  Q_OBJECT

 public:
  explicit Task(QObject* parent = nullptr) : QObject(parent) {}
  ~Task() override { cancel(); }
  /// Runs work on a thread of its own; one that still runs is stopped first. Signals come on the interface thread.
  void start(std::function<void(const Job&)> work);
  void cancel();
  bool is_running() const { return running_; }
  /// Seconds that are left at the speed so far; none while that cannot be told.
  std::optional<double> left_s(double fraction) const;

 signals:
  void progressed(double fraction);
  void ended(bool whole, const QString& failure);  ///< whole: neither cancelled nor failed

 private:
  std::atomic<bool> running_ = false;
  QElapsedTimer since_;
  std::jthread thread_;
};

}  // namespace heathmist::app
