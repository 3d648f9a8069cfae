#include "core/compare/coarse.hpp"

#include <algorithm>
#include <cmath>

#include "core/dsp/fft.hpp"

namespace heathmist {

Mixture uneven_mixture(int channels) {
  Mixture weights;
  double weight = 1;
  for (int c = 0; c < channels; ++c, weight *= 0.6) weights.push_back(weight);
  return weights;
}

Mixture single_channel(int channels, int which) {
  Mixture weights(size_t(channels), 0.0);
  weights[size_t(which)] = 1;
  return weights;
}

SketchPlan plan_sketches(int sample_rate_hz, int64_t both_frames) {
  constexpr int64_t most_values = 1 << 22;
  const int64_t by_rate = std::max<int64_t>(1, sample_rate_hz / 8000);
  const int64_t by_size = both_frames / most_values + 1;
  const int64_t step = std::max(by_rate, by_size);
  return {step, sample_rate_hz / step < 1500 ? SketchKind::energy : SketchKind::waveform};
}

namespace {

struct Mixer {
  std::unique_ptr<Reader> reader;
  Planar block{};
  std::vector<double> mixed{};
};

}  // namespace

Sketch sketch(const Clip& clip, const Mixture& mixture, const SketchPlan& plan, const Job& job) {
  const int64_t frames = clip.format().frames, step = plan.step;
  Sketch result{step, std::vector<float>(size_t((frames + step - 1) / step))};
  const int64_t per_block = std::max<int64_t>(1, 32768 / step), blocks_per_segment = 16;
  const int64_t per_segment = per_block * blocks_per_segment;
  for_each_segment(
      (int64_t(result.values.size()) + per_segment - 1) / per_segment, job, [&] { return Mixer{clip.reader()}; },
      [&](Mixer& m, int64_t segment) {
        for (int64_t b = 0; b < blocks_per_segment; ++b) {
          const int64_t from = segment * per_segment + b * per_block;
          const int64_t to = std::min(from + per_block, int64_t(result.values.size()));
          if (from >= to) break;
          m.reader->read(from * step, (to - from) * step, m.block);
          m.mixed.assign(size_t((to - from) * step), 0);
          for (int c = 0; c < m.block.channels(); ++c)
            if (const double w = mixture[size_t(c)]; w != 0)
              for (size_t n = 0; n < m.mixed.size(); ++n) m.mixed[n] += w * m.block.channel(c)[n];
          for (int64_t k = from; k < to; ++k) {
            const double* x = m.mixed.data() + (k - from) * step;
            double sum = 0, squares = 0;
            for (int64_t n = 0; n < step; ++n) sum += x[n], squares += x[n] * x[n];
            result.values[size_t(k)] =
                float(plan.kind == SketchKind::waveform ? sum / double(step) : std::sqrt(squares / double(step)));
          }
        }
      });
  if (plan.kind == SketchKind::energy)
    for (size_t k = result.values.size(); k-- > 1;) result.values[k] -= result.values[k - 1];
  return result;
}

namespace {

struct Peak {
  float value;
  int64_t lag;
};

/// The greatest few |c| among the lags that leave a fair overlap, no two neighbours.
std::vector<Peak> peaks(std::span<const float> c, int64_t master, int64_t ret, size_t most) {
  const int64_t least = std::min<int64_t>(std::min(master, ret) / 8 + 1, 4000);
  const auto at = [&](int64_t lag) { return std::abs(c[size_t(lag < 0 ? lag + int64_t(c.size()) : lag)]); };
  std::vector<Peak> found;
  for (int64_t lag = least - master; lag <= ret - least; ++lag) {
    const float value = at(lag);
    if (found.size() == most && value <= found.back().value) continue;
    const auto near =
        std::find_if(found.begin(), found.end(), [&](const Peak& p) { return std::abs(p.lag - lag) <= 3; });
    if (near != found.end()) {
      if (value <= near->value) continue;
      *near = {value, lag};
    } else {
      found.push_back({value, lag});
    }
    std::sort(found.begin(), found.end(), [](const Peak& a, const Peak& b) { return a.value > b.value; });
    if (found.size() > most) found.pop_back();
  }
  return found;
}

}  // namespace

std::vector<double> coarse_delays(const Sketch& master, const Sketch& ret, const Job& job) {
  const size_t size = dsp::good_fft_size(master.values.size() + ret.values.size());
  dsp::RealFft<float> m(size), r(size);
  std::copy(master.values.begin(), master.values.end(), m.time().begin());
  std::copy(ret.values.begin(), ret.values.end(), r.time().begin());
  m.forward();
  job.check();
  r.forward();
  job.check();
  float greatest = 0;
  for (size_t k = 0; k < m.bins(); ++k) {
    m.spectrum()[k] = std::conj(m.spectrum()[k]) * r.spectrum()[k];
    greatest = std::max(greatest, std::abs(m.spectrum()[k]));
  }
  std::vector<double> delays;
  for (const float power : {1.0f, 0.5f}) {
    for (size_t k = 0; k < m.bins(); ++k) {
      const auto cross = m.spectrum()[k];
      const float size_of = std::abs(cross);
      const float weight = size_of > 1e-11f * greatest ? (power == 1 ? 1 / size_of : 1 / std::sqrt(size_of)) : 0;
      r.spectrum()[k] = cross * weight;
    }
    r.inverse();
    job.check();
    for (const Peak& peak : peaks(r.time(), int64_t(master.values.size()), int64_t(ret.values.size()), 3)) {
      const double delay = double(peak.lag * master.step);
      if (std::none_of(delays.begin(), delays.end(),
                       [&](double d) { return std::abs(d - delay) <= 2.0 * double(master.step); }))
        delays.push_back(delay);
    }
  }
  return delays;
}

}  // namespace heathmist
