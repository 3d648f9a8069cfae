#include "core/measure/fold.hpp"

#include <cmath>

namespace heathmist {

double folded_hz(double hz, double rate_hz) { return std::abs(std::remainder(hz, rate_hz)); }

std::vector<int> distinct_images(double from_hz, double to_hz, int images) {
  std::vector<int> kept{0};
  auto shift = [&](int k) { return std::remainder(k * from_hz, to_hz); };
  for (int n = 1; n <= images; ++n)
    for (const int k : {-n, n}) {
      bool fresh = true;
      for (const int before : kept)
        if (std::abs(std::remainder(shift(k) - shift(before), to_hz)) < 1e-6) fresh = false;
      if (fresh) kept.push_back(k);
    }
  return kept;
}

std::vector<Landing> landings(double in_hz, double from_hz, double to_hz, int images) {
  std::vector<Landing> all;
  for (const int k : distinct_images(from_hz, to_hz, images)) {
    const double before = std::abs(k * from_hz + in_hz);
    all.push_back({k, before, folded_hz(before, to_hz)});
  }
  return all;
}

std::vector<FoldLine> fold_lines(double from_hz, double to_hz, int images, int points) {
  std::vector<FoldLine> lines;
  for (const int k : distinct_images(from_hz, to_hz, images)) {
    FoldLine line{k, {}, {}};
    for (int n = 0; n < points; ++n) {
      line.in_hz.push_back(from_hz / 2 * n / (points - 1));
      line.out_hz.push_back(folded_hz(k * from_hz + line.in_hz.back(), to_hz));
    }
    lines.push_back(std::move(line));
  }
  return lines;
}

}  // namespace heathmist
