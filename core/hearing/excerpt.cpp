#include "core/hearing/excerpt.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "core/measure/meter.hpp"

namespace heathmist {

namespace {

std::optional<double> lufs_of(const Planar& sound, int rate_hz) {
  Meter meter(rate_hz, sound.channels());
  meter.add(sound);
  return meter.finish().integrated_lufs;
}

}  // namespace

Planar two_sided(const Planar& sound) {
  Planar two(2, sound.frames());
  for (int c = 0; c < 2; ++c) {
    const auto from = sound.channel(std::min(c, sound.channels() - 1));
    std::copy(from.begin(), from.end(), two.channel(c).begin());
  }
  return two;
}

double highest_sample(const Planar& sound) {
  double most = 0;
  for (int c = 0; c < sound.channels(); ++c)
    for (const double v : sound.channel(c)) most = std::max(most, std::abs(v));
  return most;
}

void turn(Planar& sound, double gain) {
  for (int c = 0; c < sound.channels(); ++c)
    for (double& v : sound.channel(c)) v *= gain;
}

Excerpt excerpt_of(const Clip& master, double from_s, double until_s, double longest_s) {
  const auto refuse = [&](const std::string& sentence) { throw InputError(master.path(), sentence); };
  if (!(until_s - from_s >= least_excerpt_s))
    refuse(fmt::format("{:.2f} s are too short to be heard and matched; select {} s or more", until_s - from_s,
                       least_excerpt_s));
  if (until_s - from_s > longest_s)
    refuse(fmt::format("{:.0f} s are too long to be compared by ear; select {:.0f} s or less", until_s - from_s,
                       longest_s));
  if (from_s < 0 || until_s > master.format().duration_s() + 1e-6) refuse("the excerpt lies outside of it");
  const int rate_hz = master.format().sample_rate_hz;
  Excerpt e;
  e.first = int64_t(std::llround(from_s * rate_hz));
  Planar own;
  master.reader()->read(e.first, std::min(master.format().frames, int64_t(std::llround(until_s * rate_hz))) - e.first,
                        own);
  e.sound = two_sided(own);
  const auto lufs = lufs_of(e.sound, rate_hz);
  if (!lufs) refuse("it is silent there; select another place");
  e.lufs = *lufs;
  return e;
}

/// Its own gates move with its level: a second time brings it there.
LoudnessMatch match_loudness(Planar& sound, int rate_hz, const std::filesystem::path& path, double to_lufs) {
  LoudnessMatch m;
  for (int round = 0; round < 4; ++round) {
    const auto is = lufs_of(sound, rate_hz);
    if (!is) throw InputError(path, "it is silent there; select another place");
    m.lufs = *is;
    const double by = to_lufs - *is;
    if (std::abs(by) < 0.001) return m;
    turn(sound, std::pow(10, by / 20)), m.gain_db += by;
  }
  m.lufs = lufs_of(sound, rate_hz).value_or(-200);
  if (std::abs(m.lufs - to_lufs) > equal_within_lu)
    throw InputError(path, "it can't be made equally loud there; select another place");
  return m;
}

}  // namespace heathmist
