#include "core/compare/anchors.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>
#include <numeric>
#include <optional>
#include <span>

#include "core/dsp/fft.hpp"
#include "core/dsp/median.hpp"

namespace heathmist {

std::vector<Anchor> place_anchors(const Sketch& master, int64_t master_frames, int64_t return_frames, double delay,
                                  int most) {
  const auto first = std::max<int64_t>(0, int64_t(-delay));
  const auto last = std::min<int64_t>(master_frames, return_frames - int64_t(delay));
  const int64_t overlap = last - first;
  if (overlap < 8) return {};
  int64_t frames = 32768;
  while (frames > 256 && frames * 4 > overlap) frames /= 2;
  if (overlap < 1024) frames = overlap;
  const int64_t count = std::clamp<int64_t>(overlap / frames, 1, most);
  const int64_t window = std::max<int64_t>(1, frames / master.step);
  std::vector<double> energy(master.values.size() + 1, 0);
  for (size_t k = 0; k < master.values.size(); ++k)
    energy[k + 1] = energy[k] + double(master.values[k]) * master.values[k];
  std::vector<Anchor> anchors;
  for (int64_t i = 0; i < count; ++i) {
    const int64_t from = first + overlap * i / count, to = std::max(from + frames, first + overlap * (i + 1) / count);
    int64_t best = from;
    double most_energy = -1;
    for (int64_t at = from; at + frames <= std::min(to, last); at += std::max<int64_t>(master.step, frames / 4)) {
      const auto k = size_t(std::min<int64_t>(at / master.step, int64_t(master.values.size())));
      const auto k_end = std::min(master.values.size(), k + size_t(window));
      const double e = energy[k_end] - energy[k];
      if (e > most_energy * 1.0001) most_energy = e, best = at;
    }
    if (most_energy / double(window) > 1e-14) anchors.push_back({std::min(best, last - frames), frames, 0, 0});
  }
  return anchors;
}

namespace {

void mix_down(const Planar& block, const Mixture& mixture, std::span<double> out) {
  std::fill(out.begin(), out.end(), 0.0);
  for (int c = 0; c < block.channels(); ++c)
    for (int64_t n = 0; n < block.frames(); ++n) out[size_t(n)] += mixture[size_t(c)] * block.channel(c)[size_t(n)];
}

/// Place of a peak between its neighbours, by a parabola.
double between(double left, double middle, double right) {
  const double bend = left - 2 * middle + right;
  return bend == 0 ? 0 : std::clamp(0.5 * (left - right) / bend, -0.5, 0.5);
}

struct Finder {
  std::unique_ptr<Reader> master, ret;
  dsp::RealFft<double> a, b;
  Planar block{};
};

}  // namespace

namespace {

/// The greatest peak; of those that are as high within 2 %, as in a loop or a steady tone, the nearest to `middle`.
std::ptrdiff_t peak_near(std::span<const double> c, int64_t middle) {
  double most = 0;
  for (const double x : c) most = std::max(most, std::abs(x));
  std::ptrdiff_t best = 0;
  bool found = false;
  for (std::ptrdiff_t n = 0; n < std::ssize(c); ++n) {
    const double here = std::abs(c[size_t(n)]);
    const bool peak = (n == 0 || here >= std::abs(c[size_t(n - 1)])) &&
                      (n + 1 == std::ssize(c) || here >= std::abs(c[size_t(n + 1)]));
    if (!peak || here < 0.98 * most || (found && std::abs(n - middle) >= std::abs(best - middle))) continue;
    best = n, found = true;
  }
  return best;
}

}  // namespace

void find_anchors(std::vector<Anchor>& anchors, const Clip& master, const Clip& ret, const Mixture& master_mixture,
                  const Mixture& return_mixture, double delay, int64_t slack, const Job& job, double drift_ppm) {
  if (anchors.empty()) return;
  const int64_t frames = anchors.front().frames;
  const size_t size = dsp::good_fft_size(size_t(2 * frames + 2 * slack));
  const auto window = dsp::hann(size_t(frames));
  for_each_segment(
      int64_t(anchors.size()), job,
      [&] {
        return Finder{master.reader(), ret.reader(), dsp::RealFft<double>(size), dsp::RealFft<double>(size)};
      },
      [&](Finder& f, int64_t i) {
        Anchor& anchor = anchors[size_t(i)];
        std::fill(f.a.time().begin(), f.a.time().end(), 0.0);
        std::fill(f.b.time().begin(), f.b.time().end(), 0.0);
        f.master->read(anchor.at, frames, f.block);
        mix_down(f.block, master_mixture, f.a.time());
        for (int64_t n = 0; n < frames; ++n) f.a.time()[size_t(n)] *= window[size_t(n)];
        const auto start = anchor.at + int64_t(std::llround(delay + drift_ppm * 1e-6 * double(anchor.at))) - slack;
        f.ret->read(start, frames + 2 * slack, f.block);
        mix_down(f.block, return_mixture, f.b.time());
        f.a.forward();
        f.b.forward();
        double greatest = 0;
        for (size_t k = 0; k < f.a.bins(); ++k) {
          f.b.spectrum()[k] *= std::conj(f.a.spectrum()[k]);
          greatest = std::max(greatest, std::norm(f.b.spectrum()[k]));
        }
        for (auto& cross : f.b.spectrum()) {
          const double power = std::norm(cross);
          // most of the way to the phase transform
          cross *= power > 1e-24 * greatest ? double(std::pow(float(power / greatest), -0.35f)) : 0;
        }
        f.b.inverse();
        const auto c = f.b.time().first(size_t(2 * slack + 1));
        const auto lag = peak_near(c, slack);
        const auto best = c.begin() + lag;
        const double rms = std::sqrt(std::inner_product(c.begin(), c.end(), c.begin(), 0.0) / double(c.size()));
        const double fine = lag > 0 && lag + 1 < int64_t(c.size())
                                ? between(std::abs(best[-1]), std::abs(*best), std::abs(best[1]))
                                : 0;
        anchor.delay = double(start - anchor.at + lag) + fine;
        anchor.clearness = rms > 0 ? std::abs(*best) / rms : 0;
      });
}

double slack_on_line(const Anchor& anchor, double drift_ppm) {
  return 1 + 0.25e-6 * std::abs(drift_ppm) * double(anchor.frames);
}

namespace {

/// Where all anchors lie on two levels, one before and one behind a jump, the level of the more: a line through both
/// would be no drift.
std::optional<DelayLine> before_or_behind_a_jump(const std::vector<Anchor>& anchors) {
  constexpr double holds_to_it = 0.05, least_jump = 1;  // samples
  constexpr size_t least = 3;
  const auto level = [&](size_t from, size_t until) -> std::optional<double> {
    std::vector<double> delays;
    for (size_t n = from; n < until; ++n) delays.push_back(anchors[n].delay);
    const double middle = dsp::median(delays);
    const bool holds =
        std::all_of(delays.begin(), delays.end(), [&](double d) { return std::abs(d - middle) < holds_to_it; });
    return holds ? std::optional(middle) : std::nullopt;
  };
  for (size_t n = least; n + least <= anchors.size(); ++n) {
    if (std::abs(anchors[n].delay - anchors[n - 1].delay) < least_jump) continue;
    const auto before = level(0, n), behind = level(n, anchors.size());
    if (!before || !behind) return {};
    double all = 0, first = 0;
    for (size_t k = 0; k < anchors.size(); ++k) all += anchors[k].clearness, first += k < n ? anchors[k].clearness : 0;
    if (!(all > 0)) return {};
    const double support = std::max(first, all - first);
    return DelayLine{first >= all - first ? *before : *behind, 0, support / all, support};
  }
  return {};
}

}  // namespace

DelayLine line_through(const std::vector<Anchor>& anchors) {
  constexpr double most_drift = 3000e-6;
  if (const auto standing = before_or_behind_a_jump(anchors)) return *standing;
  DelayLine best;
  double all = 0;
  for (const auto& a : anchors) all += a.clearness;
  auto try_line = [&](double delay, double drift, double bonus) {
    double support = 0;
    for (const auto& a : anchors)
      if (std::abs(a.delay - delay - drift * double(a.at)) < slack_on_line(a, drift * 1e6)) support += a.clearness;
    if (support * bonus > best.support) best = {delay, drift * 1e6, all > 0 ? support / all : 0, support};
  };
  for (const auto& a : anchors) try_line(a.delay, 0, 1.05);
  for (size_t i = 0; i < anchors.size(); ++i)
    for (size_t k = i + 1; k < anchors.size(); ++k) {
      const double drift =
          (anchors[k].delay - anchors[i].delay) / double(std::max<int64_t>(1, anchors[k].at - anchors[i].at));
      if (std::abs(drift) < most_drift) try_line(anchors[i].delay - drift * double(anchors[i].at), drift, 1.0);
    }
  return best;
}

double CrossSpectra::coherence(size_t k) const {
  if (master[k] < 1e-15 * peak_power || ret[k] <= 0 || master[k] <= 0) return 0;
  const double raw = std::norm(cross[k]) / (master[k] * ret[k]);
  if (blocks < 3) return raw;
  return std::clamp((raw - 1 / blocks) / (1 - 1 / blocks), 0.0, 1.0);
}

namespace {

struct Crosser {
  std::unique_ptr<Reader> master;
  AlignedReturn ret;
  BlockSpectra blocks{};
  Planar from{}, to{};
};

}  // namespace

void add_blocks(std::span<const double> master, std::span<const double> ret, BlockSpectra& work, CrossSpectra& sum) {
  constexpr size_t size = CrossSpectra::size, bins = size / 2 + 1;
  static const auto window = dsp::hann(size);
  if (sum.master.empty()) sum.master.assign(bins, 0), sum.ret.assign(bins, 0), sum.cross.assign(bins, 0);
  for (size_t at = 0; at + size <= master.size(); at += size / 2, ++sum.blocks) {
    for (size_t n = 0; n < size; ++n) {
      work.master.time()[n] = window[n] * master[at + n];
      work.ret.time()[n] = window[n] * ret[at + n];
    }
    work.master.forward();
    work.ret.forward();
    for (size_t k = 0; k < bins; ++k) {
      const auto m = work.master.spectrum()[k], r = work.ret.spectrum()[k];
      sum.master[k] += std::norm(m);
      sum.ret[k] += std::norm(r);
      sum.cross[k] += std::conj(m) * r;
    }
  }
  sum.peak_power = *std::max_element(sum.master.begin(), sum.master.end());
}

std::vector<CrossSpectra> cross_spectra(const std::vector<Anchor>& anchors, const Clip& master, const Clip& ret,
                                        const std::vector<ChannelPair>& pairs, double delay, double drift_ppm,
                                        const Job& job) {
  constexpr size_t size = CrossSpectra::size, bins = size / 2 + 1;
  std::vector<std::vector<CrossSpectra>> parts(anchors.size(), std::vector<CrossSpectra>(pairs.size()));
  for_each_segment(
      int64_t(anchors.size()), job,
      [&] {
        return Crosser{master.reader(), AlignedReturn(ret, delay, drift_ppm)};
      },
      [&](Crosser& x, int64_t i) {
        const Anchor& anchor = anchors[size_t(i)];
        const int64_t frames = std::max<int64_t>(anchor.frames, int64_t(size));  // short clips are padded with silence
        x.master->read(anchor.at, frames, x.from);
        x.ret.read(anchor.at, frames, x.to);
        for (size_t p = 0; p < pairs.size(); ++p) {
          CrossSpectra& sum = parts[size_t(i)][p];
          add_blocks(x.from.channel(pairs[p].master), x.to.channel(pairs[p].ret), x.blocks, sum);
        }
      });
  std::vector<CrossSpectra> result(pairs.size());
  for (size_t p = 0; p < pairs.size(); ++p) {
    CrossSpectra& sum = result[p];
    sum.master.assign(bins, 0);
    sum.ret.assign(bins, 0);
    sum.cross.assign(bins, 0);
    for (auto& part : parts) {
      for (size_t k = 0; k < bins; ++k) {
        sum.master[k] += part[p].master[k];
        sum.ret[k] += part[p].ret[k];
        sum.cross[k] += part[p].cross[k];
      }
      sum.blocks += part[p].blocks * CrossSpectra::independent;
      sum.by_anchor.push_back(std::move(part[p].cross));
      sum.master_by_anchor.push_back(std::move(part[p].master));
      sum.ret_by_anchor.push_back(std::move(part[p].ret));
    }
    if (sum.blocks < 3) sum.blocks = 1;
    sum.peak_power = *std::max_element(sum.master.begin(), sum.master.end());
  }
  return result;
}

namespace {

/// Transforms of the half-overlapped blocks of every channel, [channel][block][bin].
using Transforms = std::vector<std::vector<std::vector<std::complex<double>>>>;
Transforms transforms_of(const Planar& sound, const Job& job) {
  constexpr size_t size = CrossSpectra::size;
  const auto window = dsp::hann(size);
  Transforms all{size_t(sound.channels())};
  for_each_segment(
      sound.channels(), Job{job.stop, {}, job.threads}, [] { return dsp::RealFft<double>(size); },
      [&](dsp::RealFft<double>& fft, int64_t c) {
        const auto x = sound.channel(int(c));
        for (size_t at = 0; at + size <= x.size(); at += size / 2) {
          for (size_t n = 0; n < size; ++n) fft.time()[n] = window[n] * x[at + n];
          fft.forward();
          all[size_t(c)].emplace_back(fft.spectrum().begin(), fft.spectrum().end());
        }
      });
  return all;
}

void add_power(const Transforms& all, std::vector<std::vector<double>>& powers) {
  for (size_t c = 0; c < all.size(); ++c) {
    std::vector<double> own(powers[c].size(), 0);
    for (const auto& block : all[c])
      for (size_t k = 0; k < own.size(); ++k) own[k] += std::norm(block[k]);
    for (size_t k = 0; k < own.size(); ++k) powers[c][k] += own[k];
  }
}

}  // namespace

CrossSpectra AllCrossed::pair(int m, int r) const {
  CrossSpectra one{master[size_t(m)], ret[size_t(r)], cross[size_t(m) * ret.size() + size_t(r)], {}, {}, {}, blocks};
  one.peak_power = *std::max_element(one.master.begin(), one.master.end());
  return one;
}

AllCrossed cross_all(const std::vector<Anchor>& anchors, const Clip& master, const Clip& ret, double delay,
                     double drift_ppm, const Job& job) {
  constexpr size_t size = CrossSpectra::size, bins = size / 2 + 1;
  const auto m_count = size_t(master.format().channels), r_count = size_t(ret.format().channels);
  AllCrossed sum{std::vector(m_count, std::vector<double>(bins, 0)), std::vector(r_count, std::vector<double>(bins, 0)),
                 std::vector(m_count * r_count, std::vector<std::complex<double>>(bins, 0))};
  const auto reader = master.reader();
  AlignedReturn laid(ret, delay, drift_ppm);
  Planar from, to;
  for (const Anchor& anchor : anchors) {
    job.check();
    const int64_t frames = std::max<int64_t>(anchor.frames, int64_t(size));  // short clips are padded with silence
    reader->read(anchor.at, frames, from), laid.read(anchor.at, frames, to);
    const auto sent = transforms_of(from, job), came = transforms_of(to, job);
    add_power(sent, sum.master), add_power(came, sum.ret);
    for_each_segment(
        int64_t(m_count), Job{job.stop, {}, job.threads}, [] { return std::vector<std::complex<double>>(bins); },
        [&](std::vector<std::complex<double>>& own, int64_t m) {
          for (size_t r = 0; r < r_count; ++r) {
            std::fill(own.begin(), own.end(), 0);
            for (size_t b = 0; b < came[r].size(); ++b)
              for (size_t k = 0; k < bins; ++k) own[k] += std::conj(sent[size_t(m)][b][k]) * came[r][b][k];
            auto& all = sum.cross[size_t(m) * r_count + r];
            for (size_t k = 0; k < bins; ++k) all[k] += own[k];
          }
        });
    sum.blocks += double(came.front().size()) * CrossSpectra::independent;
  }
  if (sum.blocks < 3) sum.blocks = 1;
  return sum;
}

std::vector<double> snr_weights(const std::vector<CrossSpectra>& pairs) {
  constexpr double chance = 3;
  std::vector<double> weights(CrossSpectra::size / 2 + 1, 0);
  // The last hundredth of the band, where no block can be read between its samples, must not pull the rest.
  for (size_t k = 1; k < weights.size() * 99 / 100; ++k)
    for (const auto& pair : pairs) {
      const double agree = pair.coherence(k);
      if (pair.blocks < 3)
        weights[k] += std::abs(pair.cross[k]);        // one block shows no coherence: go by energy
      else if (agree > chance / double(pair.blocks))  // a steady tone is few bins, and all others chance
        weights[k] += std::min(1000.0, agree / std::max(1e-9, 1 - agree));
    }
  return weights;
}

PhaseDelay phase_delay(std::span<const std::complex<double>> cross, std::span<const double> weights) {
  constexpr size_t size = CrossSpectra::size;
  thread_local dsp::RealFft<double> fft(size);
  double total = 0;
  for (size_t k = 0; k < cross.size(); ++k) {
    const double length = std::abs(cross[k]);
    const double w = length > 0 ? weights[k] : 0;
    fft.spectrum()[k] = w > 0 ? cross[k] / length * w : 0;
    total += w;
  }
  if (total <= 0) return {};
  fft.inverse();
  const auto c = fft.time();
  const auto best = std::max_element(c.begin(), c.end(), [](double x, double y) { return std::abs(x) < std::abs(y); });
  auto lag = best - c.begin();
  PhaseDelay result;
  result.inverted = *best < 0;
  result.peak = std::abs(*best) / (2 * total);
  if (lag > int64_t(size) / 2) lag -= int64_t(size);
  result.samples = double(lag);
  const std::complex<double> sign(result.inverted ? -1 : 1, 0);
  for (int round = 0; round < 4; ++round) {
    double up = 0, down = 0;
    for (size_t k = 0; k < cross.size(); ++k) {
      if (weights[k] <= 0) continue;
      const double w = 2 * std::numbers::pi * double(k) / double(size);
      up -= weights[k] * w * std::arg(sign * cross[k] * std::polar(1.0, w * result.samples));
      down += weights[k] * w * w;
    }
    if (down <= 0) break;
    result.samples += std::clamp(up / down, -1.0, 1.0);
  }
  return result;
}

}  // namespace heathmist
