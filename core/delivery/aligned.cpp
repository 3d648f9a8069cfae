#include "core/delivery/aligned.hpp"

#include <algorithm>
#include <cmath>

#include "core/audio/temporary.hpp"
#include "core/compare/null.hpp"
#include "core/measure/acoustic_print.hpp"
#include "core/printable.hpp"

namespace heathmist {

namespace {

constexpr int64_t block_frames = 1 << 15;

constexpr double sure = 0.3, most_errors = 0.4;

/// A low agreement may be that of a far microphone, or of two that share a beat: then their prints decide.
bool belong_together(const Clip& master, const Clip& ret, const Fit& fit, const Job& job) {
  if (!fit.trusted || fit.agreement >= sure) return fit.trusted;
  const double late_s = -fit.delay_samples / fit.ratio() / master.format().sample_rate_hz;
  return distance(acoustic_print(master, job.part(0, 0.5)), acoustic_print(ret, job.part(0.5, 1)),
                  std::llround(late_s / AcousticPrint::hop_s))
             .errors < most_errors;
}

/// Frames of the return at the master's rate: what a conversion makes longer or shorter by a part of one is rounded.
int64_t frames_of(const ClipFormat& ret, int rate_hz) {
  return int64_t(std::llround(double(ret.frames) * rate_hz / ret.sample_rate_hz));
}

}  // namespace

Aligned write_aligned(std::shared_ptr<const Clip> master, std::shared_ptr<const Clip> ret, Destination to,
                      WordFormat word, const Job& job) {
  for (const Clip* clip : {master.get(), ret.get()}) to.inputs.push_back(clip->path());
  check(to);
  const auto pair = comparable(master, ret, job.part(0, 0.3));  // both at the master's rate
  Aligned a;
  a.fit = find_fit(*pair.ret, *pair.master, {}, job.part(0.3, 0.6));  // the master is what is laid, here
  if (!belong_together(*pair.master, *pair.ret, a.fit, job.part(0.6, 0.7)))
    throw InputError(ret->path(), "it does not lie on " + printable(master->path()) +
                                      " anywhere: the two do not sound alike; choose the master that it came from");
  a.sample_rate_hz = master->format().sample_rate_hz;
  a.frames = frames_of(ret->format(), a.sample_rate_hz);
  ClipWriter out(to, a.sample_rate_hz, master->format().channels, word);
  out.expect(a.frames);
  AlignedReturn laid(*pair.master, a.fit);
  Planar block;
  for (int64_t n = 0; n < a.frames; n += block_frames) {
    job.check();
    const int64_t count = std::min(block_frames, a.frames - n);
    laid.read(n, count, block);
    out.write(block, count);
    job.report(0.7 + 0.3 * double(n + count) / double(a.frames));
  }
  out.finish();
  return a;
}

AlignedVideo write_aligned_video(std::shared_ptr<const Clip> master, std::shared_ptr<const Clip> ret, Destination to,
                                 WordFormat word, const Job& job) {
  to.inputs.push_back(master->path());
  check_video(ret->path(), to);
  const TemporaryFolder passing;
  AlignedVideo written;
  const auto sound = passing.path() / "sound.wav";
  written.aligned = write_aligned(master, ret, sound, word, job.part(0, 0.7));
  written.video = replace_sound(ret->path(), *Clip::open(sound), word, to, job.part(0.7, 1));
  return written;
}

}  // namespace heathmist
