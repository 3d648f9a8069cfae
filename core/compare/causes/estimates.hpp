// Causes: what explains the residual, one after the other, until the remainder is left.
//
// A cause is a small model of something that may have happened to the master on its way. It is estimated from what the
// master was made into so far (the model) and what came back (the return), put into the model, and kept where it takes
// out of what is left more than chance would. All of that happens on an excerpt of the pair, in memory.
//
//   Excerpt excerpt = take_excerpt(...);
//   Budget budget = explain_away(excerpt, ...);      // budget.hpp
//
// Adding a cause is one file with one `Estimate` and one line in the list (causes.cpp).
#pragma once
#include <functional>
#include <string_view>

#include "core/compare/causes/cause.hpp"
#include "core/compare/causes/excerpt.hpp"
#include "core/compare/causes/layers.hpp"
#include "core/compare/causes/level_detector.hpp"
#include "core/compare/causes/model.hpp"

namespace heathmist::causes {

struct Response;  // response.hpp

/// A cause that was found: described (code, channels, places, values), and what puts it into a model.
struct Found {
  Cause cause;
  PutIn take_out;
  double reach_s = 0;                      ///< how far from a sample what it does to it comes from, on either side
  bool is_plain = false;                   ///< to be seen by itself, however little it takes out of what is left
  std::function<Cause()> beside_coding{};  ///< as it is told where the return was coded; none: as the cause is
  std::shared_ptr<const LevelCourse> follows{};  ///< the level that its gain is a law of; none: it has no law
  std::shared_ptr<const Found> by_law{};         ///< of a gain that goes beyond its law: what that makes by itself
  std::shared_ptr<const Response> runs{};        ///< the filter that it is; none: it is another thing
  std::function<double(double)> bends_back{};  ///< what undoes the curve that it is; none: it is none, or nothing does
};

/// Looks for one kind of cause between a model and the excerpt's return. Nothing where it cannot be there.
struct Estimate {
  const char* code;
  double least_db;  ///< what it must take out of what is left, on frames that it was not fitted on
  double price_db;  ///< by how much it must beat a simpler one
  Stands stands;
  std::optional<Found> (*estimate)(const Excerpt& excerpt, const Model& model);
  const char* beside = nullptr;  ///< only tried where that one is kept, and only what goes the other way
};

/// All of them, in the order in which they are tried.
const std::vector<Estimate>& all();
const Estimate& named(std::string_view code);

// Each stands in the file of its name.
std::optional<Found> estimate_mute(const Excerpt& excerpt, const Model& model);
std::optional<Found> estimate_fade(const Excerpt& excerpt, const Model& model);
std::optional<Found> estimate_gain_step(const Excerpt& excerpt, const Model& model);
std::optional<Found> estimate_tremolo(const Excerpt& excerpt, const Model& model);
std::optional<Found> estimate_gain_ride(const Excerpt& excerpt, const Model& model);
std::optional<Found> estimate_mixing(const Excerpt& excerpt, const Model& model);
std::optional<Found> estimate_filter(const Excerpt& excerpt, const Model& model);
std::optional<Found> estimate_mid_side(const Excerpt& excerpt, const Model& model);
std::optional<Found> estimate_room(const Excerpt& excerpt, const Model& model);
std::optional<Found> estimate_echo(const Excerpt& excerpt, const Model& model);
std::optional<Found> estimate_clip(const Excerpt& excerpt, const Model& model);
std::optional<Found> estimate_curve(const Excerpt& excerpt, const Model& model);
std::optional<Found> estimate_dynamics(const Excerpt& excerpt, const Model& model);
std::optional<Found> estimate_wow(const Excerpt& excerpt, const Model& model);
std::optional<Found> estimate_dc(const Excerpt& excerpt, const Model& model);
std::optional<Found> estimate_lines(const Excerpt& excerpt, const Model& model);
std::optional<Found> estimate_clicks(const Excerpt& excerpt, const Model& model);

}  // namespace heathmist::causes
