// The linear path from model to return, pair by pair, in memory.
#pragma once
#include <complex>

#include "core/compare/causes/excerpt.hpp"

namespace heathmist::causes {

/// H[pair][bin] = 1 + D: by least squares on averaged cross-spectra, refined by running it (as core/compare/path.hpp);
/// its impulse response reaches a quarter of `size` either way.
struct Response {
  size_t size = 0;
  double bin_hz = 0;
  std::vector<std::vector<std::complex<double>>> h;  ///< [pair][bin]
  std::vector<std::vector<double>> certainty;        ///< [pair][bin]: coherence by the number of averages
  std::vector<std::vector<double>> power;            ///< [pair][bin]: of the model
  std::vector<std::vector<double>> apart;            ///< [pair][bin]: of what came back less the model
  std::vector<std::vector<double>> left;             ///< [pair][bin]: ... and less what the path makes of it
  std::vector<std::vector<double>> variance;         ///< [pair][bin]: of H by what is left with it, against |H|^2
  std::vector<double> averages;                      ///< [pair]
  int threads = 1;                                   ///< that it runs on
  /// Impulse response of a pair: value at n samples, n from -size/4 to size/4, place 0 first, negative ones at the end.
  std::vector<double> impulse(size_t pair) const;
};

Response estimate_response(const Excerpt& excerpt, const Planar& model, size_t size, int rounds);

/// Runs a model through it by overlap and save.
void run(const Response& response, Planar& model);

/// What undoes it, where it lets more through than a twentieth.
Response inverse(Response response);

}  // namespace heathmist::causes
