#include "app/model/queue.hpp"

#include <malloc.h>

#include <QCoreApplication>
#include <algorithm>
#include <chrono>

namespace heathmist::app {

namespace {

constexpr int most_in_background = 2;
constexpr int behind_the_window = 8;  // see nice(2)
constexpr std::chrono::milliseconds between_progress(40);
constexpr std::chrono::milliseconds leaves_memory(300);  // work that took longer had much of it

}  // namespace

Queue::Queue(QObject* parent) : QObject(parent) { set_pool_nice(behind_the_window); }

Queue::~Queue() {
  std::unique_lock held(lock_);
  for (auto& [key, line] : lines_) line.clear();
  for (auto& [token, running] : running_) running->steps_back = false, running->stop.request_stop();
  ended_.wait(held, [this] { return running_.empty(); });
  auto threads = std::exchange(threads_, {});
  held.unlock();
  threads.clear();  // joins
}

Queue::Token Queue::post(Request request) {
  auto entry = std::make_shared<Entry>();
  entry->token = ++last_;
  entry->request = std::move(request);
  entry->is_live = entry->request.priority == Priority::live;
  ++open_[entry->request.group];
  std::scoped_lock held(lock_);
  supersede(entry->request);
  put_in_line(entry, false);
  start_what_can();
  return entry->token;
}

void Queue::supersede(const Request& later) {
  if (later.key.empty()) return;
  if (const auto same = waiting_of_key_.find(later.key); same != waiting_of_key_.end())
    if (auto before = take_out_of_line(same->second)) hand_over_end(std::move(before), Outcome::superseded, {});
  for (auto& [token, running] : running_)
    if (running->request.key == later.key && running->request.stopped_by_later)
      running->superseded = true, running->stop.request_stop();
}

void Queue::put_in_line(EntryPtr entry, bool in_front) {
  const Token token = entry->token;
  if (!entry->request.key.empty()) waiting_of_key_[entry->request.key] = token;
  Line& line = lines_[{entry->request.priority, entry->request.group}];
  waiting_[token] = {&line, line.insert(in_front ? line.begin() : line.end(), std::move(entry))};
}

Queue::EntryPtr Queue::take_out_of_line(Token token) {
  const auto place = waiting_.find(token);
  if (place == waiting_.end()) return {};
  const auto [line, at] = place->second;
  EntryPtr taken = std::move(*at);
  line->erase(at);
  waiting_.erase(place);
  if (const auto same = waiting_of_key_.find(taken->request.key);
      same != waiting_of_key_.end() && same->second == token)
    waiting_of_key_.erase(same);
  return taken;
}

void Queue::set_priority(Token token, Priority priority) {
  std::scoped_lock held(lock_);
  if (const auto r = running_.find(token); r != running_.end()) r->second->request.priority = priority;
  if (auto waiting = take_out_of_line(token)) {
    waiting->request.priority = priority;
    put_in_line(std::move(waiting), false);
  }
  start_what_can();
}

void Queue::cancel(Token token) {
  std::scoped_lock held(lock_);
  if (auto waiting = take_out_of_line(token)) hand_over_end(std::move(waiting), Outcome::cancelled, {});
  if (const auto r = running_.find(token); r != running_.end())
    r->second->steps_back = false, r->second->stop.request_stop();
}

void Queue::drop(Token token) {
  {
    std::scoped_lock held(lock_);
    if (const auto w = waiting_.find(token); w != waiting_.end()) (*w->second.second)->heard = false;
    if (const auto r = running_.find(token); r != running_.end()) r->second->heard = false;
  }
  cancel(token);
}

void Queue::drop_and_wait(Token token) {
  drop(token);
  std::unique_lock held(lock_);
  ended_.wait(held, [&] { return !running_.count(token); });
}

bool Queue::is_busy(const std::string& group) const {
  return std::any_of(open_.begin(), open_.end(),
                     [&](const auto& open) { return open.second > 0 && (group.empty() || open.first == group); });
}

bool Queue::knows(Token token) const {
  std::scoped_lock held(lock_);
  return running_.count(token) || waiting_.count(token);
}

void Queue::start_what_can() {
  for (const Priority priority : {Priority::live, Priority::shown, Priority::background})
    while (auto next = next_that_can_start(priority)) begin(std::move(next));
}

/// Of the lines whose first may start the one whose first came first; it counts as running from here on.
Queue::EntryPtr Queue::next_that_can_start(Priority priority) {
  Line* found = nullptr;
  for (auto& [key, line] : lines_) {
    if (key.first != priority || line.empty()) continue;
    const EntryPtr& first = line.front();
    if (!can_start(first->request))
      make_room_for(first->request);
    else if (!found || first->token < found->front()->token)
      found = &line;
  }
  if (!found) return {};
  auto next = take_out_of_line(found->front()->token);
  return running_[next->token] = next;
}

bool Queue::can_start(const Request& next) const {
  int in_background = 0;
  for (const auto& [token, running] : running_) {
    in_background += running->request.priority == Priority::background;
    if (!next.group.empty() && running->request.group == next.group) return false;
  }
  return next.priority != Priority::background || in_background < most_in_background;
}

/// One of its group that runs and matters less is stopped, to begin anew later.
void Queue::make_room_for(const Request& next) {
  for (auto& [token, running] : running_)
    if (!next.group.empty() && running->request.group == next.group && running->request.priority > next.priority &&
        !running->stop.stop_requested())
      running->steps_back = true, running->stop.request_stop();
}

void Queue::begin(EntryPtr entry) {
  threads_.remove_if([this](const std::jthread& t) {
    return std::find(gone_.begin(), gone_.end(), t.get_id()) != gone_.end();  // joins, at once
  });
  gone_.clear();
  threads_.emplace_back([this, entry = std::move(entry)] { work(entry); });
}

/// On a thread of the queue: a request, and those that come after it.
void Queue::work(EntryPtr entry) {
  while (entry) {
    if (!entry->is_live) stand_back(behind_the_window);  // the window's thread is never kept waiting
    Ending ending = Ending::whole;
    QString sentence;
    const auto began = std::chrono::steady_clock::now();
    try {
      run(entry);
    } catch (const Cancelled&) {
      ending = Ending::stopped;
    } catch (const std::exception& error) {
      ending = Ending::failed, sentence = QString::fromUtf8(error.what());
    } catch (...) {
      ending = Ending::failed, sentence = tr("Something went wrong that has no name; try it again");
    }
    // what the allocator holds of large blocks that were let go lies about in pieces: it gives them back when asked
    if (std::chrono::steady_clock::now() - began > leaves_memory) malloc_trim(0);
    entry = finish(entry, ending, sentence);
  }
}

void Queue::run(const EntryPtr& entry) {
  const Tell tell = [this, entry](std::function<void()> what) {
    hand_over([entry, what = std::move(what)] {
      if (entry->heard && !entry->superseded) what();
    });
  };
  Job job;
  job.stop = entry->stop.get_token();
  auto last = std::chrono::steady_clock::time_point();
  job.progress = [&](double fraction) {  // never two calls at once
    entry->fraction = fraction;
    const auto now = std::chrono::steady_clock::now();
    if (now - last < between_progress || !entry->fraction_is_told.exchange(false)) return;
    last = now;
    tell([entry] {
      entry->fraction_is_told = true;
      if (entry->request.progressed) entry->request.progressed(entry->fraction);
    });
  };
  entry->request.work(job, tell);
}

/// What its thread goes on with; nothing: the thread ends.
Queue::EntryPtr Queue::finish(const EntryPtr& entry, Ending ending, const QString& sentence) {
  std::scoped_lock held(lock_);
  running_.erase(entry->token);
  if (ending == Ending::stopped && entry->steps_back && entry->heard && !entry->superseded) {
    entry->steps_back = false;
    entry->stop = {};
    put_in_line(entry, true);
  } else {
    hand_over_end(entry,
                  ending == Ending::stopped  ? Outcome::cancelled
                  : ending == Ending::failed ? Outcome::failed
                                             : Outcome::done,
                  sentence);
  }
  while (auto live = next_that_can_start(Priority::live)) begin(std::move(live));  // this thread may stand back
  EntryPtr next = next_that_can_start(Priority::shown);
  if (!next) next = next_that_can_start(Priority::background);
  start_what_can();
  if (!next) gone_.push_back(std::this_thread::get_id());
  ended_.notify_all();
  return next;
}

void Queue::hand_over_end(EntryPtr entry, Outcome outcome, const QString& sentence) {
  hand_over([this, entry = std::move(entry), outcome, sentence] {
    --open_[entry->request.group];
    if (entry->heard) tell_end(*entry, entry->superseded ? Outcome::superseded : outcome, sentence);
  });
}

void Queue::tell_end(const Entry& entry, Outcome outcome, const QString& sentence) {
  if (entry.request.ended) return entry.request.ended(outcome, sentence);
  if (outcome == Outcome::failed) emit failed(sentence);
}

/// One event a letter: a dialog that a letter opens keeps none of the others waiting. The event itself carries nothing.
void Queue::hand_over(std::function<void()> letter) {
  {
    std::scoped_lock held(box_lock_);
    box_.push_back(std::move(letter));
  }
  QCoreApplication::postEvent(this, new QEvent(QEvent::User));
}

void Queue::customEvent(QEvent*) {
  std::function<void()> next;
  {
    std::scoped_lock held(box_lock_);
    next = std::move(box_.front());
    box_.pop_front();
  }
  next();
}

}  // namespace heathmist::app
