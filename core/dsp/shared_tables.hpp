// Tables that many ask for and that are dear to make: windows, plans and kernels of one size.
#pragma once
#include <memory>
#include <mutex>

#include "core/store.hpp"

namespace heathmist::dsp {

/// Each is made once for its key and kept up to so many bytes of all; who has one keeps it alive. From any thread.
template <class Value>
class SharedTables {
 public:
  explicit SharedTables(size_t most_bytes) : kept_(most_bytes) {}

  template <class Make>
  std::shared_ptr<const Value> get(const std::string& key, size_t bytes, Make make) {
    std::scoped_lock held(lock_);
    if (const auto known = kept_.find(key)) return *known;
    const std::shared_ptr<const Value> made = make();
    kept_.keep(key, made, bytes);
    return made;
  }

 private:
  std::mutex lock_;
  Store<std::shared_ptr<const Value>> kept_;
};

}  // namespace heathmist::dsp
