// Crossfades between any two clips: how alike they are at a spot, which law keeps the level even there, and the
// crossfade itself.
//
//   CrossfadeStudy s = study_crossfade(a, b, {12.5, 0, 2});
//   auto clip = make_crossfade(a, b, {12.5, 0, 2}, s.laws[s.best].law);
//
// The level of two sources whose gains are ga and gb and whose correlation is r, both equally loud, is
// 10 log10(ga^2 + gb^2 + 2 r ga gb) dB.
#pragma once
#include <memory>
#include <vector>

#include "core/audio/clip.hpp"
#include "core/probes/crossfade_reading.hpp"

namespace heathmist {

/// Where the fade begins in either clip, and how long it is, s.
struct CrossfadeSpot {
  double a_from_s = 0, b_from_s = 0, length_s = 1;
  bool operator==(const CrossfadeSpot&) const = default;
};

struct CrossfadeStudy {
  double correlation = 0;                            ///< over the whole fade, both channels together
  double a_dbfs = -200, b_dbfs = -200;               ///< rms over it
  std::vector<std::pair<double, double>> over_time;  ///< s of the fade, correlation of a fortieth of it about there
  struct Law {
    FadeLaw law = FadeLaw::linear;
    double departure_db = 0;                          ///< greatest, with its sign
    std::vector<std::pair<double, double>> level_db;  ///< s of the fade
  };
  std::vector<Law> laws;  ///< linear, raised cosine, equal power, square root, logarithmic
  size_t best = 0;        ///< whose level departs least
};

/// Where the rates differ the second clip is brought to the first one's. Throws InputError where the spot lies outside
/// a clip or one is silent there; Cancelled.
CrossfadeStudy study_crossfade(std::shared_ptr<const Clip> a, std::shared_ptr<const Clip> b, const CrossfadeSpot& spot,
                               const Job& job = {});

/// One sentence: how alike they are, what keeps the level even and what straight lines would do.
std::string label_of(const CrossfadeStudy& study);
const char* label_of(FadeLaw law);

struct CrossfadeOptions {
  double around_s = 2;  ///< of either clip alone, before and after the fade, as far as there is any
  double grain_s = 0;   ///< instead: grains of this length that overlap by half, in turn from either clip
};
/// Both at the level they have. Throws as study_crossfade() does.
std::shared_ptr<const Clip> make_crossfade(std::shared_ptr<const Clip> a, std::shared_ptr<const Clip> b,
                                           const CrossfadeSpot& spot, FadeLaw law, const CrossfadeOptions& options = {},
                                           const Job& job = {});

}  // namespace heathmist
