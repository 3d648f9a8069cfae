#include "tests/support/signals.hpp"

#include "core/measure/meter.hpp"

#include <QTest>
#include <cmath>
#include <complex>
#include <map>
#include <numbers>
#include <set>

namespace heathmist::test {

Programme::Programme(double seconds, uint64_t seed, double top_hz) : seconds_(seconds) {
  dsp::Noise chance(seed);
  for (double at = 0.05; at < seconds - 0.05; at += chance.between(0.005, 0.04)) {
    const double hz = 40 * std::pow(top_hz * 0.9 / 40, chance.uniform());
    const double width = chance.between(0.004, 0.06) * std::pow(1000 / (hz + 300), 0.5);
    grains_.push_back({at, width, hz, 0.25 * std::pow(200 / (hz + 200), 0.6) * chance.between(0.2, 1),
                       chance.between(0, 6.28), chance.between(-1, 1)});
  }
}

Planar Programme::render(int rate_hz, double delay_samples, double ratio, double extra_seconds) const {
  Planar out(2, int64_t((seconds_ * ratio + extra_seconds) * rate_hz));
  for (const Grain& g : grains_) {
    const double reach = 6.5 * g.width;
    const double first = (g.at - reach) * rate_hz * ratio + delay_samples,
                 last = (g.at + reach) * rate_hz * ratio + delay_samples;
    const int64_t end = std::min(out.frames(), int64_t(last));
    const double step_s = 1 / ratio / rate_hz, sharpness = 1 / (g.width * g.width);
    const auto turn = std::polar(1.0, 2 * std::numbers::pi * g.hz * step_s);
    const double bend = std::exp(-step_s * step_s * sharpness);
    for (auto from = std::max<int64_t>(0, int64_t(first)); from < end; from += 64) {  // by recurrence, anchored anew
      const double t = (double(from) - delay_samples) / ratio / rate_hz - g.at;
      double swell = g.level * std::exp(-0.5 * t * t * sharpness);
      double slope = std::exp(-(t + 0.5 * step_s) * step_s * sharpness);
      auto wave = std::polar(1.0, 2 * std::numbers::pi * g.hz * t + g.phase);
      for (int64_t n = from; n < std::min(end, from + 64); ++n) {
        const double x = swell * wave.real();
        out.channel(0)[size_t(n)] += x * (0.6 - 0.4 * g.pan);
        out.channel(1)[size_t(n)] += x * (0.6 + 0.4 * g.pan);
        swell *= slope, slope *= bend;
        wave = {wave.real() * turn.real() - wave.imag() * turn.imag(),
                wave.real() * turn.imag() + wave.imag() * turn.real()};
      }
    }
  }
  return out;
}

std::filesystem::path save(const std::filesystem::path& file, const Planar& sound, int rate_hz, WordFormat word) {
  ClipWriter out({file, true}, rate_hz, sound.channels(), word);
  out.write(sound);
  out.finish();
  return file;
}

Planar scaled(Planar sound, double gain) {
  for (int c = 0; c < sound.channels(); ++c)
    for (double& x : sound.channel(c)) x *= gain;
  return sound;
}

Planar with_crosstalk(Planar s, double direct, double across) {
  for (size_t n = 0; n < size_t(s.frames()); ++n) {
    const double l = s.channel(0)[n], r = s.channel(1)[n];
    s.channel(0)[n] = direct * l + across * r, s.channel(1)[n] = direct * r + across * l;
  }
  return s;
}

Planar with_noise(Planar sound, double rms, uint64_t seed) {
  dsp::Noise chance(seed);
  for (int c = 0; c < sound.channels(); ++c)
    for (double& x : sound.channel(c)) x += rms * chance.gaussian();
  return sound;
}

Planar requantised(Planar sound, int bits, bool dither, uint64_t seed) {
  dsp::Noise chance(seed);
  const double step = std::ldexp(1.0, 1 - bits);
  for (int c = 0; c < sound.channels(); ++c)
    for (double& x : sound.channel(c)) x = std::nearbyint(x / step + (dither ? chance.triangular() : 0)) * step;
  return sound;
}

NullReport null_of(const std::filesystem::path& master, const std::filesystem::path& ret, const NullOptions& options) {
  return null_test(Clip::open(master), Clip::open(ret), options);
}

Explained explained_pair_of(const std::filesystem::path& master, const std::filesystem::path& ret) {
  const auto m = Clip::open(master), r = Clip::open(ret);
  const auto pair = comparable(m, r);
  Explained all{pair, null_test(*m, *r, pair), {}};
  all.why = explain(*m, *r, pair, all.report);
  return all;
}

NullReport explained_null_of(const std::filesystem::path& master, const std::filesystem::path& ret) {
  return explained_pair_of(master, ret).report;
}

double integrated_lufs(const Planar& sound, int rate_hz) {
  Meter meter(rate_hz, sound.channels());
  meter.add(sound);
  return meter.finish().integrated_lufs.value_or(-300);
}

int samples_behind(const Planar& early, const Planar& late) {
  constexpr int reach = 20;
  const auto a = early.channel(0), b = late.channel(0);
  double best = -1;
  int at = 0;
  for (int by = -reach; by <= reach; ++by) {
    double sum = 0;
    for (size_t k = reach; k + reach < a.size(); ++k) sum += a[k] * b[size_t(int64_t(k) + by)];
    if (sum > best) best = sum, at = by;
  }
  return at;
}

double peak_of(const Planar& sound) {
  double peak = 0;
  for (int c = 0; c < sound.channels(); ++c)
    for (const double x : sound.channel(c)) peak = std::max(peak, std::abs(x));
  return peak;
}

NullReport told_of(const Folder& folder, const Planar& master, const Planar& ret, int rate_hz, WordFormat word) {
  const auto r =
      explained_null_of(save(folder / "m.wav", master, rate_hz, word), save(folder / "r.wav", ret, rate_hz, word));
  if (const auto twisted = contradiction_in(r); !twisted.empty())
    QTest::qFail(qPrintable(QString::fromStdString(twisted)), __FILE__, __LINE__);
  return r;
}

bool tells(const NullReport& report, const std::string& code) {
  return std::any_of(report.causes.begin(), report.causes.end(), [&](const Cause& c) { return c.code == code; });
}

double number(const Cause* c, const char* key) {
  return c && c->values.contains(key) && c->values[key].is_number() ? c->values[key].get<double>() : NAN;
}

bool is_near(double value, double truth, double by) { return std::abs(value - truth) <= by; }

const Cause* cause(const NullReport& r, const char* code) {
  const auto found = std::find_if(r.causes.begin(), r.causes.end(), [&](const Cause& c) { return c.code == code; });
  return found == r.causes.end() ? nullptr : &*found;
}

QString told(const NullReport& report) {
  QString text = QString::fromStdString(std::string(name_of(report.kind)));
  for (const Cause& c : report.causes)
    text += QString(" | %1 %2>%3")
                .arg(QString::fromStdString(c.text))
                .arg(c.before_db.value_or(-999), 0, 'f', 1)
                .arg(c.after_db.value_or(-999), 0, 'f', 1);
  return text;
}

double db(std::optional<double> value) { return value.value_or(-999); }

std::string contradiction_in(const NullReport& report) {
  // what the verdict says leaves no room for these beside it
  static const std::vector<std::pair<const char*, const char*>> exclude{{"identical", "delay"},
                                                                        {"identical", "gain"},
                                                                        {"identical", "drift"},
                                                                        {"identical", "channels_differ"},
                                                                        {"identical", "bandwidth"},
                                                                        {"identical", "eq"},
                                                                        {"shifted", "gain"},
                                                                        {"shifted", "channel_gain"},
                                                                        {"shifted", "eq"},
                                                                        {"level", "eq"},
                                                                        {"level", "lossy"},
                                                                        {"unrelated", "delay"},
                                                                        {"unrelated", "gain"},
                                                                        {"unrelated", "drift"},
                                                                        {"unrelated", "lossy"},
                                                                        {"silent_channel", "channel_gain"},
                                                                        {"loudness_unchanged", "fade"},
                                                                        {"loudness_unchanged", "mute"},
                                                                        {"fade", "fade_missing"},
                                                                        {"mono", "channels_swapped"},
                                                                        {"lossy", "word_length"},
                                                                        {"limiter", "expander"},
                                                                        {"compressor", "expander"},

                                                                        {"echo", "reverb"},
                                                                        {"phase", "eq"}};
  std::map<std::string, const Finding*> by_code;
  std::set<std::string> texts;
  for (size_t n = 1; n < report.findings.size(); ++n) {  // what the headline says is not said again
    const auto& text = report.findings[n].text;
    if (text.size() > 1 && report.findings.front().text.find(text.substr(0, text.size() - 1)) != std::string::npos)
      return "the headline again: " + text;
  }
  for (const Finding& f : report.findings) {
    if (!texts.insert(f.text).second) return "said twice: " + f.text;
    by_code[f.code] = &f;
  }
  for (const auto& [one, other] : exclude)
    if (by_code.count(one) && by_code.count(other)) return by_code[one]->text + " | " + by_code[other]->text;
  const auto gain = by_code.find("gain");
  if (gain != by_code.end() && report.kind != Kind::level && gain->second->value &&
      std::abs(*gain->second->value) < 0.01)
    return "told though it is nothing: " + gain->second->text;
  const auto delay = by_code.find("delay");
  if (delay != by_code.end() && delay->second->value && std::abs(*delay->second->value) < 0.002)
    return "told though it is nothing: " + delay->second->text;
  return {};
}

}  // namespace heathmist::test
