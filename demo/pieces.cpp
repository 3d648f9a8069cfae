#include "demo/pieces.hpp"

#include <array>
#include <cmath>
#include <numbers>

#include "demo/instruments.hpp"

namespace heathmist::demo {

namespace {

/// Frequency of a step of the scale the quartet plays in: D dorian from 73.4 Hz.
double note(int step) {
  static constexpr std::array<int, 7> semitones{0, 2, 3, 5, 7, 9, 10};
  const int octave = step >= 0 ? step / 7 : -((6 - step) / 7);
  return 73.416 * std::pow(2.0, octave + semitones[size_t(step - 7 * octave)] / 12.0);
}

}  // namespace

Piece mill_race() {
  Score s(96000, 72, 101);
  auto& chance = s.chance();
  static constexpr std::array<int, 8> bass{0, 0, 4, 2, 0, 5, 4, 3};
  for (int beat = 0; beat * 0.5 < 69; ++beat) {
    const double at = 0.4 + beat * 0.5, density = at > 18 && at < 52 ? 1.0 : 0.55;
    if (beat % 2 == 0) s.clank(at, beat % 8 == 0 ? 310 : 430 + 40 * (beat % 3), 0.5 * density, beat % 4 ? 0.35 : -0.3);
    if (beat % 2 == 1 && density == 1) s.clank(at + 0.25, 910, 0.18, 0.6);
    s.pluck(at, note(bass[size_t(beat / 4) % 8]), 0.7, -0.1);
    for (int k = 0; k < (density == 1 ? 3 : 1); ++k)
      s.pluck(at + 0.125 * k + chance.between(0, 0.008),
              note(7 + bass[size_t(beat / 4) % 8] + 2 * int(chance.between(0, 5))), 0.4 * density,
              chance.between(-0.7, 0.7));
    if (beat % 16 == 8) s.bell(at, note(14 + int(chance.between(0, 6))), 0.35, chance.between(-0.5, 0.5));
  }
  s.water(0.02, 2);
  s.room(0.16, 1.1);
  s.soften(16000);
  s.fade_out(2);
  s.set_peak(-0.8);
  return {"Mill Race", "mill-race.wav", 96000, 24, std::move(s.sound())};
}

Piece slack_water() {
  Score s(96000, 60, 202);
  auto& chance = s.chance();
  s.drone(0, 40, note(0), 0.10, -0.3);
  s.drone(8, 50, note(4), 0.07, 0.4);
  s.drone(22, 38, note(-3), 0.09, 0);
  for (double at = 3; at < 54; at += chance.between(2.2, 5.0))
    s.bell(at, note(9 + int(chance.between(0, 9))), chance.between(0.08, 0.22), chance.between(-0.9, 0.9));
  s.water(0.012, 4);
  s.room(0.3, 2.6);
  s.soften(14000);
  s.fade_out(2);
  s.set_peak(-7.5);
  return {"Slack Water", "slack-water.wav", 96000, 24, std::move(s.sound())};
}

Piece lantern_walk(uint64_t take) {
  Score s(44100, 54, 303 + take);
  auto& chance = s.chance();
  static constexpr std::array<int, 12> roots{0, 0, 3, 3, 4, 4, 0, 0, 5, 3, 4, 0};
  double at = 0.5 + chance.between(0, 0.6);
  const double bar = 1.32 * chance.between(0.96, 1.04);
  for (int n = 0; at < 50; ++n, at += bar * chance.between(0.985, 1.015)) {
    const int root = roots[size_t(n) % roots.size()];
    s.pluck(at, note(root), 0.8, -0.15);
    for (int k = 1; k < 3; ++k)
      for (const int step : {9, 11}) s.pluck(at + bar * k / 3 + chance.between(0, 0.015), note(root + step), 0.33, 0.2);
    for (int k = 0; k < 3; ++k)
      if (chance.uniform() < 0.7)
        s.pluck(at + bar * k / 3 + chance.between(0, 0.01), note(14 + root + 2 * int(chance.between(0, 4))), 0.5, 0.05);
  }
  s.room(0.12, 0.9);
  s.soften(11000);
  s.fade_out(2);
  s.set_peak(-1.5);
  return {"Lantern Walk", "lantern-walk.wav", 44100, 16, std::move(s.sound())};
}

Piece spoken_tide() {
  Score s(48000, 47, 404);
  auto& chance = s.chance();
  double at = 1.0;
  while (at < 44) {  // phrases of a few syllables, then a breath
    const int syllables = 4 + int(chance.between(0, 6));
    const double pitch = chance.between(104, 132);
    for (int n = 0; n < syllables && at < 45; ++n) {
      if (chance.uniform() < 0.5) s.breath(at - 0.05, 0.09, chance.between(0.1, 0.3));
      const double length = chance.between(0.12, 0.3);
      s.syllable(at, length, pitch * (1.1 - 0.03 * n), int(chance.between(0, 5)), chance.between(0.5, 1), 0.05);
      at += length + chance.between(0.02, 0.09);
    }
    at += chance.between(0.5, 1.1);
  }
  s.water(0.01, 3);
  s.room(0.06, 0.5);
  s.soften(12000);
  s.fade_out(2);
  s.set_peak(-4);
  return {"Spoken Tide", "spoken-tide.wav", 48000, 24, std::move(s.sound())};
}

Piece weir_by_lamplight() {
  constexpr int rate = 96000;
  constexpr double supply_hz = 27400, supply_level = 0.02;
  Score s(rate, 26, 505);
  auto& chance = s.chance();
  for (int n = 0; n < 4; ++n) s.drone(0.5 + 5.5 * n, 8, note(n % 2 ? 3 : 0) / 2, 0.35, n % 2 ? 0.4 : -0.4);
  for (double at = 1.5; at < 21; at += chance.between(1.4, 2.6))
    s.bell(at, note(7 + 2 * int(chance.between(0, 5))), chance.between(0.3, 0.7), chance.between(-0.6, 0.6));
  s.water(0.02, 2);
  s.room(0.15, 1.2);
  s.soften(14000);
  s.fade_out(3);
  s.set_peak(-4);
  for (int c = 0; c < 2; ++c)  // the lamp's supply sings where nobody hears it, until something folds it down
    for (size_t n = 0; n < size_t(s.sound().frames()); ++n)
      s.sound().channel(c)[n] +=
          supply_level * std::sin(2 * std::numbers::pi * std::remainder(supply_hz * double(n) / rate, 1.0));
  return {"Weir by Lamplight", "weir-by-lamplight.wav", rate, 24, std::move(s.sound())};
}

}  // namespace heathmist::demo
