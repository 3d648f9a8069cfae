#include "core/boards/word_board.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>
#include <numbers>

#include "core/audio/scratch.hpp"
#include "core/compare/json.hpp"
#include "core/compare/phrases.hpp"
#include "core/dsp/decibels.hpp"

namespace heathmist {

namespace {

constexpr double pi = std::numbers::pi, tone_hz = 997, floor_tone_dbfs = -20, floor_s = 12, level_s = 4;
constexpr double certain_db = 0.1;
constexpr double fade_s = 12, fade_span_db = 36, heard_step_dbfs = -54, most_gain_db = 60;

using dsp::gain_of;
double step_of(const WordCut& cut) { return std::ldexp(1.0, 1 - cut.bits); }

/// Variance of a dither in steps squared, and whether neighbouring values are differences: then it rises with
/// frequency.
struct DitherTheory {
  double variance = 0;
  bool high = false;
};
const std::map<std::string, DitherTheory>& dithers() {
  static const std::map<std::string, DitherTheory> all{{"none", {0, false}},
                                                       {"rectangular", {1.0 / 12, false}},
                                                       {"triangular", {1.0 / 6, false}},
                                                       {"triangular_high", {1.0 / 6, true}},
                                                       {"gaussian", {1.0 / 4, false}}};
  return all;
}

/// Error power per Hz over one step squared: white from rounding, and the dither's.
double error_density(const WordCut& cut, double hz, double rate_hz) {
  const DitherTheory& d = dithers().at(cut.dither);
  const double sine = std::sin(pi * hz / rate_hz);
  return (1.0 / 12 + d.variance * (d.high ? 2 * sine * sine : 1)) / (rate_hz / 2);
}

std::shared_ptr<const Clip> tone_clip(double dbfs, double seconds, int rate_hz) {
  Planar sound(1, std::llround(seconds * rate_hz));
  for (size_t n = 0; n < size_t(sound.frames()); ++n)
    sound.channel(0)[n] = gain_of(dbfs) * std::sin(2 * pi * std::remainder(tone_hz * double(n) / rate_hz, 1.0));
  return made_clip(sound, rate_hz, "tone");
}

Planar all_of(const Clip& clip) {
  Planar block;
  clip.reader()->read(0, clip.format().frames, block);
  return block;
}

/// The tone's part in phase, over whole periods (997 cycles fill a second), and what noise beside it may do to that.
LevelPoint read_level(const WordCut& cut, double in_dbfs, int rate_hz) {
  const auto back = all_of(*pass(tone_clip(in_dbfs, level_s, rate_hz), chain_of(cut)).ret);
  const auto x = back.channel(0);
  double sum = 0, power = 0;
  for (size_t n = 0; n < x.size(); ++n) {
    const double wave = std::sin(2 * pi * std::remainder(tone_hz * double(n) / rate_hz, 1.0));
    sum += x[n] * wave, power += x[n] * x[n];
  }
  const double level = 2 * sum / double(x.size());
  const double noise = std::max(0.0, power / double(x.size()) - level * level / 2);
  const double error = std::sqrt(2 * noise / double(x.size()));
  LevelPoint point{in_dbfs, {}, theory_level_dbfs(cut, in_dbfs), 0};
  if (level > 1e-12) {
    point.out_dbfs = 20 * std::log10(level);
    point.error_db = 20 * std::log10(1 + error / level);
  }
  return point;
}

void read_floor(WordRow& row, int rate_hz, const Job& job) {
  const auto tone = tone_clip(floor_tone_dbfs, floor_s, rate_hz);
  auto error = all_of(*pass(tone, chain_of(row.cut), job).ret);
  const auto before = all_of(*tone);
  for (size_t n = 0; n < size_t(error.frames()); ++n) error.channel(0)[n] -= before.channel(0)[n];
  SpectraOptions options;
  options.fft_size = 1 << 15;
  row.error = spectra_of(*made_clip(error, rate_hz, "error"), options, job);
  double flat = 0, weighted = 0, theory = 0;
  const Spectrum& s = row.error.average;
  for (size_t k = 1; k < s.power.size(); ++k) {
    const double hz = double(k) * s.bin_hz;
    if (hz < 20 || hz > 20000) continue;
    flat += s.power[k], weighted += s.power[k] * std::pow(10, weighting_db(Weighting::a, hz) / 10);
    theory += error_density(row.cut, hz, rate_hz) * s.bin_hz;
  }
  const double step = step_of(row.cut);
  row.noise_dbfs = 10 * std::log10(std::max(1e-40, 2 * flat));
  row.noise_a_dbfs = 10 * std::log10(std::max(1e-40, 2 * weighted));
  row.theory_dbfs = 10 * std::log10(2 * theory * step * step);
}

}  // namespace

std::vector<WordCut> board_cuts() {
  std::vector<WordCut> cuts;
  for (const int bits : {8, 12, 16, 20, 24})
    for (const char* dither : {"none", "rectangular", "triangular", "triangular_high", "gaussian"})
      cuts.push_back({bits, dither});
  return cuts;
}

Chain chain_of(const WordCut& cut) { return {"", {{"word_length", {{"bits", cut.bits}, {"dither", cut.dither}}}}, 1}; }

std::string label_of(const WordCut& cut) { return label_of(chain_of(cut)); }

WordRow read_word_cut(const WordCut& cut, int rate_hz, const Job& job) {
  WordRow row;
  row.cut = cut;
  read_floor(row, rate_hz, Job{job.stop, {}, job.threads});
  for (int n = 0; n <= 14; ++n) {
    job.check();
    job.report(0.3 + 0.05 * n);
    row.levels.push_back(read_level(cut, n == 0 ? -1 : -10 * n, rate_hz));
    const LevelPoint& p = row.levels.back();
    if (!p.out_dbfs || p.error_db > certain_db) continue;
    if (std::abs(*p.out_dbfs - p.in_dbfs) > std::abs(row.worst_linearity_db))
      row.worst_linearity_db = *p.out_dbfs - p.in_dbfs;
  }
  return row;
}

std::string label_of(const WordRow& row) {
  std::string words = fmt::format("noise at {} dBFS, {} dB from theory", number_text(row.noise_dbfs, 1),
                                  number_text(std::abs(row.noise_dbfs - row.theory_dbfs), 2));
  if (row.cut.dither == "none")
    words = fmt::format("the error is no noise: it moves with the programme, {} dBFS under a tone of {} dBFS",
                        number_text(row.noise_dbfs, 1), number_text(floor_tone_dbfs, 0));
  double lost = 0, deepest = 0;
  for (const LevelPoint& p : row.levels) {
    if (!p.theory_dbfs && lost == 0) lost = p.in_dbfs;
    if (p.out_dbfs && p.error_db <= certain_db) deepest = p.in_dbfs;
  }
  if (lost < 0) return words + fmt::format("; of a tone at {} dBFS nothing comes back", number_text(lost, 0));
  return words + fmt::format("; a tone is true to {} dB down to {} dBFS",
                             number_text(std::abs(row.worst_linearity_db), 2), number_text(deepest, 0));
}

double theory_per_root_hz(const WordCut& cut, double hz, double rate_hz) {
  const double step = step_of(cut);
  return 10 * std::log10(2 * error_density(cut, hz, rate_hz) * step * step);
}

std::optional<double> theory_level_dbfs(const WordCut& cut, double in_dbfs) {
  const double step = step_of(cut), a = gain_of(in_dbfs) / step;
  double out = a;
  if (cut.dither == "none") {  // each step is a pulse of its own: 4 / pi times the cosine of where it begins
    out = 0;
    for (double edge = 0.5; edge < a; edge += 1) out += 4 / pi * std::sqrt(1 - edge / a * (edge / a));
  } else if (cut.dither == "gaussian") {
    const double variance = dithers().at("gaussian").variance;
    for (int k = 1; k <= 4; ++k)
      out += 2 * (k % 2 ? -1 : 1) / (pi * k) * std::exp(-2 * pi * pi * k * k * variance) *
             std::cyl_bessel_j(1.0, 2 * pi * k * a);
  }
  if (!(out > 0)) return {};
  return 20 * std::log10(out * step);
}

Fade fade_through(const WordCut& cut, int rate_hz, const Job& job) {
  const double step_dbfs = 20 * std::log10(step_of(cut));
  Planar sound(2, std::llround(fade_s * rate_hz));
  for (size_t n = 0; n < size_t(sound.frames()); ++n) {
    const double t = double(n) / rate_hz;
    const double level = gain_of(step_dbfs + fade_span_db * (1 - 2 * t / fade_s)) * std::min(1.0, t / 0.05);
    for (int c = 0; c < 2; ++c) {
      double chord = 0;
      for (const double hz : {220.0, 277.18, 329.63}) chord += std::sin(2 * pi * (hz * t + 0.1 * c));
      sound.channel(c)[n] = level * chord / 3;
    }
  }
  Fade fade{made_clip(sound, rate_hz, "fade"), nullptr, std::max(0.0, heard_step_dbfs - step_dbfs)};
  Chain raise, whole = chain_of(cut);
  for (double left = fade.raised_db; left > 0; left -= most_gain_db)
    raise.stages.push_back({"gain", {{"gain_db", std::min(left, most_gain_db)}}});
  whole.stages.insert(whole.stages.end(), raise.stages.begin(), raise.stages.end());
  fade.after = pass(fade.before, whole, job).ret;
  if (!raise.stages.empty()) fade.before = pass(fade.before, raise, job).ret;
  return fade;
}

Json word_line(const WordRow& row) {
  return {{"name", label_of(row.cut)},
          {"bits", row.cut.bits},
          {"dither", row.cut.dither},
          {"noise_dbfs", row.noise_dbfs},
          {"theory_dbfs", row.theory_dbfs},
          {"noise_a_dbfs", row.noise_a_dbfs},
          {"worst_linearity_db", row.worst_linearity_db}};
}

}  // namespace heathmist
