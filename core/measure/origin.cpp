#include "core/measure/origin.hpp"

#include <algorithm>
#include <cmath>

#include "core/dsp/fft.hpp"
#include "core/measure/bandwidth.hpp"
#include "core/measure/mirror.hpp"

namespace heathmist {

namespace {

constexpr double block_s = 1.3;
constexpr int64_t most_blocks = 160, least_blocks = 4;
constexpr double stands_out_db = 14;  // a steady line above its neighbours
constexpr double steady_db = 2.5;     // it moves less than this between the quieter blocks
constexpr double together_least = 0.2;
constexpr double coherent_least = 0.15;
constexpr double least_image_dbfs = -100;  // fainter, the attack of a single note is as even about any frequency
constexpr double image_likeness = 0.35;    // correlation above which a mirrored spectrum is no chance
constexpr double least_tone_dbfs = -130;

/// Power of every bin in every block, mean over channels.
struct Blocks {
  double bin_hz = 0;
  size_t bins = 0;
  std::vector<std::vector<float>> power;
};

Blocks read_blocks(const Clip& clip, const Job& job) {
  const auto& f = clip.format();
  size_t size = 1024;
  while (double(size) < block_s * f.sample_rate_hz) size *= 2;
  while (size > 2048 && int64_t(size) * least_blocks > f.frames) size /= 2;
  Blocks b{double(f.sample_rate_hz) / double(size), size / 2 + 1, {}};
  const int64_t room = std::max<int64_t>(0, f.frames - int64_t(size));
  const int64_t count = std::clamp<int64_t>(room * 2 / int64_t(size) + 1, 1, most_blocks);
  b.power.resize(size_t(count));
  const auto window = dsp::blackman_harris(size);
  double window_power = 0;
  for (const double w : window) window_power += w * w;
  struct State {
    std::unique_ptr<Reader> reader;
    dsp::RealFft<double> fft;
    Planar block{};
  };
  for_each_segment(
      count, job,
      [&] {
        return State{clip.reader(), dsp::RealFft<double>(size)};
      },
      [&](State& state, int64_t n) {
        auto& power = b.power[size_t(n)];
        power.assign(b.bins, 0);
        state.reader->read(count > 1 ? room * n / (count - 1) : 0, int64_t(size), state.block);
        for (int c = 0; c < f.channels; ++c) {
          std::transform(window.begin(), window.end(), state.block.channel(c).begin(), state.fft.time().begin(),
                         std::multiplies<>());
          state.fft.forward();
          for (size_t k = 0; k < b.bins; ++k)
            power[k] += float(2 * std::norm(state.fft.spectrum()[k]) / (window_power * double(size) * f.channels));
        }
      });
  return b;
}

/// A quantile of each bin over the blocks.
std::vector<float> quantile(const Blocks& b, double share) {
  std::vector<float> result(b.bins), column(b.power.size());
  const auto place = size_t(double(column.size() - 1) * share);
  for (size_t k = 0; k < b.bins; ++k) {
    for (size_t n = 0; n < column.size(); ++n) column[n] = b.power[n][k];
    std::nth_element(column.begin(), column.begin() + long(place), column.end());
    result[k] = column[place];
  }
  return result;
}

struct Steadiness {
  double bin_hz;
  std::vector<float> low, high;  // quantiles of the quieter blocks: a programme covers its hum elsewhere

  /// The level of a steady line at bin k, in dBFS; nothing where there is none.
  std::optional<double> line(size_t k) const {
    if (k < 45 || k + 45 >= low.size()) return near_line(k, std::min<size_t>(k, 12));
    return near_line(k, 40);
  }
  std::optional<double> near_line(size_t k, size_t reach) const {
    if (k < 6 || k + reach >= low.size() || low[k] < low[k - 1] || low[k] < low[k + 1] || low[k] <= 0) return {};
    std::vector<float> around;
    for (size_t away = 6; away <= std::max<size_t>(reach, 7); ++away) {
      if (k > away) around.push_back(low[k - away]);
      if (k + away < low.size()) around.push_back(low[k + away]);
    }
    std::nth_element(around.begin(), around.begin() + long(around.size() / 2), around.end());
    const double floor = std::max(1e-20, double(around[around.size() / 2]));
    if (10 * std::log10(double(low[k]) / floor) < stands_out_db) return {};
    if (10 * std::log10(double(high[k]) / double(low[k])) > steady_db) return {};
    double sum = 0;
    for (size_t n = k - 3; n <= k + 3; ++n) sum += double(low[n]);
    return 10 * std::log10(sum);
  }
};

void find_hum(const Steadiness& s, Origin& origin) {
  double best = 0;
  for (const double mains : {50.0, 60.0}) {
    std::vector<SteadyTone> lines;
    double sum = 0;
    for (int n = 1; n <= 8; ++n) {
      const double slack = std::max(0.6 * s.bin_hz, 0.004 * n * mains);
      for (auto k = size_t((n * mains - slack) / s.bin_hz); double(k) * s.bin_hz <= n * mains + slack; ++k)
        if (const auto level = s.line(k); level && *level > least_tone_dbfs) {
          lines.push_back({double(k) * s.bin_hz, *level});
          sum += std::pow(10, *level / 10);
          break;
        }
    }
    if (lines.size() >= 2 && sum > best) {
      best = sum;
      origin.hum_hz = mains, origin.hum_dbfs = 10 * std::log10(sum), origin.hum_lines = lines;
    }
  }
}

void find_pilots(const Steadiness& s, Origin& origin) {
  for (auto k = size_t(14000 / s.bin_hz); k + 45 < s.low.size(); ++k)
    if (const auto level = s.line(k); level && *level > least_tone_dbfs) {
      origin.pilot_tones.push_back({double(k) * s.bin_hz, *level});
      k += 12;
    }
  std::sort(origin.pilot_tones.begin(), origin.pilot_tones.end(),
            [](const auto& a, const auto& b) { return a.dbfs > b.dbfs; });
  if (origin.pilot_tones.size() > 8) origin.pilot_tones.resize(8);
}

/// Correlation of the fine structure (dB less its own running mean) of the spectrum on both sides of a bin.
double likeness_about(const std::vector<double>& fine, size_t about, size_t reach) {
  double xy = 0, xx = 0, yy = 0;
  for (size_t n = reach / 20; n < reach; ++n) {
    const double x = fine[about - n], y = fine[about + n];
    xy += x * y, xx += x * x, yy += y * y;
  }
  return xx > 0 && yy > 0 ? xy / std::sqrt(xx * yy) : 0;
}

/// How much better a bin and its mirror rise and fall together than a bin and a neighbour of its mirror: 0 where both
/// only follow the programme's loudness, as in a steady tone, towards 1 where one is the other's image.
double moves_with_mirror(const Blocks& b, size_t about, size_t reach) {
  const size_t count = b.power.size();
  auto together = [&](size_t low, size_t high) -> std::optional<double> {
    double mx = 0, my = 0, xx = 0, yy = 0, xy = 0;
    for (const auto& block : b.power)
      mx += std::log(double(block[low]) + 1e-20), my += std::log(double(block[high]) + 1e-20);
    mx /= double(count), my /= double(count);
    for (const auto& block : b.power) {
      const double x = std::log(double(block[low]) + 1e-20) - mx, y = std::log(double(block[high]) + 1e-20) - my;
      xx += x * x, yy += y * y, xy += x * y;
    }
    if (xx < 0.05 * double(count) || yy < 0.05 * double(count)) return {};
    return xy / std::sqrt(xx * yy);
  };
  constexpr size_t beside = 9, most = 300, least = 20;
  double sum = 0;
  size_t pairs = 0;
  for (size_t n = reach / 20 + 1; n + beside < reach; n += 1 + reach / most) {
    const auto mirror = together(about - n, about + n), other = together(about - n, about + n + beside);
    if (mirror && other) sum += *mirror - *other, ++pairs;
  }
  return pairs >= least ? sum / double(pairs) : 0;
}

/// Mean square of what lies so many bins above one, mean over blocks and channels.
double power_above(const Blocks& b, size_t bin, size_t reach) {
  double sum = 0;
  for (const auto& block : b.power)
    for (size_t k = bin; k < std::min(bin + reach, b.bins); ++k) sum += double(block[k]);
  return sum / double(b.power.size());
}

void find_images(const Clip& clip, const Blocks& b, const Job& job, Origin& origin) {
  std::vector<double> db(b.bins), fine(b.bins), sums(b.bins + 1, 0);
  for (size_t k = 0; k < b.bins; ++k) {
    double mean = 0;
    for (const auto& block : b.power) mean += double(block[k]);
    db[k] = 10 * std::log10(mean / double(b.power.size()) + 1e-20);
    sums[k + 1] = sums[k] + db[k];
  }
  constexpr size_t wide = 12;
  for (size_t k = wide; k + wide < b.bins; ++k)
    fine[k] = db[k] - (sums[k + wide + 1] - sums[k - wide]) / (2 * wide + 1);
  const double top = b.bin_hz * double(b.bins - 1);
  for (const double about :
       {4000.0, 5512.5, 8000.0, 11025.0, 12000.0, 16000.0, 22050.0, 24000.0, 44100.0, 48000.0, 88200.0, 96000.0}) {
    const auto bin = size_t(std::llround(about / b.bin_hz));
    const double reach_hz = std::min({about, top - about, 12000.0}) * 0.9;
    if (about >= top * 0.98 || reach_hz < 500) continue;
    const double likeness = likeness_about(fine, bin, size_t(reach_hz / b.bin_hz));
    if (likeness > image_likeness && likeness > origin.fold_likeness &&
        10 * std::log10(power_above(b, bin, size_t(reach_hz / b.bin_hz))) > least_image_dbfs &&
        moves_with_mirror(b, bin, size_t(reach_hz / b.bin_hz)) > together_least &&
        coherence_with_mirror(clip, about, reach_hz, job) > coherent_least)
      origin.folded_about_hz = about, origin.fold_likeness = likeness;
  }
}

}  // namespace

Origin study_origin(const Clip& clip, const Job& job) {
  Origin origin;
  const Spectrum average = band_spectrum(clip, job.part(0, 0.4));
  origin.bandwidth_hz = bandwidth_hz(average);
  const Blocks blocks = read_blocks(clip, job.part(0.4, 1));
  const double top = blocks.bin_hz * double(blocks.bins - 1);
  auto level = [&](double hz) {
    const double width = hz * 0.015;
    double sum = 0, count = 0;
    for (auto k = size_t((hz - width) / average.bin_hz);
         k < average.power.size() && double(k) * average.bin_hz <= hz + width; ++k)
      sum += average.power[k], count += 1;
    return 10 * std::log10(sum / std::max(1.0, count) + 1e-20);
  };
  if (origin.bandwidth_hz && *origin.bandwidth_hz < 0.97 * top)
    origin.steepness_db = level(*origin.bandwidth_hz / std::pow(2.0, 1.0 / 12)) -
                          level(std::min(top * 0.99, *origin.bandwidth_hz * std::pow(2.0, 1.0 / 12)));
  if (top > 30000) {
    double sum = 0;
    for (size_t k = size_t(24000 / average.bin_hz); k < average.power.size(); ++k) sum += average.power[k];
    if (sum > 0) origin.ultrasonic_dbfs = 10 * std::log10(sum);
  }
  if (int64_t(blocks.power.size()) >= least_blocks) {
    const Steadiness steadiness{blocks.bin_hz, quantile(blocks, 0.1), quantile(blocks, 0.35)};
    find_hum(steadiness, origin);
    find_pilots(steadiness, origin);
    find_images(clip, blocks, job.part(1, 1), origin);
  }
  return origin;
}

}  // namespace heathmist
