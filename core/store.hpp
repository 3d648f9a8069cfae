// What was worked out and may be wanted again: values by key, up to a number of bytes.
#pragma once
#include <cstddef>
#include <list>
#include <optional>
#include <string>
#include <unordered_map>

namespace heathmist {

/// The least recently used values are let go where all together pass the limit; the `least` newest stay whatever they
/// weigh.
/// Not to be shared by threads without a lock.
template <class Value>
class Store {
 public:
  explicit Store(size_t most_bytes, size_t least = 1) : most_(most_bytes), least_(least) {}

  /// It counts as used now.
  std::optional<Value> find(const std::string& key) {
    const auto at = places_.find(key);
    if (at == places_.end()) return {};
    entries_.splice(entries_.begin(), entries_, at->second);
    return entries_.front().value;
  }
  /// In the place of what that key had.
  void keep(const std::string& key, Value value, size_t bytes) {
    drop(key);
    entries_.push_front({key, std::move(value), bytes});
    places_[key] = entries_.begin();
    bytes_ += bytes;
    while (bytes_ > most_ && entries_.size() > least_) drop_oldest();
  }
  void drop(const std::string& key) {
    const auto at = places_.find(key);
    if (at == places_.end()) return;
    bytes_ -= at->second->bytes;
    entries_.erase(at->second);
    places_.erase(at);
  }
  void drop_oldest() {
    if (!entries_.empty()) drop(std::string(entries_.back().key));
  }
  /// From the newest to the oldest.
  template <class Visit>
  void each(Visit visit) const {
    for (const Entry& entry : entries_) visit(entry.value);
  }
  void clear() { entries_.clear(), places_.clear(), bytes_ = 0; }
  size_t bytes() const { return bytes_; }
  size_t size() const { return entries_.size(); }

 private:
  struct Entry {
    std::string key;
    Value value;
    size_t bytes;
  };
  size_t most_, least_, bytes_ = 0;
  std::list<Entry> entries_;  // newest first
  std::unordered_map<std::string, typename std::list<Entry>::iterator> places_;
};

}  // namespace heathmist
