// The gain from model to return in pieces of a hundredth of a second: what fades, steps and rides are found in.
#pragma once
#include "core/compare/causes/cause.hpp"

namespace heathmist::causes {

struct GainPiece {
  double mm = 0, mr = 0, rr = 0;  ///< sums of model^2, model return, return^2
  double gain() const { return mm > 0 ? mr / mm : 0; }
};

struct GainCurve {
  int64_t piece = 1;  ///< frames
  std::vector<GainPiece> pieces;
  double loudest = 0;  ///< greatest mm
  /// The piece holds enough of the model to tell a gain.
  bool tells(size_t n) const { return pieces[n].mm > 1e-7 * loudest && pieces[n].mm > 0; }
  double middle(size_t n) const { return (double(n) + 0.5) * double(piece); }
};

/// Over all pairs together, or over one (`pair` >= 0).
GainCurve gain_curve(const Excerpt& excerpt, const Planar& model, int64_t piece, int pair = -1);

/// The level that most of it comes back at: the densest cluster of the pieces' gains, by energy.
double usual_gain(const GainCurve& curve);

/// Multiplies frames of a model by gain(place), in all pairs.
template <class Gain>
void apply_gain(Planar& model, Gain gain) {
  for (int64_t n = 0; n < model.frames(); ++n) {
    const double g = gain(n);
    if (g != 1)
      for (int p = 0; p < model.channels(); ++p) model.channel(p)[size_t(n)] *= g;
  }
}

}  // namespace heathmist::causes
