// What explains a part of the residual, as data.
#pragma once
#include <optional>
#include <string>
#include <vector>

#include "core/json.hpp"

namespace heathmist {

/// Of a rate: above it a band ends as converters end it, and nothing else need have happened.
constexpr double converters_edge = 0.45;

/// What of the residual a cause is, as far as it can be heard by itself (audition.hpp).
struct CausePart {
  enum What { none, jumps, own_delays, layer, rest } what = none;
  size_t number = 0;  ///< of the layer, in Layers
};

/// What is left of one band, or one moment, before and after a cause is taken out: dB against the programme there.
struct LeftAt {
  double at = 0;  ///< Hz (the band's middle), or seconds in the master's time
  double before_db = 0, after_db = 0;
};

/// A cause as it is told: data, no words. The words come from sentences.hpp.
struct Cause {
  std::string code{};  ///< one of the contract's
  std::optional<double> before_db{},
      after_db{};                             ///< what is left against the master, before and after; nothing: silence
  std::vector<int> channels{};                ///< of the pairs that it touches
  std::optional<double> from_s{}, until_s{};  ///< in the master's time; nothing: throughout
  Json values = Json::object();               ///< its numbers; units stand in the names
  std::string text{};                         ///< one sentence
  CausePart part{};
  std::vector<LeftAt> by_octave{}, over_time{};  ///< only of what lies beyond the fit and its breaks
  /// Taken out before the residual is looked at: delay, drift, map, polarity, gain, another rate.
  bool is_of_the_fit() const;
};

}  // namespace heathmist
