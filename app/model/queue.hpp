// The queue: all work that is done off the interface thread stands in it. It is used from the interface thread, and all
// that it calls is called there, but the work itself.
#pragma once
#include <QObject>
#include <QString>
#include <atomic>
#include <condition_variable>
#include <deque>
#include <functional>
#include <list>
#include <map>
#include <memory>
#include <mutex>
#include <optional>
#include <string>
#include <thread>
#include <unordered_map>

#include "core/job.hpp"

namespace heathmist::app {

/// What somebody moves right now; what is looked at; all else.
enum class Priority { live, shown, background };

enum class Outcome {
  done,
  superseded,  ///< another request of its key took its place
  cancelled,
  failed
};

/// Calls what it is given on the interface thread, in order, unless its request was dropped or superseded meanwhile.
using Tell = std::function<void(std::function<void()>)>;

struct Request {
  Priority priority = Priority::shown;
  std::function<void(const Job& job, const Tell& tell)> work{};  ///< on a thread of its own; may throw
  /// A later request of this key supersedes it where it still waits; empty: none does.
  std::string key{};
  bool stopped_by_later = false;  ///< ... and where it runs already, too
  /// Of a group one runs at a time. One of lower priority that runs steps back for a higher one: it is stopped, waits
  /// again and begins anew. Empty: it runs beside all others.
  std::string group{};
  std::function<void(double fraction)> progressed{};
  std::function<void(Outcome outcome, const QString& sentence)> ended{};  ///< once; the sentence: of a failure
};

class Queue : public QObject {
  Q_OBJECT

 public:
  using Token = int64_t;

  explicit Queue(QObject* parent = nullptr);
  /// Stops all work and waits for it. Nothing more is called.
  ~Queue() override;

  Token post(Request request);
  void set_priority(Token token, Priority priority);
  /// Asks it to stop and does not wait: ended(cancelled) comes when it has, or ended(done) where it was quicker.
  void cancel(Token token);
  /// The same, and nothing more is heard of it.
  void drop(Token token);
  /// The same, and returns when its work touches nothing any more.
  void drop_and_wait(Token token);
  /// Whether anything waits or runs or its end is not told yet; of a group, where one is named.
  bool is_busy(const std::string& group = {}) const;
  bool knows(Token token) const;  ///< it waits, or runs, or is being stopped

 signals:
  void failed(const QString& sentence);  ///< work that nobody hears the end of

 private:
  struct Entry {
    Token token = 0;
    Request request{};
    bool is_live = false;  // when it was posted
    std::stop_source stop{};
    bool steps_back = false, superseded = false, heard = true;
    std::atomic<double> fraction{0};
    std::atomic<bool> fraction_is_told{true};
  };
  using EntryPtr = std::shared_ptr<Entry>;
  using Line = std::list<EntryPtr>;  // in the order in which they came
  enum class Ending { whole, stopped, failed };

  // with the lock held
  void put_in_line(EntryPtr entry, bool in_front);
  EntryPtr take_out_of_line(Token token);
  void supersede(const Request& later);
  void start_what_can();
  EntryPtr next_that_can_start(Priority priority);
  bool can_start(const Request& next) const;
  void make_room_for(const Request& next);
  void begin(EntryPtr entry);

  void work(EntryPtr entry);
  void run(const EntryPtr& entry);
  EntryPtr finish(const EntryPtr& entry, Ending ending, const QString& sentence);
  void hand_over_end(EntryPtr entry, Outcome outcome, const QString& sentence);
  void customEvent(QEvent*) override;  ///< a letter
  void tell_end(const Entry& entry, Outcome outcome, const QString& sentence);
  void hand_over(std::function<void()> letter);  ///< from any thread: called on the interface thread

  Token last_ = 0;
  std::map<std::string, int> open_;  // by group: those whose end is not told yet. Interface thread only

  mutable std::mutex lock_;  // of what follows: held for moments only
  std::condition_variable ended_;
  std::map<std::pair<Priority, std::string>, Line> lines_;               // by priority and group
  std::unordered_map<Token, std::pair<Line*, Line::iterator>> waiting_;  // where each stands
  std::unordered_map<std::string, Token> waiting_of_key_;
  std::map<Token, EntryPtr> running_;
  std::list<std::jthread> threads_;
  std::vector<std::thread::id> gone_;  // threads that have nothing left to do

  std::mutex box_lock_;
  std::deque<std::function<void()>> box_;
};

}  // namespace heathmist::app
