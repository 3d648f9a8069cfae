#include "core/measure/fold.hpp"

#include <algorithm>
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

std::vector<LandingFrom> sources_of(double out_hz, double from_hz, double to_hz, int images) {
  constexpr double same = 1e-6;
  std::vector<LandingFrom> all;
  for (const int k : distinct_images(from_hz, to_hz, images)) {
    const double low = k * from_hz, high = low + from_hz / 2;  // what stands for a tone under this image, signed
    for (double m = std::floor(low / to_hz) - 1; m <= std::ceil(high / to_hz) + 1; ++m)
      for (const double side : {-1.0, 1.0}) {
        const double in = m * to_hz + side * out_hz - low;
        if (in < -same || in > from_hz / 2 + same) continue;
        if (std::any_of(all.begin(), all.end(), [&](const auto& known) {
              return known.landing.image == k && std::abs(known.in_hz - in) < same;
            }))
          continue;
        all.push_back({std::max(0.0, in), {k, std::abs(low + in), out_hz}});
      }
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
