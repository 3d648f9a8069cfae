// The gain from model to return over time: what fades, steps, rides and levellers are found in.
#pragma once
#include <span>

#include "core/compare/causes/excerpt.hpp"

namespace heathmist::causes {

struct GainCurve {
  int64_t piece = 1;  ///< frames
  std::vector<GainPiece> pieces;
  std::vector<double> middle;  ///< of each piece: a time, or a place where the curve is of the excerpt alone
  double loudest = 0;          ///< greatest mm
  /// The piece holds enough of the model to tell a gain.
  bool tells(size_t n) const { return pieces[n].mm > 1e-7 * loudest && pieces[n].mm > 0; }
};

/// Of the excerpt's frames, over all pairs together; middles are places.
GainCurve gain_curve(const Excerpt& excerpt, const Planar& model, int64_t piece);

/// Of one pair, in pieces of a hundredth of a second; middles are times.
GainCurve gain_course(const Excerpt& excerpt, const Planar& model, int pair);
/// Of pairs of one excerpt, together.
GainCurve together(std::span<const GainCurve> pairs);

/// The level that most of it comes back at: the densest cluster of the pieces' gains, by energy. `beside`: the next one
/// to that level.
double usual_gain(const GainCurve& curve, std::optional<double> beside = {});

/// What pieces of so many frames have at a place, straight between their middles.
double at_place_of_pieces(const std::vector<double>& of_pieces, int64_t piece, double place);

/// Multiplies a model by gain(time), in all pairs.
template <class Gain>
void apply_gain(const Places& where, Planar& model, Gain gain) {
  for (const Stretch& s : where.stretches)
    for (int64_t n = 0; n < s.frames; ++n)
      if (const double g = gain(s.first - where.start + n); g != 1)
        for (int p = 0; p < model.channels(); ++p) model.channel(p)[size_t(s.at + n)] *= g;
}

}  // namespace heathmist::causes
