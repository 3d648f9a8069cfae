// One long piece of work off the interface thread, with progress and cancel.
#pragma once
#include <QElapsedTimer>
#include <QObject>
#include <functional>
#include <map>
#include <optional>
#include <thread>

#include "core/job.hpp"

namespace heathmist::app {

class Task : public QObject {
  Q_OBJECT

 public:
  explicit Task(QObject* parent = nullptr) : QObject(parent) {}
  ~Task() override;
  /// Runs work on a thread of its own; one that still runs is dropped first. Signals come on the interface thread.
  void start(std::function<void(const Job&)> work);
  /// Asks the work to stop, and does not wait: ended(false) comes when it has.
  void cancel();
  /// The same, but nothing more is heard of it.
  void drop();
  bool is_running() const { return running_; }
  /// Seconds that are left at the speed so far; none while that cannot be told.
  std::optional<double> left_s(double fraction) const;

 signals:
  void progressed(double fraction);
  void ended(bool whole, const QString& failure);  ///< whole: neither cancelled nor failed

 private:
  void end(int run, bool whole, const QString& failure);
  bool running_ = false;
  QElapsedTimer since_;
  int run_ = 0;                        // the work that is heard
  std::map<int, std::jthread> works_;  // this one and those that were dropped and have not stopped yet
};

}  // namespace heathmist::app
