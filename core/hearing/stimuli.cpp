#include "core/hearing/stimuli.hpp"

#include <algorithm>
#include <cmath>

#include "core/audio/scratch.hpp"
#include "core/compare/manual_fit.hpp"

namespace heathmist {

namespace {

/// As it lies on the master: delay and drift taken out, and nothing else.
Planar laid(const ToHear& one, const Excerpt& on) {
  if (on.first < one.fit.first || on.first + on.frames() > one.fit.last)
    throw InputError(one.ret->path(), "it does not reach over the whole excerpt; select another place");
  Planar out;
  AlignedReturn(*one.ret, one.fit).read(on.first, on.frames(), out);
  return two_sided(out);
}

Planar low_passed(const ToHear& one, const Excerpt& on, int rate_hz, const Job& job) {
  const auto excerpt = made_clip(on.sound, rate_hz, one.name);
  Planar low;
  band_limited(*excerpt, 0, one.low_pass_hz, 0.1 * one.low_pass_hz, job)->reader()->read(0, on.frames(), low);
  return two_sided(low);
}

std::filesystem::path path_of(const ToHear& one) { return one.ret ? one.ret->path() : std::filesystem::path(one.name); }

}  // namespace

bool Stimuli::same(size_t one, size_t other) const {
  for (int c = 0; c < 2; ++c)
    if (!std::equal(sound[one].channel(c).begin(), sound[one].channel(c).end(), sound[other].channel(c).begin()))
      return false;
  return true;
}

Stimuli make_stimuli(const Clip& master, double from_s, double until_s, std::span<const ToHear> others,
                     const Job& job) {
  const Excerpt excerpt = excerpt_of(master, from_s, until_s);
  Stimuli s;
  s.rate_hz = master.format().sample_rate_hz;
  s.sound.push_back(excerpt.sound);
  s.lufs.assign(others.size() + 1, excerpt.lufs), s.gain_db.assign(others.size() + 1, 0);
  for (size_t n = 0; n < others.size(); ++n) {
    job.check();
    const ToHear& one = others[n];
    s.sound.push_back(one.ret ? laid(one, excerpt) : low_passed(one, excerpt, s.rate_hz, job));
    if (!s.same(0, n + 1)) {
      const LoudnessMatch m = match_loudness(s.sound[n + 1], s.rate_hz, path_of(one), excerpt.lufs);
      s.gain_db[n + 1] = m.gain_db, s.lufs[n + 1] = m.lufs;
    }
    job.report(double(n + 1) / double(others.size()));
  }
  double most = 0;
  for (const Planar& sound : s.sound) most = std::max(most, highest_sample(sound));
  if (most > full_scale) {
    s.turned_down_db = 20 * std::log10(most / full_scale);
    for (Planar& sound : s.sound) turn(sound, full_scale / most);
    for (double& l : s.lufs) l -= s.turned_down_db;
  }
  return s;
}

}  // namespace heathmist
