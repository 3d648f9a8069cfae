// The budget: causes tried, kept and tried again until nothing takes out more, and what the rest is.
#pragma once
#include "core/compare/causes/cause.hpp"
#include "core/compare/causes/excerpt.hpp"
#include "core/compare/causes/layers.hpp"

namespace heathmist {

/// What is known of a pair besides its samples.
struct BudgetFacts {
  bool lossy = false;  ///< the return comes from a lossy file, or bears the traces of a coder
  std::function<std::optional<Json>()> find_traces{};  ///< looks for those traces: asked where the rest is unexplained
  Json lossy_values = Json::object();                  ///< family, rate ...
  std::optional<int> bits;                             ///< word length that the return's samples keep to
  std::optional<int> bits_elsewhere;                   ///< ... of a return of another rate, before it is compared
  int rate_elsewhere_hz = 0;                           ///< that return's
  int master_bits = 64;                                ///< and the master's
  double gain_db = 0;                                  ///< the fit's
  std::optional<double> return_band_hz{};              ///< how far up the return reaches
  bool fit_is_plain = false;                           ///< it moves, turns and scales nothing
  bool is_between_samples = false;                     ///< the fit reads the master there
  std::shared_ptr<const LinearPath> path{};            ///< the split's, of two channels
  std::optional<double> linear_left_db{};  ///< against the master: what one filter over all leaves (the split)
  std::optional<double> taken_db{};  ///< against the master, what causes that do something to the programme took out
  bool gain_follows = false;  ///< the level, among those: what its gain is not known to moves as a programme would
};

struct Budget {
  std::vector<Cause> causes;           ///< in the order they were taken out
  std::optional<double> remainder_db;  ///< and after the last; nothing: silence
  std::vector<causes::Layer> layers;   ///< the parts that causes say they are
  double level_db = 0;                 ///< of what a coder left as it was, where it is no cause of its own
};

/// Explains away what is left of an excerpt: the causes of core/compare/causes/causes.cpp, best first, then all once
/// more, then what kind of thing the rest is (word length, coding, noise, another programme).
Budget explain_away(const causes::Excerpt& excerpt, const BudgetFacts& facts, const Job& job = {});

namespace causes {

/// A gain that follows the programme's own level.
inline bool is_of_dynamics(const Cause& c) {
  return c.code == "compressor" || c.code == "limiter" || c.code == "expander";
}

inline constexpr double nothing_left = 1e-12;  ///< of the master's power: less is arithmetic

/// What the rest is, where evidence says so.
std::optional<Cause> cause_of_rest(const Excerpt& excerpt, const Planar& model, const BudgetFacts& facts);
/// Whether it is the error of the word length that the return's samples keep to.
bool is_error_of_word_length(const Excerpt& excerpt, const Planar& model, const BudgetFacts& facts);

/// Level against the master, or nothing where that is under -200 dB.
std::optional<double> relative_db(double power, double master_power);

}  // namespace causes
}  // namespace heathmist
