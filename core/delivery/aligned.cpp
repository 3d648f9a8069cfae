#include "core/delivery/aligned.hpp"

#include <algorithm>
#include <cmath>

#include "core/audio/temporary.hpp"
#include "core/compare/null.hpp"
#include "core/delivery/unlike.hpp"
#include "core/measure/acoustic_print.hpp"

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

/// The master in parts, each laid by its own delay between two splices.
class LaidInParts {
 public:
  LaidInParts(const Clip& master, const Fit& fit, const Continuity& cuts, int rate_hz) : fade_(rate_hz / 400) {
    double moved = cuts.head_samples;
    parts_.push_back({INT64_MIN / 2, INT64_MAX / 2, AlignedReturn(master, fit.delay_samples + moved, fit.drift_ppm)});
    for (const Break& b : cuts.breaks) {
      const int64_t at = std::llround(b.at_s * rate_hz), gap = std::llround(b.length_s * rate_hz);
      moved += b.jump_samples;
      parts_.back().until = at;
      parts_.push_back({at + (b.kind == BreakKind::skip ? gap : 0), INT64_MAX / 2,
                        AlignedReturn(master, fit.delay_samples + moved, fit.drift_ppm)});
    }
  }

  void read(int64_t first, int64_t frames, int channels, Planar& out) {
    out.resize(channels, frames);
    for (int c = 0; c < channels; ++c) std::ranges::fill(out.channel(c), 0.0);
    for (Part& part : parts_) {
      if (part.until + fade_ <= first || part.from - fade_ >= first + frames) continue;
      part.laid.read(first, frames, block_);
      if (part.from + fade_ <= first && first + frames <= part.until - fade_) return std::swap(out, block_);
      for (int c = 0; c < channels; ++c)
        for (int64_t n = 0; n < frames; ++n)
          if (const double w = weight(part, first + n); w > 0)
            out.channel(c)[size_t(n)] += w == 1 ? block_.channel(c)[size_t(n)] : w * block_.channel(c)[size_t(n)];
    }
  }

 private:
  struct Part {
    int64_t from, until;
    AlignedReturn laid;
  };
  double weight(const Part& part, int64_t n) const {
    const double in = double(n - part.from + fade_) / double(2 * fade_),
                 out = double(part.until + fade_ - n) / double(2 * fade_);
    return std::clamp(std::min(in, out), 0.0, 1.0);
  }
  int64_t fade_;
  std::vector<Part> parts_;
  Planar block_;
};

/// The cuts of the return, as places where the master does not run through; what is silent and goes on in place is
/// none.
Continuity cuts_of(const Comparable& pair, const Fit& fit, const Job& job) {
  NullOptions options;
  options.held_fit = fit;
  const auto report = null_test(*pair.ret, *pair.master, {pair.ret, pair.master}, options, job.part(0, 0.5));
  Continuity cuts = find_breaks(*pair.ret, *pair.master, report.fit, report.sums, job.part(0.5, 1));
  std::erase_if(cuts.breaks, [](const Break& b) { return b.kind == BreakKind::dropout; });
  return cuts;
}

/// What lies between samples has more bits than they.
WordFormat word_between_samples(const Clip& master) {
  const WordFormat word = word_that_holds(master.format());
  return word == WordFormat::pcm16 ? WordFormat::pcm24 : word;
}

/// Lays the master on the return's clock, into a writer at the master's rate and of its channels.
Aligned lay(const std::shared_ptr<const Clip>& master, const std::shared_ptr<const Clip>& ret, ClipWriter& out,
            const Job& job) {
  const auto pair = comparable(master, ret, job.part(0, 0.3));  // both at the master's rate
  Aligned a;
  a.fit = find_fit(*pair.ret, *pair.master, {}, job.part(0.3, 0.55));  // the master is what is laid, here
  if (!belong_together(*pair.master, *pair.ret, a.fit, job.part(0.55, 0.6))) throw unlike(*master, *ret);
  a.sample_rate_hz = master->format().sample_rate_hz;
  a.frames = frames_of(ret->format(), a.sample_rate_hz);
  out.expect(a.frames);
  const Continuity cuts = cuts_of(pair, a.fit, job.part(0.6, 0.75));
  a.splices = cuts.breaks;
  LaidInParts laid(*pair.master, a.fit, cuts, a.sample_rate_hz);
  Planar block;
  for (int64_t n = 0; n < a.frames; n += block_frames) {
    job.check();
    const int64_t count = std::min(block_frames, a.frames - n);
    laid.read(n, count, master->format().channels, block);
    out.write(block, count);
    job.report(0.75 + 0.25 * double(n + count) / double(a.frames));
  }
  return a;
}

Destination beside_both(Destination to, const Clip& master, const Clip& ret) {
  for (const Clip* clip : {&master, &ret}) to.inputs.push_back(clip->path());
  return to;
}

ClipWriter writer_of(const Destination& to, const ClipFormat& master, WordFormat word) {
  return ClipWriter(to, master.sample_rate_hz, master.channels, word);
}

}  // namespace

Aligned write_aligned(std::shared_ptr<const Clip> master, std::shared_ptr<const Clip> ret, Destination to,
                      WordFormat word, const Job& job) {
  ClipWriter out = writer_of(beside_both(to, *master, *ret), master->format(), word);
  const Aligned a = lay(master, ret, out, job);
  out.finish();
  return a;
}

AlignedVideo write_aligned_video(std::shared_ptr<const Clip> master, std::shared_ptr<const Clip> ret, Destination to,
                                 const std::optional<SoundToo>& sound, const Job& job) {
  to.inputs.push_back(master->path());
  check_video(ret->path(), to);
  const TemporaryFolder passing;
  Destination sound_to = beside_both(sound ? sound->to : Destination(passing.path() / "sound.wav"), *master, *ret);
  sound_to.inputs.push_back(to.file);
  const WordFormat word = sound ? sound->word : word_between_samples(*master);
  ClipWriter out = writer_of(sound_to, master->format(), word);
  AlignedVideo written;
  written.aligned = lay(master, ret, out, job.part(0, 0.7));
  const auto laid = Clip::open(out.close());
  written.video = replace_sound(ret->path(), *laid, word, to, job.part(0.7, 1));
  if (sound) out.finish();
  return written;
}

}  // namespace heathmist
