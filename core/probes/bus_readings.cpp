#include "core/probes/bus_readings.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>

#include "core/dsp/decibels.hpp"
#include "core/probes/engine_kinds.hpp"
#include "core/probes/pan_reading.hpp"

namespace heathmist {

namespace {

/// What is under -200 dBFS is the reading's own rounding.
std::optional<double> dbfs(double rms) { return rms > 1e-10 ? std::optional(20 * std::log10(rms)) : std::nullopt; }

Planar stretch_of(const Clip& ret, const ProbeFit& fit, Stretch where) {
  const double rate = ret.format().sample_rate_hz;
  const int64_t first = std::llround(fit.return_s(where.from_s) * rate);
  Planar block;
  ret.reader()->read(first, std::max<int64_t>(0, std::llround(fit.return_s(where.until_s) * rate) - first), block);
  return block;
}

double rms_of(std::span<const double> x) {
  double sum = 0;
  for (const double v : x) sum += v * v;
  return x.empty() ? 0 : std::sqrt(sum / double(x.size()));
}
double loudest_rms(const Planar& block) {
  double most = 0;
  for (int c = 0; c < block.channels(); ++c) most = std::max(most, rms_of(block.channel(c)));
  return most;
}

/// Fewest bits that carry every sample, up to 32.
std::optional<int> bits_in(const Planar& block) {
  int most = 1;
  for (int c = 0; c < block.channels(); ++c)
    for (const double v : block.channel(c))
      while (std::ldexp(v, most - 1) != std::nearbyint(std::ldexp(v, most - 1)))
        if (++most > 32) return {};
  return most;
}

/// Quiet is busy, but never by more than a few steps of the word: as dither is.
bool is_dither(const Planar& block, std::optional<int> bits) {
  if (!bits || *bits >= 32) return false;
  const double step = std::ldexp(1.0, 1 - *bits);
  int64_t busy = 0, all = 0;
  for (int c = 0; c < block.channels(); ++c)
    for (const double v : block.channel(c)) {
      ++all;
      if (v == 0) continue;
      if (std::abs(v) > 4 * step) return false;
      ++busy;
    }
  return busy * 50 > all;
}

bool same_sample(double got, double own, ProbeWord word) {
  if (word == ProbeWord::float32) return float(got) == float(own);
  const double scale = std::ldexp(1.0, bits_of(word) - 1);
  return std::nearbyint(got * scale) == std::nearbyint(own * scale);
}

/// Some routes swap the channels: `swap` has the probe's other one stand for each.
bool same_samples(const Planar& got, const Planar& own, int64_t first_own, ProbeWord word, bool swap) {
  for (int c = 0; c < got.channels(); ++c) {
    const auto x = got.channel(c);
    const auto y = own.channel(own.channels() == 1 ? 0 : swap ? 1 - c : c);
    for (size_t n = 0; n < x.size(); ++n)
      if (!same_sample(x[n], y[size_t(first_own) + n], word)) return false;
  }
  return true;
}

/// Whether it is the probe bit for bit, as written at any word length, from this frame of the return on.
void find_identity(const Clip& ret, const ProbeScore& score, const Planar& ideal, int64_t place, TransitReading& r,
                   const Job& job) {
  const int64_t first = std::llround(score.identity.from_s * score.rate_hz),
                frames = std::llround((score.identity.until_s - score.identity.from_s) * score.rate_hz);
  Planar got;
  ret.reader()->read(place + first, frames, got);
  for (const ProbeWord word : probe_words) {
    if (r.identical) break;
    job.check();
    const Planar own = as_written(ideal, score, word);
    for (const bool swap : {false, true}) {
      if (r.identical || (swap && (own.channels() < 2 || got.channels() < 2)) ||
          !same_samples(got, own, first, word, swap))
        continue;
      r.identical = true, r.probe_bits = bits_of(word), r.latency_samples = double(place), r.gain_db = 0;
      r.residual_db.reset();
    }
  }
}

}  // namespace

TransitReading read_transit(const Clip& ret, const ProbeScore& score, const ProbeFit& fit, const Job& job) {
  TransitReading r;
  const double rate = ret.format().sample_rate_hz;
  r.latency_samples = fit.at_s * rate;
  double share = 0;
  const Stretch inner{score.identity.from_s + 0.2, score.identity.from_s + 2.2};
  MixMatrix m = mix_of(ret, fit, inner, 2, &share);
  const bool mono = std::abs(m[1][0]) + std::abs(m[1][1]) < 0.003 * (std::abs(m[0][0]) + std::abs(m[0][1]));
  if (share < 0.5)
    throw InputError(ret.path(), "the probe's tones are not in it; play the whole probe with every control at rest");
  r.residual_db = share < 1 - 1e-14 ? std::optional(10 * std::log10(1 - share)) : std::nullopt;
  double sum_db = 0;
  const int outputs = std::min(2, ret.format().channels);
  for (int o = 0; o < outputs; ++o) {
    const int from = std::abs(m[1][size_t(o)]) > std::abs(m[0][size_t(o)]) ? 1 : 0;
    r.channel_map.push_back(from);
    r.inverted.push_back(m[size_t(from)][size_t(o)] < 0);
    sum_db += 20 * std::log10(std::max(std::abs(m[size_t(from)][size_t(o)]), 1e-10)) / outputs;
  }
  r.gain_db = sum_db;
  job.report(0.4);
  const Planar quiet = stretch_of(ret, fit, score.silence), busy = stretch_of(ret, fit, score.identity);
  r.silence_dbfs = dbfs(loudest_rms(quiet));
  r.word_bits = bits_in(busy);
  r.dithered = is_dither(quiet, r.word_bits);
  for (int c = 0; c < quiet.channels(); ++c) {
    double mean = 0;
    for (const double v : quiet.channel(c)) mean += v / double(quiet.frames());
    if (std::abs(mean) > std::abs(r.dc)) r.dc = mean;
  }
  ProbeScore own_score = score;
  if (mono) own_score.channels = 1;
  const Planar ideal = render_channels(own_score);
  if (const auto place = fit.whole_frame(ret.format().sample_rate_hz))
    find_identity(ret, own_score, ideal, *place, r, job);
  if (!r.identical) r.causes = causes_of_transit(ret, own_score, ideal, job.part(0.4, 1));
  return r;
}

const char* name_of(Arithmetic arithmetic) {
  constexpr const char* names[] = {"fixed", "float", "transparent"};
  return names[int(arithmetic)];
}

namespace {

/// What a section's tone comes to: its gain against the probe, and what else there is.
struct Toned {
  double gain = 0, tone_rms = 0, noise_rms = 0, peak = 0;
};

Toned against(std::span<const double> x, std::span<const double> own) {
  double xx = 0, xy = 0, yy = 0;
  Toned t;
  for (size_t n = 0; n < x.size(); ++n)
    xx += x[n] * x[n], xy += x[n] * own[n], yy += own[n] * own[n], t.peak = std::max(t.peak, std::abs(x[n]));
  t.gain = yy > 0 ? xy / yy : 0;
  double left = 0;
  for (size_t n = 0; n < x.size(); ++n) left += (x[n] - t.gain * own[n]) * (x[n] - t.gain * own[n]);
  // a gain that is one but for its rounding is one: nothing then is left of samples that are the same
  if (std::abs(std::abs(t.gain) - 1) < 1e-9) {
    double exact = 0;
    const double one = std::copysign(1.0, t.gain);
    for (size_t n = 0; n < x.size(); ++n) exact += (x[n] - one * own[n]) * (x[n] - one * own[n]);
    left = std::min(left, exact), t.gain = one;
  }
  t.tone_rms = std::abs(t.gain) * std::sqrt(yy / double(x.size())), t.noise_rms = std::sqrt(left / double(x.size()));
  return t;
}

/// Where the samples cannot be laid on the probe's own: against the tone alone.
Toned against_tone(std::span<const double> x, double hz, double rate) {
  std::vector<double> c(x.size()), s(x.size());
  Rotor rotor(hz, 0, 1 / rate);
  double cc = 0, ss = 0, cs = 0, xc = 0, xs = 0;
  for (size_t n = 0; n < x.size(); ++n) {
    const auto z = rotor.next();
    c[n] = z.real(), s[n] = z.imag();
    cc += c[n] * c[n], ss += s[n] * s[n], cs += c[n] * s[n], xc += x[n] * c[n], xs += x[n] * s[n];
  }
  const double det = cc * ss - cs * cs, a = (xc * ss - xs * cs) / det, b = (xs * cc - xc * cs) / det;
  std::vector<double> own(x.size());
  for (size_t n = 0; n < x.size(); ++n) own[n] = a * c[n] + b * s[n];
  Toned t = against(x, own);
  t.gain = std::hypot(a, b) / engine_amplitude;
  return t;
}

struct TrimSums {
  Toned tone;  // of the channel whose tone is loudest at rest
  double silence_rms = 0;
};

class TrimReader {
 public:
  TrimReader(const Clip& ret, const ProbeScore& score, const ProbeFit& fit) : ret_(ret), score_(score), fit_(fit) {
    place_ = fit.whole_frame(ret.format().sample_rate_hz);
    choose_channel();
    if (place_) choose_own();
  }
  bool by_samples() const { return place_.has_value(); }
  bool is_there() const { return there_; }

  TrimSums sums(const TrimSection& section) const {
    const Stretch tone{section.from_s + 0.15, section.from_s + 1.15},
        rest{section.from_s + 1.25, section.until_s - 0.05};
    TrimSums sums;
    sums.silence_rms = rms_of(stretch_of(ret_, fit_, rest).channel(channel_));
    if (place_) {
      const int64_t first = std::llround(tone.from_s * score_.rate_hz),
                    frames = std::llround((tone.until_s - tone.from_s) * score_.rate_hz);
      Planar got;
      ret_.reader()->read(*place_ + first, frames, got);
      const auto own = own_.channel(std::min(channel_, own_.channels() - 1)).subspan(size_t(first), size_t(frames));
      sums.tone = against(got.channel(channel_), own);
    } else {
      const Planar got = stretch_of(ret_, fit_, tone);
      sums.tone = against_tone(got.channel(channel_), carrier_hz / fit_.stretch, ret_.format().sample_rate_hz);
    }
    return sums;
  }

 private:
  void choose_channel() {
    double loudest = 0;
    const TrimSection& first = score_.sections.front();
    const Planar got = stretch_of(ret_, fit_, {first.from_s + 0.2, first.from_s + 1.1});
    for (int c = 0; c < std::min(2, got.channels()); ++c) {
      const Toned t = against_tone(got.channel(c), carrier_hz / fit_.stretch, ret_.format().sample_rate_hz);
      if (t.tone_rms > loudest)
        loudest = t.tone_rms, channel_ = c, there_ = t.tone_rms > 1e-5 && t.noise_rms < 0.3 * t.tone_rms;
    }
  }
  /// The word length that leaves least in the section with nothing turned.
  void choose_own() {
    double least = 1e300;
    Planar best;
    const Planar ideal = render_channels(score_);
    for (const ProbeWord word : probe_words) {
      own_ = as_written(ideal, score_, word);
      if (const double noise = sums(score_.sections.front()).tone.noise_rms; noise < least) least = noise, best = own_;
      if (least == 0) break;
    }
    own_ = std::move(best);
  }

  const Clip& ret_;
  const ProbeScore& score_;
  const ProbeFit& fit_;
  std::optional<int64_t> place_;
  int channel_ = 0;
  bool there_ = false;
  Planar own_;
};

/// How far a float with a mantissa of 16 bits is off a tone, against it.
double float16_error() {
  double error = 0, power = 0;
  for (int n = 0; n < 48000; ++n) {
    const double x = 0.37 * std::sin(2 * std::numbers::pi * std::remainder(0.0207083 * n, 1.0));
    int exponent = 0;
    const double mantissa = std::frexp(x, &exponent),
                 rounded = std::ldexp(std::nearbyint(std::ldexp(mantissa, 16)), exponent - 16);
    error += (rounded - x) * (rounded - x), power += x * x;
  }
  return std::sqrt(error / power);
}

using dsp::gain_of;

double spread_db(const std::vector<double>& all) {
  const auto [least, most] = std::minmax_element(all.begin(), all.end());
  return 20 * std::log10(*most / *least);
}

double median(std::vector<double> all) {
  std::nth_element(all.begin(), all.begin() + long(all.size() / 2), all.end());
  return all[all.size() / 2];
}

/// Fixed where the noise comes up with the gain that takes a cut back, so that each section tells the same step;
/// floating where it keeps its distance to the tone.
void name_arithmetic(TrimReading& r, const std::vector<TrimSums>& sums) {
  const double at_rest = std::max(sums.front().tone.noise_rms, 1e-12), rest_gain = std::abs(sums.front().tone.gain);
  std::vector<double> steps, quiet_steps, shares;
  for (size_t n = 0; n < sums.size(); ++n) {
    const TrimSection& asked = r.sections[n].asked;
    if (asked.first_db >= 0) continue;
    const auto& t = sums[n].tone;
    const double back = gain_of(asked.then_db) * rest_gain;
    // dither and rounding together: half a step (Lipshitz, Wannamaker and Vanderkooy 1992); rounding alone 1/sqrt(12)
    if (sums[n].silence_rms > 2.5 * std::max(sums.front().silence_rms, 1e-12))
      quiet_steps.push_back(2 * sums[n].silence_rms / back);
    const bool kept = std::abs(20 * std::log10(std::max(std::abs(t.gain) / rest_gain, 1e-9))) < 0.5;
    if (!kept || t.noise_rms < 1e-13) continue;
    if (t.noise_rms > 2.5 * at_rest) steps.push_back(std::sqrt(12.0) * t.noise_rms / back);
    shares.push_back(t.noise_rms / t.tone_rms);
  }
  r.dithered = !quiet_steps.empty();
  const auto& told = r.dithered ? quiet_steps : steps;
  if (!told.empty() && spread_db(told) < 6 && (told.size() > 1 || shares.size() < 2 || spread_db(shares) > 12)) {
    r.arithmetic = Arithmetic::fixed;
    r.bits = int(std::lround(1 - std::log2(median(told))));
    return;
  }
  r.dithered = false;
  if (shares.empty() || !r.by_samples) return;
  const double bits = 16 + std::log2(float16_error() / median(shares));
  if (bits > 31) return;
  r.arithmetic = Arithmetic::floating;
  // Rounded once, on the bus, or twice, at the output as well: half a bit apart, and a quarter either way by where the
  // tone lies between powers of two. What comes out in single precision is often rounded back to what it was, and seems
  // finer than it is.
  constexpr int single = 24;
  r.bits = bits > single - 0.75 ? single : int(std::lround(bits + 0.2));
}

/// A peak that stays under the tone's own is cut off.
void find_clipping(TrimReading& r, const std::vector<TrimSums>& sums) {
  constexpr double cut = 0.985;
  const double tone_peak = engine_amplitude * std::abs(sums.front().tone.gain);
  for (size_t n = 0; n < sums.size(); ++n) {
    const TrimSection& asked = r.sections[n].asked;
    if (asked.first_db < 0) continue;
    const double on_bus_dbfs =
        20 * std::log10(std::max(sums[n].tone.peak / std::abs(sums.front().tone.gain), 1e-12)) - asked.then_db;
    if (sums[n].tone.peak > cut * tone_peak) {
      r.clean_to_dbfs = std::max(r.clean_to_dbfs.value_or(-400), on_bus_dbfs);
    } else if (!r.clips) {
      r.clips = true, r.clips_at_dbfs = on_bus_dbfs;
    }
  }
}

}  // namespace

TrimReading read_trim(const Clip& ret, const ProbeScore& score, const ProbeFit& fit, const Job& job) {
  const TrimReader reader(ret, score, fit);
  if (!reader.is_there())
    throw InputError(
        ret.path(),
        "the probe's tone does not stand in its first section; leave every control alone there and render it again");
  TrimReading r;
  r.by_samples = reader.by_samples();
  std::vector<TrimSums> sums;
  for (const TrimSection& section : score.sections) {
    job.check();
    sums.push_back(reader.sums(section));
    const auto& s = sums.back();
    TrimReading::Section out{section, {}, {}, {}, dbfs(s.silence_rms)};
    out.tone_dbfs = dbfs(std::abs(s.tone.tone_rms) * std::sqrt(2.0)), out.noise_dbfs = dbfs(s.tone.noise_rms);
    if (out.tone_dbfs && out.noise_dbfs) out.thd_n_db = 20 * std::log10(s.tone.noise_rms / s.tone.tone_rms);
    r.sections.push_back(out);
    job.report(double(sums.size()) / double(score.sections.size()));
  }
  r.floor_dbfs = r.sections.front().silence_dbfs, r.floor_with_signal_dbfs = r.sections.front().noise_dbfs;
  name_arithmetic(r, sums);
  find_clipping(r, sums);
  return r;
}

/// What is there beside the probe's own dither, where that can be laid on it.
SilenceReading read_silence(const Clip& ret, const ProbeScore& score, const ProbeFit& fit, int channel) {
  const Stretch where{score.body_s + 0.1, score.body_s + score.body_seconds - 0.1};
  const Planar all = stretch_of(ret, fit, where);
  Planar added(1, all.frames());
  std::copy(all.channel(channel).begin(), all.channel(channel).end(), added.channel(0).begin());
  const auto bits = bits_in(added);
  double least = rms_of(added.channel(0));
  if (const auto place = fit.whole_frame(ret.format().sample_rate_hz)) {
    const auto x = all.channel(channel);
    const auto first = size_t(std::llround(fit.return_s(where.from_s) * score.rate_hz) - *place);
    const Planar ideal = render_channels(score);
    for (const ProbeWord word : probe_words) {
      const Planar own = as_written(ideal, score, word);
      Planar rest(1, all.frames());
      for (size_t n = 0; n < x.size(); ++n) rest.channel(0)[n] = x[n] - own.channel(0)[first + n];
      if (const double left = rms_of(rest.channel(0)); left < least) least = left, added = std::move(rest);
    }
  }
  SilenceReading r;
  r.added_dbfs = dbfs(least);
  r.dithered = is_dither(added, bits);
  return r;
}

}  // namespace heathmist
