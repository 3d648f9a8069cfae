// What was tried before is not tried again: what estimates came to, by what had been taken out before them. A search
// asks for the same things in many ways, and a second search for much of what the first one did.
#pragma once
#include <algorithm>
#include <list>
#include <map>
#include <memory>
#include <mutex>
#include <tuple>

#include "core/compare/causes/estimates.hpp"

namespace heathmist::causes {

using FoundPtr = std::shared_ptr<const Found>;

/// Of one excerpt. May be used by several threads, as long as they ask for different things.
class Attempts {
 public:
  /// The causes that were taken out before, in the order in which they were kept.
  using Before = std::vector<FoundPtr>;
  /// What an estimate takes out of what is left.
  struct Weight {
    bool holds = false;    ///< nothing got worse on frames that it was not fitted on
    double taken_db = 0;   ///< there
    double counts_db = 0;  ///< of that, what is worth anything
    double left = 0;       ///< power
  };

  template <class Make>
  FoundPtr found(const Estimate& e, Model::Hears hears, const Before& before, Make make) {
    return kept_or_made(found_, std::tuple{&e, hears, before}, make);
  }
  template <class Make>
  Weight weight(const Estimate& e, const Before& before, Make make) {
    return kept_or_made(weights_, Key{&e, before}, make);
  }
  /// Power left: all of it, and that of the odd pieces.
  template <class Make>
  std::pair<double, double> left(const Before& before, Make make) {
    return kept_or_made(left_, before, make);
  }
  /// A model: `from` with `steps` done to it one by one, by put(step, model). Goes on from the longest beginning that
  /// is remembered; some of the last are.
  template <class Put>
  Planar model(const Planar& from, const Before& steps, Put put) {
    auto [model, known] = longest_beginning(from, steps);
    for (size_t n = known; n < steps.size(); ++n) {
      put(*steps[n], model);
      remember({steps.begin(), steps.begin() + long(n) + 1}, model);
    }
    return std::move(model);
  }

  /// All of it: the excerpt is another now.
  void forget() {
    std::scoped_lock held(lock_);
    found_.clear(), weights_.clear(), left_.clear(), models_.clear();
  }

 private:
  using Key = std::pair<const Estimate*, Before>;
  template <class Map, class K, class Make>
  typename Map::mapped_type kept_or_made(Map& map, const K& key, Make make) {
    {
      std::scoped_lock held(lock_);
      if (const auto known = map.find(key); known != map.end()) return known->second;
    }
    auto made = make();
    std::scoped_lock held(lock_);
    return map.try_emplace(key, std::move(made)).first->second;
  }

  std::pair<Planar, size_t> longest_beginning(const Planar& from, const Before& steps) {
    std::scoped_lock held(lock_);
    auto best = models_.end();
    for (auto m = models_.begin(); m != models_.end(); ++m)
      if (m->first.size() <= steps.size() && std::equal(m->first.begin(), m->first.end(), steps.begin()) &&
          (best == models_.end() || m->first.size() > best->first.size()))
        best = m;
    if (best == models_.end()) return {from, 0};
    models_.splice(models_.begin(), models_, best);
    return {best->second, best->first.size()};
  }
  void remember(Before steps, const Planar& model) {
    constexpr size_t most_bytes = size_t(32) << 20;
    const size_t bytes = std::max<size_t>(1, size_t(model.channels()) * size_t(model.frames()) * sizeof(double));
    std::scoped_lock held(lock_);
    while (!models_.empty() && (models_.size() + 1) * bytes > most_bytes) models_.pop_back();  // all are of one size
    models_.emplace_front(std::move(steps), model);
  }

  std::mutex lock_;
  std::map<std::tuple<const Estimate*, Model::Hears, Before>, FoundPtr> found_;
  std::map<Key, Weight> weights_;
  std::map<Before, std::pair<double, double>> left_;
  std::list<std::pair<Before, Planar>> models_;  // the last one asked for first
};

}  // namespace heathmist::causes
