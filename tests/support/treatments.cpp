#include "tests/support/treatments.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <numbers>
#include <stdexcept>

#include "core/dsp/fft.hpp"
#include "tests/support/programmes.hpp"
#include "tests/support/signals.hpp"

namespace heathmist::test {

namespace {

constexpr double turn = 2 * std::numbers::pi;

double decibels(double db) { return std::pow(10, db / 20); }

/// A biquad in direct form one.
Planar biquad(Planar sound, double b0, double b1, double b2, double a0, double a1, double a2) {
  for (int c = 0; c < sound.channels(); ++c) {
    double x1 = 0, x2 = 0, y1 = 0, y2 = 0;
    for (double& x : sound.channel(c)) {
      const double y = (b0 * x + b1 * x1 + b2 * x2 - a1 * y1 - a2 * y2) / a0;
      x2 = x1, x1 = x, y2 = y1, y1 = y, x = y;
    }
  }
  return sound;
}

Planar bell(Planar sound, double rate, double hz, double db, double q) {
  const double w = turn * hz / rate, a = decibels(db / 2), alpha = std::sin(w) / 2 / q, c = -2 * std::cos(w);
  return biquad(std::move(sound), 1 + alpha * a, c, 1 - alpha * a, 1 + alpha / a, c, 1 - alpha / a);
}

Planar shelf(Planar sound, double rate, double hz, double db, bool high) {
  const double w = turn * hz / rate, a = decibels(db / 2), c = std::cos(w), s = std::sqrt(2 * a) * std::sin(w);
  const double t = high ? -1 : 1;
  return biquad(std::move(sound), a * (a + 1 - t * (a - 1) * c + s), t * 2 * a * (a - 1 - t * (a + 1) * c),
                a * (a + 1 - t * (a - 1) * c - s), a + 1 + t * (a - 1) * c + s, -t * 2 * (a - 1 + t * (a + 1) * c),
                a + 1 + t * (a - 1) * c - s);
}

Planar high_pass(Planar sound, double rate, double hz, double q = 0.7071) {
  const double w = turn * hz / rate, c = std::cos(w), alpha = std::sin(w) / 2 / q;
  return biquad(std::move(sound), (1 + c) / 2, -(1 + c), (1 + c) / 2, 1 + alpha, -2 * c, 1 - alpha);
}

Planar all_pass(Planar sound, double rate, double hz, double q = 0.7) {
  const double w = turn * hz / rate, c = std::cos(w), alpha = std::sin(w) / 2 / q;
  return biquad(std::move(sound), 1 - alpha, -2 * c, 1 + alpha, 1 + alpha, -2 * c, 1 - alpha);
}

double rms_of(const Planar& sound) {
  double sum = 0;
  for (int c = 0; c < sound.channels(); ++c)
    for (const double x : sound.channel(c)) sum += x * x;
  return std::sqrt(sum / double(sound.frames() * sound.channels()));
}

Planar mixed(Planar s, double ll, double lr, double rl, double rr) {
  for (size_t n = 0; n < size_t(s.frames()); ++n) {
    const double l = s.channel(0)[n], r = s.channel(1)[n];
    s.channel(0)[n] = ll * l + lr * r, s.channel(1)[n] = rl * l + rr * r;
  }
  return s;
}

Planar put_in(const Planar& s, int64_t at, int64_t frames, bool again) {
  Planar out(s.channels(), s.frames() + frames);
  for (int c = 0; c < s.channels(); ++c) {
    std::copy_n(s.channel(c).begin(), at, out.channel(c).begin());
    if (again) std::copy_n(s.channel(c).begin() + at - frames, frames, out.channel(c).begin() + at);
    std::copy(s.channel(c).begin() + at, s.channel(c).end(), out.channel(c).begin() + at + frames);
  }
  return out;
}

/// Gain computer and smoothing of a plain compressor (peak of both channels, in dB).
Planar squeezed(Planar s, int rate, double threshold_db, double slope, bool above, double attack_s, double release_s) {
  double gain = 0;
  const double up = std::exp(-1 / (attack_s * rate)), down = std::exp(-1 / (release_s * rate));
  double level = -100;
  const double fall = 1 - std::exp(-1 / (0.02 * rate));
  for (size_t n = 0; n < size_t(s.frames()); ++n) {
    const double x = std::max(std::abs(s.channel(0)[n]), std::abs(s.channel(1)[n]));
    const double db = 20 * std::log10(std::max(x, 1e-5));
    level = db > level ? db : level + (db - level) * fall;
    const double over = above ? std::max(0.0, level - threshold_db) : std::min(0.0, level - threshold_db);
    const double goal = slope * over;
    const double keep = goal < gain ? up : down;
    gain = goal + keep * (gain - goal);
    const double g = decibels(std::max(-40.0, gain));
    s.channel(0)[n] *= g, s.channel(1)[n] *= g;
  }
  return s;
}

Planar limited(Planar s, int rate, double ceiling) {
  const auto ahead = int64_t(0.002 * rate);
  const int64_t frames = s.frames();
  std::vector<double> need(size_t(frames) + size_t(ahead), 1);
  for (int64_t n = 0; n < frames; ++n) {
    const double x = std::max(std::abs(s.channel(0)[size_t(n)]), std::abs(s.channel(1)[size_t(n)]));
    need[size_t(n)] = std::min(1.0, ceiling / std::max(x, 1e-9));
  }
  double gain = 1;
  const double back = 1 - std::exp(-1 / (0.08 * rate));
  std::vector<double> gains(static_cast<size_t>(frames));
  for (int64_t n = 0; n < frames; ++n) {
    double least = 1;
    for (int64_t k = n; k <= n + ahead; ++k) least = std::min(least, need[size_t(k)]);
    gain = std::min(least, gain + (1 - gain) * back);
    gains[size_t(n)] = gain;
  }
  for (int c = 0; c < 2; ++c)
    for (int64_t n = 0; n < frames; ++n) s.channel(c)[size_t(n)] *= gains[size_t(n)];
  return s;
}

Planar with_tail(const Planar& s, int rate, double t60, double level, dsp::Noise& chance) {
  const auto frames = int64_t(std::min(1.2, t60) * rate);
  std::vector<double> h(static_cast<size_t>(frames));
  double energy = 0;
  for (int64_t n = int64_t(0.012 * rate); n < frames; ++n) {
    h[size_t(n)] = chance.gaussian() * std::pow(10, -3.0 * double(n) / rate / t60);
    energy += h[size_t(n)] * h[size_t(n)];
  }
  size_t size = 1;
  while (size < size_t(s.frames() + frames)) size *= 2;
  dsp::RealFft<double> a(size), b(size);
  std::fill(a.time().begin(), a.time().end(), 0.0);
  for (int64_t n = 0; n < frames; ++n) a.time()[size_t(n)] = h[size_t(n)] * level / std::sqrt(energy);
  a.forward();
  Planar out = s;
  for (int c = 0; c < s.channels(); ++c) {
    std::fill(b.time().begin(), b.time().end(), 0.0);
    std::copy(s.channel(c).begin(), s.channel(c).end(), b.time().begin());
    b.forward();
    for (size_t k = 0; k < b.bins(); ++k) b.spectrum()[k] *= a.spectrum()[k];
    b.inverse();
    for (int64_t n = 0; n < s.frames(); ++n) out.channel(c)[size_t(n)] += b.time()[size_t(n)] / double(size);
  }
  return out;
}

/// Every channel later by samples that are no whole number, by the FFT of the whole.
Planar between_samples(const Planar& s, const std::vector<double>& by) {
  size_t size = 1;
  while (size < size_t(s.frames()) + 8192) size *= 2;
  dsp::RealFft<double> fft(size);
  Planar out = s;
  for (int c = 0; c < s.channels(); ++c) {
    std::fill(fft.time().begin(), fft.time().end(), 0.0);
    std::copy(s.channel(c).begin(), s.channel(c).end(), fft.time().begin());
    fft.forward();
    for (size_t k = 0; k < fft.bins(); ++k)
      fft.spectrum()[k] *= std::polar(1.0, -turn * double(k) / double(size) * by[size_t(c)]);
    fft.inverse();
    for (int64_t n = 0; n < s.frames(); ++n) out.channel(c)[size_t(n)] = fft.time()[size_t(n)] / double(size);
  }
  return out;
}

/// Something done to the channels' sum, or to their difference, alone.
Planar mid_or_side(const Planar& s, bool side, const std::function<Planar(Planar)>& run) {
  Planar there(1, s.frames());
  const double sign = side ? -1 : 1;
  for (size_t n = 0; n < size_t(s.frames()); ++n) there.channel(0)[n] = (s.channel(0)[n] + sign * s.channel(1)[n]) / 2;
  const Planar made = run(there);
  Planar out = s;
  for (size_t n = 0; n < size_t(s.frames()); ++n) {
    const double moved = made.channel(0)[n] - there.channel(0)[n];
    out.channel(0)[n] += moved, out.channel(1)[n] += sign * moved;
  }
  return out;
}

int64_t somewhere(const Planar& s, dsp::Noise& chance) {
  return int64_t(chance.between(0.3, 0.7) * double(s.frames()));
}

using Named = std::pair<std::string, Treatment>;

std::vector<Named> make() {
  using P = Planar;
  using N = dsp::Noise;
  std::vector<Named> all;
  const auto add = [&](const char* name, const char* code, const char* kind, std::function<P(P, int, N&)> run,
                       std::set<std::string> not_on = {}, WordFormat word = WordFormat::pcm24) {
    all.push_back({name, {code, kind, std::move(run), word, std::move(not_on)}});
  };
  const auto float32 = WordFormat::float32;
  add("delay", "delay", "shifted", [](P s, int, N& c) { return late(s, int64_t(c.between(1, 30000))); });
  add("between samples", "delay", "shifted", [](P s, int, N& c) {
    const double d = c.between(0.05, 0.95);
    return between_samples(s, {d, d});
  });
  add("one channel late", "channel_delay", "linear", [](P s, int, N& c) {
    return between_samples(s, {0, std::round(c.between(1, 40))});
  });
  add("gain", "gain", "level", [](P s, int, N& c) { return scaled(std::move(s), decibels(-c.between(0.1, 12))); });
  add("inverted", "polarity", "level", [](P s, int, N&) { return scaled(std::move(s), -1); });
  add("swapped", "swap", "level", [](P s, int, N&) { return mixed(std::move(s), 0, 1, 1, 0); },
      {"near_mono", "speech"});
  add("one louder", "channel_gain", "linear",
      [](P s, int, N& c) { return mixed(std::move(s), 1, 0, 0, decibels(c.between(0.3, 3))); });
  add("fade out", "fade", "changed",
      [](P s, int rate, N& c) {
        const double length = c.between(1, 4) * rate, end = double(s.frames());
        const int law = int(c.between(0, 4));
        return gained(std::move(s), [=](int64_t n) {
          const double u = std::clamp((double(n) - end + length) / length, 0.0, 1.0);
          return law == 0   ? 1 - u
                 : law == 1 ? 0.5 + 0.5 * std::cos(0.5 * turn * u)
                 : law == 2 ? std::cos(0.25 * turn * u)
                 : u > 0    ? std::pow(10, -3 * u)
                            : 1.0;
        });
      },
      {"piano"});
  add("fade in", "fade", "changed",
      [](P s, int rate, N& c) {
        const double length = c.between(1, 4) * rate;
        const int law = int(c.between(0, 3));
        return gained(std::move(s), [=](int64_t n) {
          const double u = std::min(1.0, double(n) / length);
          return law == 0 ? u : law == 1 ? 0.5 - 0.5 * std::cos(0.5 * turn * u) : std::sin(0.25 * turn * u);
        });
      },
      {"from_silence"});
  add("step", "gain_step", "changed", [](P s, int, N& c) {
    const int64_t at = somewhere(s, c);
    const double g = decibels((c.uniform() < 0.5 ? -1 : 1) * c.between(0.5, 3));
    return gained(std::move(s), [=](int64_t n) { return n < at ? 1.0 : g; });
  });
  add("ride", "gain_ride", "changed", [](P s, int rate, N& c) {
    const double depth = c.between(0.5, 3), speed = c.between(0.08, 0.25), phase = c.between(0, turn);
    return gained(std::move(s),
                  [=](int64_t n) { return decibels(depth * std::sin(turn * speed * double(n) / rate + phase) - 3); });
  });
  add("tremolo", "gain_ride", "changed", [](P s, int rate, N& c) {
    const double depth = c.between(0.05, 0.3), speed = c.between(1.5, 9), phase = c.between(0, turn);
    return gained(std::move(s),
                  [=](int64_t n) { return 1 - depth * (1 + std::sin(turn * speed * double(n) / rate + phase)); });
  });
  add("mute", "mute", "changed",
      [](P s, int rate, N& c) {
        const int64_t at = somewhere(s, c), end = at + int64_t(c.between(0.6, 1.5) * rate);
        return gained(std::move(s), [=](int64_t n) { return n < at || n >= end ? 1.0 : 0.0; });
      },
      {"piano"});
  add("dropout", "dropout", "changed",
      [](P s, int rate, N& c) {
        const int64_t at = somewhere(s, c), end = at + int64_t(c.between(0.02, 0.15) * rate);
        return gained(std::move(s), [=](int64_t n) { return n < at || n >= end ? 1.0 : 0.0; });
      },
      {"piano", "speech"});
  add("splice", "splice", "changed",
      [](P s, int rate, N& c) { return cut_out(s, somewhere(s, c), int64_t(c.between(0.03, 0.5) * rate)); },
      {"piano", "loop", "speech"});
  add("insert", "insert", "changed",
      [](P s, int rate, N& c) { return put_in(s, somewhere(s, c), int64_t(c.between(0.05, 0.5) * rate), false); },
      {"piano", "loop", "speech"});
  add("repeat", "repeat", "changed",
      [](P s, int rate, N& c) { return put_in(s, somewhere(s, c), int64_t(c.between(0.05, 0.5) * rate), true); },
      {"piano", "loop", "speech"});
  add("silent channel", "silent_channel", "changed", [](P s, int, N&) { return mixed(std::move(s), 1, 0, 0, 0); });
  add("width", "width", "linear",
      [](P s, int, N& c) {
        const double g = decibels((c.uniform() < 0.5 ? -1 : 1) * c.between(1, 6)), a = (1 + g) / 2, b = (1 - g) / 2;
        return mixed(std::move(s), a, b, b, a);
      },
      {"near_mono", "speech", "bass"});
  add("mono", "mono", "linear", [](P s, int, N&) { return mixed(std::move(s), 0.5, 0.5, 0.5, 0.5); },
      {"near_mono", "speech"});
  add("one side in both", "copied_channel", "linear", [](P s, int, N&) { return mixed(std::move(s), 1, 0, 1, 0); },
      {"near_mono", "speech"});
  add("crosstalk", "crosstalk", "linear",
      [](P s, int, N& c) { return mixed(std::move(s), 1, 0, decibels(-c.between(20, 50)), 1); },
      {"near_mono", "speech"});
  add("bell", "eq", "linear", [](P s, int rate, N& c) {
    return bell(std::move(s), rate, 60 * std::pow(100, c.uniform()), (c.uniform() < 0.5 ? -1 : 1) * c.between(1, 6),
                c.between(0.6, 4));
  });
  add("low shelf", "eq", "linear", [](P s, int rate, N& c) {
    return shelf(std::move(s), rate, c.between(60, 250), (c.uniform() < 0.5 ? -1 : 1) * c.between(1, 5), false);
  });
  add("high shelf", "eq", "linear", [](P s, int rate, N& c) {
    return shelf(std::move(s), rate, c.between(3000, 9000), (c.uniform() < 0.5 ? -1 : 1) * c.between(1, 5), true);
  });
  add("high pass", "eq", "linear",
      [](P s, int rate, N& c) { return high_pass(std::move(s), rate, c.between(25, 90)); });
  add("side shelf", "eq", "linear",
      [](P s, int rate, N& c) {
        const double hz = c.between(3000, 9000), db = (c.uniform() < 0.5 ? -1 : 1) * c.between(1.5, 5);
        return mid_or_side(s, true, [&](P side) { return shelf(std::move(side), rate, hz, db, true); });
      },
      {"near_mono", "speech"});
  add("side high pass", "eq", "linear",
      [](P s, int rate, N& c) {
        const double hz = c.between(80, 200);
        return mid_or_side(s, true, [&](P side) { return high_pass(std::move(side), rate, hz); });
      },
      {"near_mono", "speech"});
  add("mid bell", "eq", "linear", [](P s, int rate, N& c) {
    const double hz = 60 * std::pow(100, c.uniform()), db = (c.uniform() < 0.5 ? -1 : 1) * c.between(1, 6);
    return mid_or_side(s, false, [&](P mid) { return bell(std::move(mid), rate, hz, db, c.between(0.6, 4)); });
  });
  add("all pass", "phase", "linear",  // of a voice or a piano alone, the phase is taken for a delay
      [](P s, int rate, N& c) { return all_pass(std::move(s), rate, c.between(100, 900)); }, {"speech", "piano"});
  add("echo", "echo", "linear",
      [](P s, int rate, N& c) {
        P e = late(s, int64_t(c.between(0.03, 0.4) * rate));
        const double g = decibels(-c.between(8, 24));
        for (int k = 0; k < 2; ++k)
          for (int64_t n = 0; n < s.frames(); ++n) s.channel(k)[size_t(n)] += g * e.channel(k)[size_t(n)];
        return s;
      },
      {"loop", "drone"});
  add("reverb", "reverb", "linear",
      [](P s, int rate, N& c) {
        const double t = c.between(0.4, 1.2), g = decibels(-c.between(8, 16));
        return with_tail(s, rate, t, g, c);
      },
      {"loop", "drone"});
  add("truncated", "word_length", "word_length", [](P s, int, N& c) {
    const double step = std::ldexp(1.0, 1 - (c.uniform() < 0.5 ? 16 : 12));
    return bent(std::move(s), [=](double x) { return std::floor(x / step) * step; });
  });
  add("rounded", "word_length", "word_length",
      [](P s, int, N& c) { return requantised(s, int(c.between(5, 17)), false, c.bits()); });
  add("dithered", "word_length", "word_length",
      [](P s, int, N& c) { return requantised(s, int(c.between(8, 17)), true, c.bits()); });
  add(
      "dithered in float", "word_length", "word_length",
      [](P s, int, N& c) { return requantised(s, 16, true, c.bits()); }, {}, float32);
  add("clip", "clip", "limited", [](P s, int, N& c) {
    const double at = c.between(0.45, 0.8) * peak_of(s);
    return bent(std::move(s), [=](double x) { return std::clamp(x, -at, at); });
  });
  add("saturation", "distortion", "limited", [](P s, int, N& c) {
    const double d = c.between(0.8, 2.5);
    return bent(std::move(s), [=](double x) { return std::tanh(d * x) / d; });
  });
  add("uneven curve", "distortion", "limited", [](P s, int, N& c) {
    const double a = c.between(0.003, 0.05);
    return bent(std::move(s), [=](double x) { return x + a * x * x; });
  });
  add("limiter", "limiter", "limited", [](P s, int rate, N& c) {
    const double at = c.between(0.4, 0.65) * peak_of(s);
    return limited(std::move(s), rate, at);
  });
  add("compressor", "compressor", "limited",
      [](P s, int rate, N& c) {
        const double level = 20 * std::log10(rms_of(s));
        return squeezed(std::move(s), rate, level + 1, -c.between(0.35, 0.75), true, c.between(0.004, 0.02),
                        c.between(0.08, 0.2));
      },
      {"drone"});
  add("expander", "expander", "limited",
      [](P s, int rate, N& c) {
        const double level = 20 * std::log10(rms_of(s));
        return squeezed(std::move(s), rate, level, c.between(0.5, 1.5), false, 0.1, 0.01);
      },
      {"drone", "choir", "wide", "near_mono"});
  add("dc", "dc", "noise", [](P s, int, N& c) {
    const double d = decibels(-c.between(40, 75));
    return bent(std::move(s), [=](double x) { return x + d; });
  });
  add("hum", "hum", "noise", [](P s, int rate, N& c) {
    const double f = c.uniform() < 0.5 ? 50 : 60, g = decibels(-c.between(45, 70));
    for (int k = 0; k < 2; ++k)
      for (int64_t n = 0; n < s.frames(); ++n)
        for (int h = 1; h <= 3; ++h) s.channel(k)[size_t(n)] += g / h * std::sin(turn * f * h * double(n) / rate + h);
    return s;
  });
  add("tone", "tone", "noise", [](P s, int rate, N& c) {
    const double f = c.between(900, 9000), g = decibels(-c.between(45, 75));
    for (int k = 0; k < 2; ++k)
      for (int64_t n = 0; n < s.frames(); ++n) s.channel(k)[size_t(n)] += g * std::sin(turn * f * double(n) / rate);
    return s;
  });
  add("clicks", "clicks", "noise", [](P s, int, N& c) {
    const int count = int(c.between(3, 12));
    for (int k = 0; k < count; ++k) {
      const auto at = size_t(c.between(0.02, 0.97) * double(s.frames()));
      const double g = (c.uniform() < 0.5 ? -1 : 1) * c.between(0.08, 0.4);
      for (size_t n = 0; n < 6; ++n)
        for (int ch = 0; ch < 2; ++ch) s.channel(ch)[at + n] += g * std::pow(-0.55, double(n));
    }
    return s;
  });
  add("noise", "noise", "noise",
      [](P s, int, N& c) { return with_noise(std::move(s), decibels(-c.between(45, 85)), c.bits()); });
  add("other programme", "other_programme", "changed", [](P s, int rate, N& c) {
    const auto& names = programme_names();
    const P o = programme(names[c.bits() % 2 ? 2 : 0], rate, double(s.frames()) / rate, c.bits() % 1000 + 5000);
    const double g = decibels(-c.between(12, 30));
    for (int k = 0; k < 2; ++k)
      for (size_t n = 0; n < size_t(s.frames()); ++n) s.channel(k)[n] += g * o.channel(k)[n];
    return s;
  });
  add("difference", "mono", "linear", [](P s, int, N&) { return mixed(std::move(s), 0.5, -0.5, 0.5, -0.5); });
  return all;
}

const std::vector<Named>& named() {
  static const auto all = make();
  return all;
}

}  // namespace

Planar filtered(Planar sound, double rate_hz, const std::string& what, double hz, double q, double db) {
  if (what == "bell") return bell(std::move(sound), rate_hz, hz, db, q);
  if (what == "all pass") return all_pass(std::move(sound), rate_hz, hz, q);
  if (what == "high pass") return high_pass(std::move(sound), rate_hz, hz, q);
  return shelf(std::move(sound), rate_hz, hz, db, what == "high shelf");
}

Planar bent(Planar sound, const std::function<double(double)>& curve) {
  for (int c = 0; c < sound.channels(); ++c)
    for (double& x : sound.channel(c)) x = curve(x);
  return sound;
}

Planar late(const Planar& sound, int64_t frames) {
  Planar out(sound.channels(), sound.frames() + frames);
  for (int c = 0; c < sound.channels(); ++c)
    std::copy(sound.channel(c).begin(), sound.channel(c).end(), out.channel(c).begin() + frames);
  return out;
}

Planar cut_out(const Planar& sound, int64_t at, int64_t frames) {
  Planar out(sound.channels(), sound.frames() - frames);
  for (int c = 0; c < sound.channels(); ++c) {
    std::copy_n(sound.channel(c).begin(), at, out.channel(c).begin());
    std::copy(sound.channel(c).begin() + at + frames, sound.channel(c).end(), out.channel(c).begin() + at);
  }
  return out;
}

Planar with_wow(const Planar& sound, double rate_hz, double hz, double depth) {
  using std::numbers::pi;
  Planar out(sound.channels(), sound.frames());
  for (int64_t n = 0; n < sound.frames(); ++n) {
    const double place = double(n) - depth * (1 + std::sin(2 * pi * hz * double(n) / rate_hz)),
                 whole = std::floor(place);
    const double turned = std::sin(pi * (place - whole)) / pi;  // sin(pi u) of each tap, but for its sign
    std::array<double, 64> taps;
    for (int k = 0; k < 64; ++k) {
      const double u = place - whole + 31 - k, lobe = std::cos(pi * u / 66);
      taps[size_t(k)] = std::abs(u) < 1e-9 ? 1 : (k % 2 ? turned : -turned) / u * lobe * lobe;
    }
    for (int c = 0; c < sound.channels(); ++c) {
      double sum = 0;
      for (int k = 0; k < 64; ++k)
        if (const int64_t at = int64_t(whole) - 31 + k; at >= 0 && at < sound.frames())
          sum += sound.channel(c)[size_t(at)] * taps[size_t(k)];
      out.channel(c)[size_t(n)] = sum;
    }
  }
  return out;
}

Planar with_spectrum(const Planar& sound, double rate_hz, const std::function<double(double hz)>& gain) {
  dsp::RealFft<double> fft(dsp::good_fft_size(size_t(sound.frames()) + 65536));
  const auto size = double(fft.size());
  Planar out = sound;
  for (int c = 0; c < sound.channels(); ++c) {
    std::fill(fft.time().begin(), fft.time().end(), 0.0);
    std::copy(sound.channel(c).begin(), sound.channel(c).end(), fft.time().begin());
    fft.forward();
    for (size_t k = 0; k < fft.bins(); ++k) fft.spectrum()[k] *= gain(rate_hz * double(k) / size) / size;
    fft.inverse();
    std::copy_n(fft.time().begin(), sound.frames(), out.channel(c).begin());
  }
  return out;
}

Planar with_dynamics(Planar s, double rate_hz, const Dynamics& d, double before) {
  std::vector<double> gains;
  double level = before;
  for (size_t n = 0; n < size_t(s.frames()); ++n) {
    double now = 0;
    for (int c = 0; c < s.channels(); ++c) {
      const double x = std::abs(s.channel(c)[n]);
      now = d.of_mean ? now + x / s.channels() : std::max(now, x);
    }
    if (d.squares) now *= now;
    level += (now - level) * (1 - std::exp(-1 / (rate_hz * (now > level ? d.attack_s : d.release_s))));
    gains.push_back(decibels(d.gain_db((d.squares ? 10 : 20) * std::log10(level + 1e-12))));
  }
  return gained(std::move(s), [&](size_t n) { return gains[n]; });
}

Planar gained(Planar s, const std::function<double(size_t n)>& gain) {
  for (int c = 0; c < s.channels(); ++c)
    for (size_t n = 0; n < size_t(s.frames()); ++n) s.channel(c)[n] *= gain(n);
  return s;
}

const std::vector<Treatment>& treatments() {
  static const auto all = [] {
    std::vector<Treatment> only;
    for (const auto& n : named()) only.push_back(n.second);
    return only;
  }();
  return all;
}

const std::vector<std::string>& treatment_names() {
  static const auto all = [] {
    std::vector<std::string> only;
    for (const auto& n : named()) only.push_back(n.first);
    return only;
  }();
  return all;
}

const Treatment& treatment(const std::string& name) {
  for (const auto& n : named())
    if (n.first == name) return n.second;
  throw std::invalid_argument("no treatment " + name);
}

}  // namespace heathmist::test
