#include "core/audio/write.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cerrno>
#include <cmath>
#include <utility>
#include <vector>

#include "core/audio/clip.hpp"
#include "core/audio/sound_sink.hpp"

namespace heathmist {

struct ClipWriter::State {
  AtomicFile file;
  SoundSink sink;
  int channels;
  std::vector<double> samples{};

  State(const Destination& to, int sample_rate_hz, int count, WordFormat format)
      : file(to), sink(file.descriptor(), to.file, sample_rate_hz, count, format), channels(count) {}
  void check(int error) const {
    if (error) file.fail(error);
  }
  void put_chunk(const std::string& id, std::string bytes) {
    if (!sink.put_chunk(id, std::move(bytes)))
      throw InputError(file.file(), "its " + id + " chunk cannot be written; write without it");
  }
};

ClipWriter::ClipWriter(const Destination& to, int sample_rate_hz, int channels, WordFormat format)
    : state_(std::make_unique<State>(to, sample_rate_hz, channels, format)) {}

ClipWriter::~ClipWriter() = default;

void ClipWriter::describe(const BroadcastExtension& bext) {
  if (state_->file.file().extension() != ".wav") return;
  state_->put_chunk("bext", bytes_of(bext));
  for (const auto& [id, bytes] : bext.others) state_->put_chunk(id, bytes);
}

void ClipWriter::mark(std::span<const CuePoint> points) {
  if (state_->file.file().extension() != ".wav") return;
  for (const auto& [id, bytes] : cue_chunks(points)) state_->put_chunk(id, bytes);
}

void ClipWriter::expect(int64_t frames) { state_->file.expect(frames * state_->sink.bytes_per_frame()); }

void ClipWriter::write(const Planar& block) { write(block, block.frames()); }

void ClipWriter::write(const Planar& block, int64_t frames) {
  auto& s = *state_;
  s.samples.resize(size_t(frames * s.channels));
  for (int c = 0; c < s.channels; ++c)
    for (int64_t n = 0; n < frames; ++n) s.samples[size_t(n * s.channels + c)] = block.channel(c)[size_t(n)];
  s.check(s.sink.write(s.samples));
}

const std::filesystem::path& ClipWriter::close() {
  auto& s = *state_;
  if (!s.sink.is_open()) return s.file.part();
  s.check(s.sink.close());
  SF_INFO info{};
  SNDFILE* back = sf_open(s.file.part().c_str(), SFM_READ, &info);  // what is there is what was meant to be
  if (back) sf_close(back);
  if (!back || info.frames != s.sink.frames() || info.channels != s.channels) s.file.fail(EIO);
  return s.file.part();
}

void ClipWriter::finish() {
  close();
  state_->file.commit();
}

namespace {

/// What a stage made may be beyond any number; a file of that is none.
void refuse_unless_finite(const Clip& clip, const Planar& block, int64_t first) {
  for (int c = 0; c < block.channels(); ++c)
    for (size_t n = 0; n < size_t(block.frames()); ++n)
      if (!std::isfinite(block.channel(c)[n]))
        throw InputError(clip.path(),
                         fmt::format("what was made of it is no number at {:.3f} s in channel {}; look at the "
                                     "stages it went through",
                                     double(first + int64_t(n)) / clip.format().sample_rate_hz, c + 1));
}

}  // namespace

WordFormat word_that_holds(const ClipFormat& format) {
  if (format.sample_format != SampleFormat::integer)
    return format.container_bits.value_or(32) > 32 ? WordFormat::float64 : WordFormat::float32;
  const int bits = format.container_bits.value_or(32);
  return bits <= 16 ? WordFormat::pcm16 : bits <= 24 ? WordFormat::pcm24 : WordFormat::pcm32;
}

void write_clip(ClipWriter& out, const Clip& clip, const Job& job) {
  const int64_t frames = clip.format().frames;
  out.expect(frames);
  const auto reader = clip.reader();
  Planar block;
  for (int64_t at = 0; at < frames; at += block.frames()) {
    job.check();
    reader->read(at, std::min<int64_t>(1 << 16, frames - at), block);
    refuse_unless_finite(clip, block, at);
    out.write(block);
    job.report(double(at) / double(frames));
  }
}

}  // namespace heathmist
