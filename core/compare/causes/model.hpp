// What the master was made into so far, on its way to the return.
#pragma once
#include <memory>
#include <mutex>
#include <vector>

#include "core/compare/causes/gain_curve.hpp"

namespace heathmist::causes {

/// Pairs x frames, as the excerpt that it is of. What several estimates read off both is read once, by whichever asks
/// first, from any thread; the samples stay as they are.
class Model : public Planar {
 public:
  Model() = default;
  Model(Planar samples) : Planar(std::move(samples)) {}
  Model(Model&&) = default;
  Model& operator=(Model&&) = default;
  /// A gain that follows the level, or a curve, was put in: these are known only about, which is like noise in it.
  enum class Hears { either, master, model } hears = Hears::either;  ///< what a gain by level may follow
  bool moved = false;
  /// The gain to the return of `excerpt` over time, pair by pair.
  std::vector<GainCurve> gain_courses(const Excerpt& excerpt) const;

 private:
  struct Read {
    std::once_flag once;
    const Excerpt* of = nullptr;
    std::vector<GainCurve> courses;
  };
  std::shared_ptr<Read> read_ = std::make_shared<Read>();
};

/// Of all pairs, over the whole overlap in pieces of a hundredth of a second (of a long one a fiftieth, where the model
/// is still the master; else of what the excerpt holds of it); middles are times.
GainCurve gain_course(const Excerpt& excerpt, const Model& model);
/// The course over the whole overlap is known, not only of what the excerpt holds.
bool has_course_of_all(const Excerpt& excerpt, const Model& model);

}  // namespace heathmist::causes
