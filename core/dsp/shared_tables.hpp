// Tables that many ask for and that are dear to make: windows, plans and kernels of one size.
#pragma once
#include <memory>
#include <mutex>

#include "core/store.hpp"

namespace heathmist::dsp {

/// Each is made once for its key and kept, up to so many bytes of all; one that takes more than a quarter of that is
/// made each time. Who has one keeps it alive. From any thread; while one is made others go on, so that it may be made
/// twice.
template <class Value>
class SharedTables {
 public:
  explicit SharedTables(size_t most_bytes) : most_bytes_(most_bytes), kept_(most_bytes) {}

  template <class Make>
  std::shared_ptr<const Value> get(const std::string& key, size_t bytes, Make make) {
    if (const auto known = find(key)) return known;
    const std::shared_ptr<const Value> made = make();
    if (bytes > most_bytes_ / 4) return made;
    std::scoped_lock held(lock_);
    kept_.keep(key, made, bytes);
    return made;
  }

 private:
  std::shared_ptr<const Value> find(const std::string& key) {
    std::scoped_lock held(lock_);
    return kept_.find(key).value_or(nullptr);
  }
  const size_t most_bytes_;
  std::mutex lock_;
  Store<std::shared_ptr<const Value>> kept_;
};

}  // namespace heathmist::dsp
