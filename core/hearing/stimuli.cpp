#include "core/hearing/stimuli.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "core/audio/scratch.hpp"
#include "core/compare/manual_fit.hpp"
#include "core/measure/meter.hpp"

namespace heathmist {

namespace {

constexpr double full_scale = 0.999;  // of a sample; what lies between them is the converter's headroom

/// Left and right; a single channel is both.
Planar stereo_of(const Planar& sound) {
  Planar two(2, sound.frames());
  for (int c = 0; c < 2; ++c) {
    const auto from = sound.channel(std::min(c, sound.channels() - 1));
    std::copy(from.begin(), from.end(), two.channel(c).begin());
  }
  return two;
}

/// As it lies on the master: delay and drift taken out, and nothing else.
Planar laid(const ToHear& one, int64_t first, int64_t frames) {
  Planar out;
  AlignedReturn(*one.ret, one.fit).read(first, frames, out);
  return stereo_of(out);
}

std::filesystem::path path_of(const ToHear& one) { return one.ret ? one.ret->path() : std::filesystem::path(one.name); }

double peak_of(const Planar& sound) {
  double most = 0;
  for (int c = 0; c < sound.channels(); ++c)
    for (const double v : sound.channel(c)) most = std::max(most, std::abs(v));
  return most;
}

void turn(Planar& sound, double gain) {
  for (int c = 0; c < sound.channels(); ++c)
    for (double& v : sound.channel(c)) v *= gain;
}

std::optional<double> lufs_of(const Planar& sound, int rate_hz) {
  Meter meter(rate_hz, sound.channels());
  meter.add(sound);
  return meter.finish().integrated_lufs;
}

void check_excerpt(const Clip& master, double from_s, double until_s) {
  const auto refuse = [&](const std::string& sentence) { throw InputError(master.path(), sentence); };
  if (until_s - from_s < least_excerpt_s)
    refuse(fmt::format("{:.2f} s are too short to be heard and matched; select {} s or more", until_s - from_s,
                       least_excerpt_s));
  if (until_s - from_s > longest_excerpt_s)
    refuse(fmt::format("{:.0f} s are too long to be compared by ear; select {:.0f} s or less", until_s - from_s,
                       longest_excerpt_s));
  if (from_s < 0 || until_s > master.format().duration_s() + 1e-6) refuse("the excerpt lies outside of it");
}

/// Its own gates move with its level: a second time brings it there.
void match(Stimuli& s, size_t n, const ToHear& one, double to_lufs) {
  for (int round = 0; round < 4; ++round) {
    const auto is = lufs_of(s.sound[n], s.rate_hz);
    if (!is) throw InputError(path_of(one), "it is silent there; select another place");
    s.lufs[n] = *is;
    const double by = to_lufs - *is;
    if (std::abs(by) < 0.001) return;
    turn(s.sound[n], std::pow(10, by / 20)), s.gain_db[n] += by;
  }
  s.lufs[n] = lufs_of(s.sound[n], s.rate_hz).value_or(-200);
  if (std::abs(s.lufs[n] - to_lufs) > equal_within_lu)
    throw InputError(path_of(one), "it can't be made equally loud there; select another place");
}

}  // namespace

bool Stimuli::same(size_t one, size_t other) const {
  for (int c = 0; c < 2; ++c)
    if (!std::equal(sound[one].channel(c).begin(), sound[one].channel(c).end(), sound[other].channel(c).begin()))
      return false;
  return true;
}

Stimuli make_stimuli(const Clip& master, double from_s, double until_s, std::span<const ToHear> others,
                     const Job& job) {
  check_excerpt(master, from_s, until_s);
  Stimuli s;
  s.rate_hz = master.format().sample_rate_hz;
  const auto first = int64_t(std::llround(from_s * s.rate_hz));
  const int64_t frames = std::min(master.format().frames, int64_t(std::llround(until_s * s.rate_hz))) - first;
  Planar own;
  master.reader()->read(first, frames, own);
  s.sound.push_back(stereo_of(own));
  const auto lufs = lufs_of(s.sound[0], s.rate_hz);
  if (!lufs) throw InputError(master.path(), "it is silent there; select another place");
  s.lufs.assign(others.size() + 1, *lufs), s.gain_db.assign(others.size() + 1, 0);
  for (size_t n = 0; n < others.size(); ++n) {
    job.check();
    const ToHear& one = others[n];
    if (one.ret) {
      if (first < one.fit.first || first + frames > one.fit.last)
        throw InputError(one.ret->path(), "it does not reach over the whole excerpt; select another place");
      s.sound.push_back(laid(one, first, frames));
    } else {
      const auto excerpt = made_clip(s.sound[0], s.rate_hz, one.name);
      Planar low;
      band_limited(*excerpt, 0, one.low_pass_hz, 0.1 * one.low_pass_hz, job)->reader()->read(0, frames, low);
      s.sound.push_back(stereo_of(low));
    }
    if (!s.same(0, n + 1)) match(s, n + 1, one, *lufs);
    job.report(double(n + 1) / double(others.size()));
  }
  double most = 0;
  for (const Planar& sound : s.sound) most = std::max(most, peak_of(sound));
  if (most > full_scale) {
    s.turned_down_db = 20 * std::log10(most / full_scale);
    for (Planar& sound : s.sound) turn(sound, full_scale / most);
    for (double& l : s.lufs) l -= s.turned_down_db;
  }
  return s;
}

}  // namespace heathmist
