#include "demo/instruments.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <numbers>

namespace heathmist::demo {

namespace {

constexpr double tau = 2 * std::numbers::pi;

/// A decaying sine by recurrence.
struct Partial {
  double y1, y2, turn, decay2;
  Partial(double hz, double level, double t60, double rate, double phase) {
    const double w = tau * hz / rate, decay = std::pow(10.0, -3 / (t60 * rate));
    turn = 2 * decay * std::cos(w);
    decay2 = decay * decay;
    y1 = level * std::sin(phase - w) / decay;
    y2 = level * std::sin(phase - 2 * w) / decay2;
  }
  double next() {
    const double y = turn * y1 - decay2 * y2;
    y2 = y1;
    y1 = y;
    return y;
  }
};

/// Two poles: a formant or a struck plate.
struct Resonator {
  double a1, a2, b0, y1 = 0, y2 = 0;
  Resonator(double hz, double width_hz, double rate) {
    const double r = std::exp(-std::numbers::pi * width_hz / rate);
    a1 = 2 * r * std::cos(tau * hz / rate);
    a2 = -r * r;
    b0 = (1 - r * r) * std::sin(tau * hz / rate);
  }
  double next(double x) {
    const double y = b0 * x + a1 * y1 + a2 * y2;
    y2 = y1;
    y1 = y;
    return y;
  }
};

}  // namespace

Score::Score(int sample_rate_hz, double seconds, uint64_t seed)
    : rate_(sample_rate_hz), sound_(2, int64_t(seconds * sample_rate_hz)), chance_(seed) {}

void Score::add(int64_t frame, double pan, double value) {
  if (frame < 0 || frame >= sound_.frames()) return;
  sound_.channel(0)[size_t(frame)] += value * std::sqrt((1 - pan) / 2);
  sound_.channel(1)[size_t(frame)] += value * std::sqrt((1 + pan) / 2);
}

void Score::pluck(double at, double hz, double level, double pan) {
  const double period = rate_ / hz - 0.5;
  const auto length = size_t(period);
  const double fraction = period - double(length);
  const double tune = (1 - fraction) / (1 + fraction);  // an all-pass for the part of a sample
  std::vector<double> line(length + 1);
  double smooth = 0;
  for (double& v : line) v = smooth += 0.5 * (chance_.between(-1, 1) - smooth);
  const double keep = std::pow(10.0, -3 / (2.8 * hz));  // about 2.8 s at the bottom
  double last = 0, in1 = 0, out1 = 0;
  size_t place = 0;
  const auto start = int64_t(at * rate_), frames = int64_t(3.5 * rate_);
  for (int64_t n = 0; n < frames; ++n) {
    const double x = line[place];
    const double low = keep * 0.5 * (x + last);
    last = x;
    const double y = tune * low + in1 - tune * out1;
    in1 = low;
    out1 = y;
    line[place] = y;
    place = (place + 1) % line.size();
    add(start + n, pan, level * x);
  }
}

void Score::bell(double at, double hz, double level, double pan) {
  static constexpr std::array<double, 7> ratio{0.5, 1, 1.19, 1.56, 2.0, 2.66, 4.1},
      share{0.5, 1, 0.6, 0.45, 0.5, 0.3, 0.18}, length{7, 5, 4, 3, 2.6, 1.6, 0.8};
  std::vector<Partial> partials;
  for (size_t k = 0; k < ratio.size(); ++k)
    partials.emplace_back(hz * ratio[k], level * share[k] * 0.4, length[k], rate_, chance_.between(0, tau));
  const auto start = int64_t(at * rate_), frames = int64_t(6.0 * rate_), attack = int64_t(0.002 * rate_);
  for (int64_t n = 0; n < frames; ++n) {
    double sum = 0;
    for (auto& p : partials) sum += p.next();
    add(start + n, pan + 0.1 * std::sin(double(n) / rate_), n < attack ? sum * double(n) / double(attack) : sum);
  }
}

void Score::drone(double at, double seconds, double hz, double level, double pan) {
  const auto start = int64_t(at * rate_), frames = int64_t(seconds * rate_);
  for (int k = 1; k <= 9; ++k) {
    Partial steady(hz * k * (1 + chance_.between(-0.0015, 0.0015)), level / k, 1e9, rate_, chance_.between(0, tau));
    const double swell_hz = chance_.between(0.05, 0.3), begin = chance_.between(0, tau),
                 place = std::clamp(pan + chance_.between(-0.5, 0.5), -1.0, 1.0);
    for (int64_t n = 0; n < frames; ++n) {
      const double t = double(n) / rate_;
      const double rise = std::min({1.0, t / 3, (seconds - t) / 3}), turn = t * swell_hz + begin;
      add(start + n, place, steady.next() * rise * (0.6 + 0.4 * (1 - 2 * std::abs((turn - std::floor(turn)) * 2 - 1))));
    }
  }
}

void Score::clank(double at, double hz, double level, double pan) {
  std::vector<Resonator> plates;
  for (const double ratio : {1.0, 1.73, 2.41, 3.87, 5.12}) plates.emplace_back(hz * ratio, 18 * ratio, rate_);
  Partial thump(62, level * 1.4, 0.22, rate_, 0);
  const auto start = int64_t(at * rate_), frames = int64_t(0.7 * rate_);
  for (int64_t n = 0; n < frames; ++n) {
    const double t = double(n) / rate_;
    const double strike = chance_.between(-1, 1) * std::exp(-t * 260) * 6;
    double sum = thump.next();
    for (auto& p : plates) sum += level * p.next(strike);
    add(start + n, pan, sum);
  }
}

void Score::water(double level, double slowness_s) {
  for (int c = 0; c < 2; ++c) {
    Resonator low(420, 500, rate_), high(2600, 2400, rate_);
    double swell = 0.5, target = 0.5;
    const double pace = 1 / (slowness_s * rate_);
    for (int64_t n = 0; n < sound_.frames(); ++n) {
      if (n % rate_ == 0) target = chance_.between(0.3, 1);
      swell += (target - swell) * pace;
      const double x = chance_.between(-1, 1);
      sound_.channel(c)[size_t(n)] += level * swell * (low.next(x) + 0.5 * high.next(x) + 0.02 * x);
    }
  }
}

void Score::syllable(double at, double seconds, double pitch_hz, int vowel, double level, double pan) {
  static constexpr double formants[5][3] = {
      {730, 1090, 2440}, {530, 1840, 2480}, {270, 2290, 3010}, {570, 840, 2410}, {300, 870, 2240}};
  const double* f = formants[vowel % 5];
  Resonator one(f[0], 80, rate_), two(f[1], 100, rate_), three(f[2], 140, rate_);
  const auto start = int64_t(at * rate_), frames = int64_t(seconds * rate_);
  double phase = 0;
  for (int64_t n = 0; n < frames; ++n) {
    const double t = double(n) / rate_, part = t / seconds;
    phase += pitch_hz * (1.06 - 0.14 * part + 0.008 * std::sin(tau * 5.1 * t)) / rate_;
    if (phase >= 1) phase -= 1;
    const double pulse = phase < 0.6 ? phase * phase * (0.6 - phase) * 16 - 0.4 : -0.4;  // open and closed glottis
    const double x = pulse + 0.04 * chance_.between(-1, 1);
    const double rise = std::min({1.0, t / 0.03, (seconds - t) / 0.06});
    add(start + n, pan, level * rise * (one.next(x) + 0.55 * two.next(x) + 0.3 * three.next(x)));
  }
}

void Score::breath(double at, double seconds, double level) {
  Resonator hiss(6100, 3200, rate_);
  const auto start = int64_t(at * rate_), frames = int64_t(seconds * rate_);
  for (int64_t n = 0; n < frames; ++n) {
    const double part = double(n) / double(frames);
    add(start + n, 0, level * part * (1 - part) * 4 * hiss.next(chance_.between(-1, 1)));
  }
}

void Score::room(double wet, double seconds) {
  static constexpr std::array<double, 4> times{0.0297, 0.0371, 0.0411, 0.0437};
  std::array<std::vector<double>, 4> lines;
  std::array<size_t, 4> places{};
  std::array<double, 4> keep{}, dull{};
  for (size_t k = 0; k < 4; ++k) {
    lines[k].assign(size_t(times[k] * rate_), 0);
    keep[k] = std::pow(10.0, -3 * times[k] / seconds);
  }
  for (int64_t n = 0; n < sound_.frames(); ++n) {
    auto &left = sound_.channel(0)[size_t(n)], &right = sound_.channel(1)[size_t(n)];
    std::array<double, 4> out{};
    for (size_t k = 0; k < 4; ++k) dull[k] += 0.55 * (lines[k][places[k]] - dull[k]), out[k] = dull[k];
    const double half = 0.5 * (out[0] + out[1] + out[2] + out[3]);  // a Householder mix
    for (size_t k = 0; k < 4; ++k) {
      lines[k][places[k]] = keep[k] * (out[k] - half) + (k % 2 ? right : left);
      places[k] = (places[k] + 1) % lines[k].size();
    }
    left += wet * (out[0] + out[2]);
    right += wet * (out[1] - out[3]);
  }
}

void Score::soften(double hz) {
  static constexpr std::array<double, 4> q{0.50980, 0.60134, 0.89998, 2.56292};  // Butterworth, order 8
  const double k = std::tan(std::numbers::pi * hz / rate_);
  for (int c = 0; c < 2; ++c)
    for (const double quality : q) {
      const double a0 = 1 + k / quality + k * k, b0 = k * k / a0, a1 = 2 * (k * k - 1) / a0,
                   a2 = (1 - k / quality + k * k) / a0;
      double s1 = 0, s2 = 0;
      for (double& x : sound_.channel(c)) {
        const double y = b0 * x + s1;
        s1 = 2 * b0 * x - a1 * y + s2;
        s2 = b0 * x - a2 * y;
        x = y;
      }
    }
}

void Score::fade_out(double seconds) {
  const auto length = int64_t(seconds * rate_);
  for (int c = 0; c < 2; ++c)
    for (int64_t n = 0; n < length; ++n) {
      const double left = double(n) / double(length);
      sound_.channel(c)[size_t(sound_.frames() - 1 - n)] *= left * left * (3 - 2 * left);
    }
}

void Score::set_peak(double dbfs) {
  double peak = 0;
  for (int c = 0; c < 2; ++c)
    for (const double x : sound_.channel(c)) peak = std::max(peak, std::abs(x));
  const double scale = std::pow(10.0, dbfs / 20) / std::max(peak, 1e-9);
  for (int c = 0; c < 2; ++c)
    for (double& x : sound_.channel(c)) x *= scale;
}

}  // namespace heathmist::demo
