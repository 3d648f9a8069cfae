#include "core/devices/converter_loop.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <cmath>
#include <map>
#include <numbers>
#include <stdexcept>

#include "core/dsp/decibels.hpp"
#include "core/dsp/interpolator.hpp"
#include "core/dsp/noise.hpp"

namespace heathmist {

namespace {

struct Setting {
  double low, high;
  void (*put)(LoopSettings&, double);
};

const std::map<std::string, Setting>& settings_by_name() {
  static const std::map<std::string, Setting> all{
      {"delay_samples", {ConverterLoop::least_delay, 1e6, [](LoopSettings& s, double v) { s.delay_samples = v; }}},
      {"drift_ppm", {-1000, 1000, [](LoopSettings& s, double v) { s.drift_ppm = v; }}},
      {"gain_db", {-60, 20, [](LoopSettings& s, double v) { s.gain_db = v; }}},
      {"inverted", {0, 1, [](LoopSettings& s, double v) { s.inverted = v != 0; }}},
      {"bits", {0, 32, [](LoopSettings& s, double v) { s.bits = int(v); }}},
      {"noise_dbfs", {-200, 0, [](LoopSettings& s, double v) { s.noise_dbfs = v; }}},
      {"hum_dbfs", {-200, 0, [](LoopSettings& s, double v) { s.hum_dbfs = v; }}},
      {"dropout_every_s", {0, 1e6, [](LoopSettings& s, double v) { s.dropout_every_s = v; }}},
      {"dropout_ms", {0.1, 1000, [](LoopSettings& s, double v) { s.dropout_ms = v; }}},
      {"gone_after_s", {0, 1e9, [](LoopSettings& s, double v) { s.gone_after_s = v; }}},
      {"clock", {0, 1e5, [](LoopSettings& s, double v) { s.clock = v; }}}};
  return all;
}

void put(LoopSettings& settings, const std::string& word) {
  const auto equals = word.find('=');
  const std::string name = word.substr(0, equals);
  const auto known = settings_by_name().find(name);
  if (known == settings_by_name().end()) {
    std::string names;
    for (const auto& [key, value] : settings_by_name()) names += (names.empty() ? "" : ", ") + key;
    throw std::invalid_argument(fmt::format("the stand-in has no setting '{}'; it has {}", name, names));
  }
  const auto& [low, high, put_value] = known->second;
  double value = 0;
  const char* end = word.data() + word.size();
  const bool number = equals != std::string::npos && std::from_chars(word.data() + equals + 1, end, value).ptr == end &&
                      equals + 1 < word.size();
  if (!number || !(value >= low && value <= high))
    throw std::invalid_argument(
        fmt::format("the stand-in's {} takes {:g} to {:g}; write {}=...", name, low, high, name));
  put_value(settings, value);
}

}  // namespace

LoopSettings loop_settings(const std::string& text) {
  LoopSettings settings;
  for (size_t at = 0; at < text.size();) {
    const size_t comma = std::min(text.find(',', at), text.size());
    put(settings, text.substr(at, comma - at));
    at = comma + 1;
  }
  return settings;
}

struct ConverterLoop::Inside {
  using Interpolator = dsp::Interpolator;
  static constexpr int64_t behind = 8192;  // so far the reading jumps back where it has caught up with what is played

  Inside(const LoopSettings& settings, int rate, int channel_count)
      : s(settings),
        rate_hz(rate),
        channels(size_t(channel_count)),
        step(1 / (1 + settings.drift_ppm * 1e-6)),
        gain(dsp::gain_of(settings.gain_db) * (settings.inverted ? -1 : 1)),
        noise(settings.noise_dbfs ? dsp::gain_of(*settings.noise_dbfs) : 0),
        hum(settings.hum_dbfs ? dsp::gain_of(*settings.hum_dbfs) / std::sqrt(0.5 * (1 + 0.25 + 0.0625)) : 0),
        delay(settings.delay_samples),
        history(channels),
        line(size_t(most_frames)) {
    const auto lead = size_t(std::ceil(delay)) + Interpolator::taps;
    for (auto& channel : history) channel.assign(lead, 0.0);
    first = -int64_t(lead);
    for (size_t c = 0; c < channels; ++c) chances.emplace_back(977 + c);
  }

  /// The place of what is played that comes in at frame n.
  double place(int64_t n) const { return double(n) * step - delay; }

  void remember(std::span<const double> out) {
    for (size_t c = 0; c < channels; ++c)
      for (size_t n = c; n < out.size(); n += channels) history[c].push_back(out[n]);
  }

  void forget() {
    const auto keep = int64_t(std::floor(place(at))) - Interpolator::taps;
    if (keep - first < 1 << 16) return;
    for (auto& channel : history) channel.erase(channel.begin(), channel.begin() + (keep - first));
    first = keep;
  }

  void read(size_t c, int64_t frames) {
    const double from = place(at);
    const auto whole = int64_t(std::floor(from));
    const double fraction = from - double(whole);
    const double* x = history[c].data() + (whole - Interpolator::before - first);
    const std::span<double> to(line.data(), size_t(frames));
    if (step == 1) {
      Interpolator::shift({x, to.size() + Interpolator::taps - 1}, fraction, to);
    } else {
      const size_t reach = history[c].size() - size_t(whole - Interpolator::before - first);
      Interpolator::stretch({x, reach}, fraction, step, to);
    }
  }

  double fault(size_t c, double x, int64_t n) {
    x *= gain;
    if (noise > 0) x += noise * chances[c].gaussian();
    if (hum > 0) {
      const double turn = 2 * std::numbers::pi * std::remainder(50.0 * double(n) / rate_hz, 1.0);
      x += hum * (std::sin(turn) + 0.5 * std::sin(2 * turn) + 0.25 * std::sin(3 * turn));
    }
    if (s.bits > 0) {
      const double levels = std::ldexp(1.0, s.bits - 1);
      x = std::clamp(std::nearbyint(x * levels), -levels, levels - 1) / levels;
    }
    const double every = s.dropout_every_s * rate_hz;
    return every > 0 && double(n) >= every &&
                   double(n) - every * std::floor(double(n) / every) < s.dropout_ms * 1e-3 * rate_hz
               ? 0
               : x;
  }

  LoopSettings s;
  double rate_hz;
  size_t channels;
  double step, gain, noise, hum, delay;
  std::vector<std::vector<double>> history;  // of what was played, channel by channel
  int64_t first = 0, at = 0;                 // the frame history begins with; the next one that comes in
  std::vector<double> line;
  std::vector<dsp::Noise> chances;
};

ConverterLoop::ConverterLoop(const LoopSettings& settings, int sample_rate_hz, int channels)
    : inside_(std::make_unique<Inside>(settings, sample_rate_hz, channels)) {}
ConverterLoop::~ConverterLoop() = default;

bool ConverterLoop::process(std::span<const double> out, std::span<double> in) {
  auto& i = *inside_;
  const auto frames = int64_t(out.size() / i.channels);
  i.remember(out);
  const double last = i.place(i.at + frames) + dsp::Interpolator::after + 1;
  const bool whole = last < double(i.at + frames);
  if (!whole) i.delay += Inside::behind;
  const auto lead = i.first - int64_t(std::floor(i.place(i.at))) + dsp::Interpolator::taps;
  if (lead > 0) {  // before the first
    for (auto& channel : i.history) channel.insert(channel.begin(), size_t(lead), 0.0);
    i.first -= lead;
  }
  for (size_t c = 0; c < i.channels; ++c) {
    i.read(c, frames);
    for (int64_t n = 0; n < frames; ++n) in[size_t(n) * i.channels + c] = i.fault(c, i.line[size_t(n)], i.at + n);
  }
  i.at += frames;
  i.forget();
  return whole;
}

}  // namespace heathmist
