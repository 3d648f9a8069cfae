// The long work of one owner, a page or a board: one at a time, with progress and cancel.
#pragma once
#include <QElapsedTimer>
#include <QPointer>
#include <optional>

#include "app/model/queue.hpp"

namespace heathmist::app {

class LongWork : public QObject {
  Q_OBJECT

 public:
  explicit LongWork(Queue& queue, QObject* parent = nullptr) : QObject(parent), queue_(&queue) {}
  ~LongWork() override;
  /// Starts work; one that still runs is dropped first.
  void start(std::function<void(const Job& job, const Tell& tell)> work);
  /// Asks the work to stop, and does not wait: ended() comes when it has.
  void cancel();
  /// The same, but nothing more is heard of it.
  void drop();
  bool is_running() const { return token_ != 0; }
  /// Seconds that are left at the speed so far; none while that cannot be told.
  std::optional<double> left_s(double fraction) const;
  /// "encoding, about 1:20 left", or "encoding…".
  QString in_words(const QString& doing, double fraction) const;

 signals:
  void progressed(double fraction);
  void ended(heathmist::app::Outcome outcome, const QString& sentence);  ///< the sentence: of a failure

 private:
  QPointer<Queue> queue_;
  QElapsedTimer since_;
  Queue::Token token_ = 0;           // of the work that is heard
  std::vector<Queue::Token> begun_;  // all that may touch the owner yet
};

/// Of work that ended, in a few words: what went wrong, "stopped", or nothing where it is done.
QString how_it_ended(Outcome outcome, const QString& sentence);

}  // namespace heathmist::app
