#include "core/measure/tones.hpp"

#include <algorithm>
#include <cmath>

namespace heathmist {

namespace {
constexpr size_t reach = 12;  // bins on either side that a line of that window fills
}  // namespace

std::optional<ToneReading> read_tones(const Spectrum& spectrum, std::span<const double> tones_hz) {
  const size_t bins = spectrum.power.size();
  if (tones_hz.empty() || bins < 4 * reach) return {};
  std::vector<bool> wanted(bins, false);
  double lines = 0;
  for (const double hz : tones_hz) {
    const auto at = size_t(std::llround(hz / spectrum.bin_hz));
    if (at + reach >= bins) continue;
    for (size_t k = at > reach ? at - reach : 0; k <= at + reach; ++k) {
      if (!wanted[k]) lines += spectrum.power[k];
      wanted[k] = true;
    }
  }
  if (lines < 1e-16) return {};
  ToneReading reading;
  double rest = 0, strongest = 0;
  for (auto k = size_t(std::ceil(20 / spectrum.bin_hz)); k < bins; ++k) {
    if (wanted[k]) continue;
    rest += spectrum.power[k];
    if (k < reach / 2 || k + reach / 2 >= bins) continue;
    double line = 0;
    for (size_t n = k - reach / 2; n <= k + reach / 2; ++n) line += wanted[n] ? 0 : spectrum.power[n];
    if (spectrum.power[k] >= spectrum.power[k - 1] && spectrum.power[k] >= spectrum.power[k + 1] && line > strongest)
      strongest = line, reading.spurious_hz = double(k) * spectrum.bin_hz;
  }
  reading.level_dbfs = 10 * std::log10(2 * lines);
  reading.thd_n_db = 10 * std::log10(std::max(rest, 1e-30) / lines);
  reading.spurious_dbr = 10 * std::log10(std::max(strongest, 1e-30) / lines);
  return reading;
}

}  // namespace heathmist
