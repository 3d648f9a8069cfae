#include "tests/support/programmes.hpp"

#include <algorithm>
#include <cmath>
#include <complex>
#include <numbers>
#include <stdexcept>

#include "tests/support/signals.hpp"

namespace heathmist::test {

namespace {

constexpr double turn = 2 * std::numbers::pi;

struct Stage {
  int rate;
  Planar sound;
  dsp::Noise chance;

  /// A string that decays: partials n f, higher ones dying sooner.
  void pluck(double at, double hz, double level, double decay, double pan, int partials, double attack = 0.002) {
    for (int n = 1; n <= partials; ++n) {
      const double f = hz * n * std::sqrt(1 + 2e-4 * n * n);
      if (f > 0.47 * rate) break;
      const double a = level / std::pow(n, 1.1) * chance.between(0.5, 1), d = decay / (1 + 0.4 * n),
                   phase = chance.between(0, turn);
      const auto first = int64_t(at * rate), last = std::min(sound.frames(), first + int64_t(7 * d * rate));
      const auto from = std::max<int64_t>(0, first);
      const double start = double(from - first) / rate;
      ring(from, last, std::polar(a * std::exp(-start / d), turn * f * start + phase),
           std::polar(std::exp(-1 / d / rate), turn * f / rate), std::exp(-start / attack),
           std::exp(-1 / attack / rate), pan);
    }
  }
  /// A partial by recurrence, eight samples at a time.
  void ring(int64_t from, int64_t last, std::complex<double> wave, std::complex<double> step, double rise,
            double sooner, double pan) {
    constexpr int64_t lanes = 8;
    double re[lanes], im[lanes], up[lanes];
    for (int64_t n = 0; n < lanes; ++n, wave *= step, rise *= sooner)
      re[n] = wave.real(), im[n] = wave.imag(), up[n] = rise;
    const auto far = std::pow(step, double(lanes));
    const double fr = far.real(), fi = far.imag(), later = std::pow(sooner, double(lanes));
    double* left = sound.channel(0).data();
    double* right = sound.channel(1).data();
    for (int64_t k = from; k < last; k += lanes) {
      double x[lanes];
      for (int64_t n = 0; n < lanes; ++n) {
        x[n] = (1 - up[n]) * im[n], up[n] *= later;
        const double next = re[n] * fr - im[n] * fi;
        im[n] = re[n] * fi + im[n] * fr, re[n] = next;
      }
      for (int64_t n = 0; n < std::min(lanes, last - k); ++n)
        left[k + n] += x[n] * (1 - pan), right[k + n] += x[n] * (1 + pan);
    }
  }
  /// A burst of noise through one pole, from `hz` up (high) or down.
  void burst(double at, double level, double decay, double hz, bool high, double pan) {
    const auto first = int64_t(at * rate), last = std::min(sound.frames(), first + int64_t(7 * decay * rate));
    const double a = 1 - std::exp(-turn * hz / rate);
    double low = 0, low2 = 0;
    for (int64_t k = std::max<int64_t>(0, first); k < last; ++k) {
      const double white = chance.gaussian() * level * std::exp(-double(k - first) / rate / decay);
      low += a * (white - low), low2 += a * (chance.gaussian() * level * 0.3 - low2);
      const double x = high ? white - low : low;
      sound.channel(0)[size_t(k)] += x * (1 - pan),
          sound.channel(1)[size_t(k)] += x * (1 + pan) + 0.2 * low2 * (pan != 0);
    }
  }
  void kick(double at, double level) {
    const auto first = int64_t(at * rate), last = std::min(sound.frames(), first + int64_t(0.4 * rate));
    for (int64_t k = std::max<int64_t>(0, first); k < last; ++k) {
      const double t = double(k - first) / rate;
      const double x = level * std::exp(-t / 0.09) * std::sin(turn * (48 * t + 9 * (1 - std::exp(-t / 0.02))));
      sound.channel(0)[size_t(k)] += x, sound.channel(1)[size_t(k)] += x;
    }
  }
  double note(double low, double high) {
    return low * std::exp2(std::round(12 * std::log2(high / low) * chance.uniform()) / 12);
  }
};

void dense(Stage& s, double seconds) {
  for (double at = 0; at < seconds; at += 0.25) {
    s.kick(at, at * 4 - std::floor(at * 2) * 2 < 1 ? 0.7 : 0.0);
    s.burst(at + 0.125, 0.25, 0.03, 7000, true, s.chance.between(-0.4, 0.4));
    if (int(at * 4) % 4 == 2) s.burst(at, 0.5, 0.09, 900, true, 0);
    for (int n = 0; n < 3; ++n) s.pluck(at, s.note(110, 1760), 0.12, 0.5, s.chance.between(-0.8, 0.8), 14);
    s.pluck(at, s.note(41, 82), 0.3, 0.4, 0, 10);
  }
  for (int c = 0; c < 2; ++c)
    for (double& x : s.sound.channel(c)) x += 0.004 * s.chance.gaussian();
}

void piano(Stage& s, double seconds) {
  for (double at = 0.1; at < 0.62 * seconds; at += s.chance.between(0.25, 0.9))
    s.pluck(at, s.note(65, 1050), s.chance.between(0.1, 0.5), s.chance.between(0.3, 1.2), s.chance.between(-0.4, 0.4),
            12);
}

void speech(Stage& s, double seconds) {
  double pitch = 110;
  for (double at = 0.2; at < seconds - 0.3;) {
    const double length = s.chance.between(0.08, 0.28);
    pitch = std::clamp(pitch * s.chance.between(0.9, 1.12), 85.0, 180.0);
    if (s.chance.uniform() < 0.3) {
      s.burst(at, 0.12, length / 3, 4500, true, 0);
    } else {
      const double f1 = s.chance.between(300, 800), f2 = s.chance.between(900, 2300);
      const auto first = int64_t(at * s.rate), last = std::min(s.sound.frames(), first + int64_t(length * s.rate));
      for (int n = 1; n * pitch < std::min(9000.0, 0.45 * s.rate); ++n) {
        const double f = n * pitch;
        const double a =
            0.25 / n * (0.15 + std::exp(-std::pow((f - f1) / 120, 2)) * 3 + std::exp(-std::pow((f - f2) / 220, 2)) * 4);
        for (int64_t k = first; k < last; ++k) {
          const double u = double(k - first) / double(last - first), t = double(k - first) / s.rate;
          const double x = a * std::sin(std::numbers::pi * u) * std::sin(turn * f * t * (1 + 0.02 * u) + n);
          s.sound.channel(0)[size_t(k)] += x, s.sound.channel(1)[size_t(k)] += x;
        }
      }
    }
    at += length + (s.chance.uniform() < 0.15 ? s.chance.between(0.4, 0.9) : s.chance.between(0, 0.05));
  }
  for (int64_t k = 0; k < s.sound.frames(); ++k) {  // a room
    const double room = 2e-4 * s.chance.gaussian(), other = 1e-4 * s.chance.gaussian();
    s.sound.channel(0)[size_t(k)] += room + other, s.sound.channel(1)[size_t(k)] += room - other;
  }
}

void wide(Stage& s, double seconds) {
  for (double at = 0; at < seconds; at += 0.18) {
    s.pluck(at, s.note(130, 2000), 0.25, 0.6, s.chance.uniform() < 0.5 ? -0.98 : 0.98, 12);
    s.burst(at + 0.06, 0.12, 0.04, 5000, true, s.chance.uniform() < 0.5 ? -0.95 : 0.95);
  }
  double low[2]{};
  for (int64_t k = 0; k < s.sound.frames(); ++k)
    for (int c = 0; c < 2; ++c) {
      low[c] += 0.1 * (0.2 * s.chance.gaussian() - low[c]);
      s.sound.channel(c)[size_t(k)] += 0.5 * low[c];
    }
}

void near_mono(Stage& s, double seconds) {
  for (double at = 0; at < seconds; at += 0.2) {
    s.pluck(at, s.note(98, 1200), 0.3, 0.5, s.chance.between(-0.03, 0.03), 14);
    s.burst(at + 0.1, 0.1, 0.05, 3000, true, 0.01);
    if (int(at * 5) % 3 == 0) s.kick(at, 0.5);
  }
  for (int c = 0; c < 2; ++c)
    for (double& x : s.sound.channel(c)) x += 5e-4 * s.chance.gaussian();
}

void loop(Stage& s, double) {
  const auto bar = int64_t(2.0 * s.rate);
  for (int n = 0; n < 8; ++n) {
    s.pluck(0.25 * n, s.note(110, 880), 0.3, 0.15, s.chance.between(-0.5, 0.5), 10);
    s.burst(0.25 * n + 0.125, 0.2, 0.02, 6000, true, 0.2);
    if (n % 2 == 0) s.kick(0.25 * n, 0.6);
  }
  for (int c = 0; c < 2; ++c)
    for (int64_t k = bar; k < s.sound.frames(); ++k)
      s.sound.channel(c)[size_t(k)] = s.sound.channel(c)[size_t(k % bar)];
}

void from_silence(Stage& s, double seconds) {
  dense(s, seconds);
  for (int c = 0; c < 2; ++c)
    for (int64_t k = 0; k < s.sound.frames(); ++k) {
      const double u = (double(k) / s.rate - 0.8) / (0.4 * seconds);
      s.sound.channel(c)[size_t(k)] *= u <= 0 ? 0 : u >= 1 ? 1 : u * u;
    }
}

void bass(Stage& s, double seconds) {
  for (double at = 0; at < seconds; at += 0.5) {
    s.kick(at, 0.8);
    s.pluck(at + 0.25, s.note(36, 73), 0.6, 0.5, 0, 6, 0.01);
    s.burst(at + 0.25, 0.05, 0.03, 8000, true, 0.3);
    s.pluck(at, s.note(220, 660), 0.06, 0.8, s.chance.between(-0.7, 0.7), 8);
  }
}

void swells(Stage& s, double seconds) {
  double low[2]{}, slow[2]{}, level = 0.5, goal = 0.5;
  (void)seconds;
  for (int64_t k = 0; k < s.sound.frames(); ++k) {
    if (k % (s.rate * 2 / 3) == 0) goal = s.chance.between(0.06, 1);
    level += (goal - level) * 4 / s.rate;
    const double both = s.chance.gaussian();
    for (int c = 0; c < 2; ++c) {
      const double white = level * (0.6 * both + 0.8 * s.chance.gaussian());
      low[c] += 0.25 * (white - low[c]), slow[c] += 0.02 * (white - slow[c]);
      s.sound.channel(c)[size_t(k)] = 0.03 * white + 0.2 * low[c] + slow[c];
    }
  }
}

void drone(Stage& s, double) {
  for (int n = 0; n < 40; ++n) {
    const double f = s.note(55, 5000) * s.chance.between(0.995, 1.005), a = 0.2 / std::sqrt(1 + f / 200),
                 pan = s.chance.between(-0.8, 0.8);
    const double p = s.chance.between(0, turn), beat = s.chance.between(0.05, 0.4);
    auto wave = std::polar(a, p), slow = std::polar(0.4, 3 * p);
    const auto step = std::polar(1.0, turn * f / s.rate), slow_step = std::polar(1.0, turn * beat / s.rate);
    for (int64_t k = 0; k < s.sound.frames(); ++k, wave *= step, slow *= slow_step) {
      const double x = (0.6 + slow.imag()) * wave.imag();
      s.sound.channel(0)[size_t(k)] += x * (1 - pan), s.sound.channel(1)[size_t(k)] += x * (1 + pan);
    }
  }
  for (int c = 0; c < 2; ++c)
    for (double& x : s.sound.channel(c)) x += 1e-3 * s.chance.gaussian();
}

void drums(Stage& s, double seconds) {
  for (double at = 0.02; at < seconds; at += 0.21 * s.chance.between(0.97, 1.03)) {
    const double which = s.chance.uniform();
    if (which < 0.3)
      s.kick(at, s.chance.between(0.5, 0.9));
    else if (which < 0.6)
      s.burst(at, s.chance.between(0.3, 0.6), 0.07, 700, true, 0.1);
    else
      s.burst(at, s.chance.between(0.1, 0.3), s.chance.between(0.02, 0.3), 8000, true, s.chance.between(-0.6, 0.6));
    if (which > 0.8) s.pluck(at, s.note(80, 200), 0.4, 0.15, s.chance.between(-0.5, 0.5), 5);
  }
}

void choir(Stage& s, double seconds) {
  for (double at = -0.5; at < seconds; at += 0.8)
    for (int voice = 0; voice < 6; ++voice)
      s.pluck(at + s.chance.between(0, 0.3), s.note(130, 780), 0.12, 1.4, s.chance.between(-0.9, 0.9), 10, 0.25);
  double breath[2]{};
  for (int64_t k = 0; k < s.sound.frames(); ++k)
    for (int c = 0; c < 2; ++c) {
      const double white = 3e-3 * s.chance.gaussian();
      breath[c] += 0.3 * (white - breath[c]);
      s.sound.channel(c)[size_t(k)] += white - breath[c];
    }
}

}  // namespace

const std::vector<std::string>& programme_names() {
  static const std::vector<std::string> names{"dense",        "piano", "speech", "wide",  "near_mono", "loop",
                                              "from_silence", "bass",  "swells", "drone", "drums",     "choir"};
  return names;
}

Planar programme(const std::string& name, int rate_hz, double seconds, uint64_t seed) {
  Stage s{rate_hz, Planar(2, int64_t(seconds * rate_hz)), dsp::Noise(seed * 977 + 13)};
  const std::vector<void (*)(Stage&, double)> all{dense,        piano, speech, wide,  near_mono, loop,
                                                  from_silence, bass,  swells, drone, drums,     choir};
  const auto& names = programme_names();
  const auto at = std::find(names.begin(), names.end(), name);
  if (at == names.end()) throw std::invalid_argument("no programme " + name);
  all[size_t(at - names.begin())](s, seconds);
  double peak = 1e-9;
  for (int c = 0; c < 2; ++c)
    for (const double x : s.sound.channel(c)) peak = std::max(peak, std::abs(x));
  const double step = std::ldexp(1.0, -23);
  for (int c = 0; c < 2; ++c)
    for (double& x : s.sound.channel(c))
      x = x == 0 ? 0 : std::nearbyint(0.7 / peak * x / step + s.chance.triangular()) * step;
  return std::move(s.sound);
}

}  // namespace heathmist::test
