#include <algorithm>
#include <cmath>

#include "core/probes/sweep_reading.hpp"

namespace heathmist {

namespace {
constexpr double reach_s = 0.15;
}  // namespace

ImpulseReading read_impulses(const Clip& ret, const ProbeScore& score, const ProbeFit& fit, int channel) {
  const double rate = ret.format().sample_rate_hz;
  std::vector<std::pair<double, double>> heard;
  const auto reader = ret.reader();
  Planar block;
  for (const double impulse_s : score.impulses_s) {
    const double at_s = fit.return_s(impulse_s);
    const auto first = int64_t(std::ceil((at_s - reach_s) * rate));
    reader->read(first, int64_t(2 * reach_s * rate), block);
    const auto x = block.channel(channel);
    for (size_t n = 0; n < x.size(); ++n) heard.emplace_back((double(first) + double(n)) / rate - at_s, x[n]);
  }
  std::sort(heard.begin(), heard.end());
  ImpulseReading reading;
  double peak = 0;
  for (const auto& [after, value] : heard) {
    reading.after_s.push_back(after), reading.value.push_back(value);
    if (std::abs(value) > std::abs(peak)) peak = value, reading.delay_s = after;
  }
  if (peak == 0) return reading;
  reading.peak_dbfs = 20 * std::log10(std::abs(peak));
  reading.inverted = peak < 0;
  const auto loud = [&](const auto& moment) { return std::abs(moment.second) > 1e-3 * std::abs(peak); };
  const auto first = std::find_if(heard.begin(), heard.end(), loud);
  const auto last = std::find_if(heard.rbegin(), heard.rend(), loud);
  reading.pre_ringing_s = reading.delay_s - first->first;
  reading.post_ringing_s = last->first - reading.delay_s;
  return reading;
}

}  // namespace heathmist
