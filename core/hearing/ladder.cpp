#include "core/hearing/ladder.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numbers>

#include "core/audio/scratch.hpp"
#include "core/compare/null.hpp"
#include "core/dsp/decibels.hpp"
#include "core/dsp/fft.hpp"
#include "core/hearing/excerpt.hpp"
#include "core/stages/chain.hpp"
#include "core/stages/encoder.hpp"

namespace heathmist {

namespace {

constexpr double step_db = 2, span_db = 60, most_lift_db = 90;
constexpr double levels_db[] = {6,    5,   4,   3,    2.5,  2,   1.6,  1.25,  1,  0.8,
                                0.63, 0.5, 0.4, 0.32, 0.25, 0.2, 0.16, 0.125, 0.1};
constexpr int least_bits = 4, most_bits = 20, least_kbps = 16, most_kbps = 512;
constexpr double about_s = 1;         // of the master is taken beside the excerpt, where its ends would tell
constexpr double nothing_rms = 1e-6;  // -120 dBFS
constexpr size_t least_rungs = 3;     // of a staircase

using dsp::gain_of;

double rms_of(const Planar& sound) {
  double squares = 0;
  for (int c = 0; c < sound.channels(); ++c)
    for (const double v : sound.channel(c)) squares += v * v;
  return std::sqrt(squares / (double(sound.channels()) * double(std::max<int64_t>(1, sound.frames()))));
}

Ladder::Difference difference_of(const Planar& sound, const Planar* less = nullptr) {
  Ladder::Difference d(2 * size_t(sound.frames()));
  for (int c = 0; c < 2; ++c)
    for (size_t n = 0; n < size_t(sound.frames()); ++n)
      d[2 * n + size_t(c)] = float(sound.channel(c)[n] - (less ? less->channel(c)[n] : 0));
  return d;
}

/// What an ideal sampler of twice the frequency would make of all above it, and nothing of what is below. The first and
/// last `margin` samples are faded, so that their ends are no sound of their own.
void fold_channel(std::span<double> x, size_t margin, double about_hz, int rate_hz) {
  for (size_t n = 0; n < margin; ++n) {
    const double fade = 0.5 - 0.5 * std::cos(std::numbers::pi * (double(n) + 0.5) / double(margin));
    x[n] *= fade, x[x.size() - 1 - n] *= fade;
  }
  dsp::RealFft<double> fft(dsp::good_fft_size(x.size()));
  std::fill(std::copy(x.begin(), x.end(), fft.time().begin()), fft.time().end(), 0.0);
  fft.forward();
  const auto bins = fft.spectrum();
  const auto turn = int64_t(std::llround(2 * about_hz / rate_hz * double(fft.size())));
  std::vector<std::complex<double>> folded(bins.size());
  for (auto k = turn / 2 + 1; k < int64_t(bins.size()); ++k) {
    const int64_t to = k - turn * std::llround(double(k) / double(turn));
    folded[size_t(std::abs(to))] += to < 0 ? std::conj(bins[size_t(k)]) : bins[size_t(k)];
  }
  std::copy(folded.begin(), folded.end(), bins.begin());
  fft.inverse();
  for (size_t n = 0; n < x.size(); ++n) x[n] = fft.time()[n] / double(fft.size());
}

/// Frames [from, from + frames) of a sound.
Planar cut(const Planar& sound, int64_t from, int64_t frames) {
  Planar out(sound.channels(), frames);
  for (int c = 0; c < sound.channels(); ++c) {
    const auto x = sound.channel(c).subspan(size_t(from), size_t(frames));
    std::copy(x.begin(), x.end(), out.channel(c).begin());
  }
  return out;
}

/// Makes the rungs of one master's excerpt.
class Builder {
 public:
  Builder(const Clip& master, double from_s, double until_s, const LadderDesign& design)
      : master_(master), excerpt_(excerpt_of(master, from_s, until_s, longest_ladder_s)) {
    ladder_.design = design, ladder_.rate_hz = master.format().sample_rate_hz;
    ladder_.reference = excerpt_.sound, ladder_.lufs = excerpt_.lufs;
  }
  void lift(const ToHear& trial);
  void level();
  void word_length(const Job& job);
  void bit_rate(const Job& job);
  void fold();
  Ladder finish(const Job& job);

 private:
  void add(double value, double gain, size_t part) { ladder_.rungs.push_back({value, part, gain, 1}); }
  /// By so many dB at the greatest, down by twos.
  void add_series(double first_db) {
    for (double db = first_db; db >= first_db - span_db; db -= step_db) add(db, gain_of(db), 0);
  }
  [[noreturn]] void refuse(const std::string& sentence) const { throw InputError(master_.path(), sentence); }
  Planar through(const Stage& stage, std::optional<Fit>& fit, const Job& job) const;

  const Clip& master_;
  Excerpt excerpt_;
  Ladder ladder_;
};

void Builder::lift(const ToHear& trial) {
  if (!trial.ret) refuse("there is no return whose residual could be lifted");
  if (excerpt_.first < trial.fit.first || excerpt_.first + excerpt_.frames() > trial.fit.last)
    throw InputError(trial.ret->path(), "it does not reach over the whole excerpt; select another place");
  const std::shared_ptr<const Clip> borrowed(std::shared_ptr<const Clip>{}, &master_);  // for as long as this takes
  Planar residual;
  residual_clip({borrowed, trial.ret}, trial.fit)->reader()->read(excerpt_.first, excerpt_.frames(), residual);
  residual = two_sided(residual);
  const double rms = rms_of(residual);
  if (rms < nothing_rms * 1e-3)
    throw InputError(trial.ret->path(), "it has no residual there: there is nothing to lift");
  ladder_.differences.push_back(difference_of(residual));
  add_series(std::min(most_lift_db, step_db * std::round(20 * std::log10(rms_of(ladder_.reference) / rms) / step_db)));
}

void Builder::level() {
  ladder_.differences.emplace_back();
  for (const double db : levels_db) ladder_.rungs.push_back({db, 0, 0, gain_of(-db)});
}

void Builder::word_length(const Job& job) {
  const auto excerpt = made_clip(ladder_.reference, ladder_.rate_hz, "excerpt");
  for (int bits = least_bits; bits <= most_bits; ++bits) {
    Planar cut;
    const auto made = pass(excerpt, {{}, {{"word_length", {{"bits", bits}}}}}, job).ret;
    made->reader()->read(0, ladder_.reference.frames(), cut);
    ladder_.differences.push_back(difference_of(cut, &ladder_.reference));
    add(bits, 1, ladder_.differences.size() - 1);
  }
}

/// The excerpt with some of what lies about it through a stage, laid where it was. `fit`: found where there is none
/// yet.
Planar Builder::through(const Stage& stage, std::optional<Fit>& fit, const Job& job) const {
  const auto about = int64_t(about_s * ladder_.rate_hz);
  const int64_t first = std::max<int64_t>(0, excerpt_.first - about);
  const int64_t last = std::min(master_.format().frames, excerpt_.first + excerpt_.frames() + about);
  Planar sound;
  master_.reader()->read(first, last - first, sound);
  const auto in = made_clip(two_sided(sound), ladder_.rate_hz, master_.path().filename().string());
  const auto pair = comparable(in, pass(in, {{}, {stage}}, job).ret, job);
  FitOptions options;
  options.drift = false;
  if (!fit) fit = find_fit(*pair.master, *pair.ret, options, job);
  Planar out;
  AlignedReturn(*pair.ret, *fit).read(excerpt_.first - first, excerpt_.frames(), out);
  return two_sided(out);
}

void Builder::bit_rate(const Job& job) {
  std::vector<int> rates = bit_rates_of_codec(ladder_.design.codec, ladder_.rate_hz, 2);
  std::erase_if(rates, [](int kbps) { return kbps < least_kbps || kbps > most_kbps; });
  if (rates.size() < least_rungs) refuse(fmt::format("{} has no ladder of bit rates", ladder_.design.codec));
  std::optional<Fit> fit;  // a codec's delay is one at all its bit rates, and is found best at the greatest
  ladder_.differences.resize(rates.size()), ladder_.rungs.resize(rates.size());
  for (size_t left = rates.size(); left > 0; --left) {
    const size_t n = left - 1;
    const Stage stage{"codec", {{"codec", ladder_.design.codec}, {"bit_rate_kbps", rates[n]}}};
    const Planar back = through(stage, fit, job);
    ladder_.differences[n] = difference_of(back, &ladder_.reference);
    ladder_.rungs[n] = {double(rates[n]), n, 1, 1};
    job.report(double(rates.size() - n) / double(rates.size()));
  }
}

void Builder::fold() {
  const double about = ladder_.design.fold_about_hz;
  if (!(about >= 1000 && about < 0.5 * ladder_.rate_hz))
    refuse(fmt::format("it can't fold about {:g} Hz: that is 1000 Hz or more, and below half its rate", about));
  const auto margin = int64_t(about_s * ladder_.rate_hz);
  Planar sound;
  master_.reader()->read(excerpt_.first - margin, excerpt_.frames() + 2 * margin, sound);
  sound = two_sided(sound);
  for (int c = 0; c < 2; ++c) fold_channel(sound.channel(c), size_t(margin), about, ladder_.rate_hz);
  const Planar folded = cut(sound, margin, excerpt_.frames());
  if (rms_of(folded) < nothing_rms)
    refuse(fmt::format("it has nothing above {:g} Hz there that could fold; select another place", about));
  ladder_.differences.push_back(difference_of(folded));
  add_series(0);
}

/// Equally loud but where the level is what is asked about, and turned down together where one would clip.
Ladder Builder::finish(const Job& job) {
  const bool matched = ladder_.design.of != LadderOf::level;
  double most = highest_sample(ladder_.reference);
  for (size_t n = 0; n < ladder_.rungs.size(); ++n) {
    job.check();
    Planar sound = ladder_.sound(n);
    if (matched)
      ladder_.rungs[n].level = gain_of(match_loudness(sound, ladder_.rate_hz, master_.path(), ladder_.lufs).gain_db);
    most = std::max(most, highest_sample(sound));
    job.report(double(n + 1) / double(ladder_.rungs.size()));
  }
  if (most > full_scale) {
    ladder_.turned_down_db = 20 * std::log10(most / full_scale);
    turn(ladder_.reference, full_scale / most);
    for (auto& d : ladder_.differences)
      for (float& v : d) v = float(v * full_scale / most);
    ladder_.lufs -= ladder_.turned_down_db;
  }
  return std::move(ladder_);
}

}  // namespace

Planar Ladder::sound(size_t rung) const {
  const Rung& r = rungs.at(rung);
  const Difference& d = differences.at(r.part);
  Planar out = reference;
  for (int c = 0; c < 2; ++c) {
    const auto x = out.channel(c);
    for (size_t n = 0; n < x.size(); ++n) x[n] = r.level * (x[n] + (d.empty() ? 0 : r.gain * d[2 * n + size_t(c)]));
  }
  return out;
}

Ladder make_ladder(const Clip& master, double from_s, double until_s, const LadderDesign& design, const ToHear& trial,
                   const Job& job) {
  Builder builder(master, from_s, until_s, design);
  const Job making = job.part(0, 0.7);
  switch (design.of) {
    case LadderOf::lift:
      builder.lift(trial);
      break;
    case LadderOf::level:
      builder.level();
      break;
    case LadderOf::word_length:
      builder.word_length(making);
      break;
    case LadderOf::bit_rate:
      builder.bit_rate(making);
      break;
    case LadderOf::fold:
      builder.fold();
      break;
  }
  return builder.finish(job.part(0.7, 1));
}

std::vector<BlindStimulus> stimuli_of(const Ladder& ladder, const BlindStimulus& reference, const BlindStimulus& of) {
  std::vector<BlindStimulus> all{reference};
  for (const Ladder::Rung& r : ladder.rungs) {
    BlindStimulus s = of;
    s.name = fmt::format("{:g} {}", r.value, unit_of(ladder.design));
    s.gain_db = 20 * std::log10(r.level), s.value = r.value;
    all.push_back(std::move(s));
  }
  return all;
}

}  // namespace heathmist
