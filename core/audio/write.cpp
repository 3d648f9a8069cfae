#include "core/audio/write.hpp"

#include <fmt/format.h>
#include <sndfile.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cmath>
#include <map>
#include <utility>
#include <vector>

#include "core/audio/clip.hpp"

namespace heathmist {

namespace {

int sound_format(const std::filesystem::path& file, WordFormat word) {
  static const std::map<std::string, int> containers{{".wav", SF_FORMAT_RF64},
                                                     {".w64", SF_FORMAT_W64},
                                                     {".aiff", SF_FORMAT_AIFF},
                                                     {".caf", SF_FORMAT_CAF},
                                                     {".flac", SF_FORMAT_FLAC}};
  static const std::map<WordFormat, int> words{{WordFormat::pcm16, SF_FORMAT_PCM_16},
                                               {WordFormat::pcm24, SF_FORMAT_PCM_24},
                                               {WordFormat::pcm32, SF_FORMAT_PCM_32},
                                               {WordFormat::float32, SF_FORMAT_FLOAT},
                                               {WordFormat::float64, SF_FORMAT_DOUBLE}};
  const auto container = containers.find(file.extension().string());
  if (container == containers.end())
    throw InputError(file, "its ending is none that can be written; use .wav, .flac, .w64, .aiff or .caf");
  return container->second | words.at(word);
}

double levels_of(WordFormat word) {
  switch (word) {
    case WordFormat::pcm16:
      return 32768;
    case WordFormat::pcm24:
      return 8388608;
    case WordFormat::pcm32:
      return 2147483648.0;
    default:
      return 0;
  }
}

/// How libsndfile reaches the passing file: what fails is remembered, since not every one of its formats looks.
struct Channel {
  int descriptor;
  int error = 0;
};

sf_count_t length_of(void* user) {
  const auto* channel = static_cast<Channel*>(user);
  const off_t at = ::lseek(channel->descriptor, 0, SEEK_CUR), end = ::lseek(channel->descriptor, 0, SEEK_END);
  ::lseek(channel->descriptor, at, SEEK_SET);
  return end;
}

sf_count_t seek_in(sf_count_t offset, int whence, void* user) {
  return ::lseek(static_cast<Channel*>(user)->descriptor, offset, whence);
}

sf_count_t read_from(void* to, sf_count_t count, void* user) {
  return std::max<ssize_t>(0, ::read(static_cast<Channel*>(user)->descriptor, to, size_t(count)));
}

sf_count_t write_to(const void* from, sf_count_t count, void* user) {
  auto* channel = static_cast<Channel*>(user);
  sf_count_t done = 0;
  while (done < count) {
    const ssize_t n = ::write(channel->descriptor, static_cast<const char*>(from) + done, size_t(count - done));
    if (n < 0 && errno == EINTR) continue;
    if (n <= 0) {
      channel->error = n < 0 ? errno : ENOSPC;
      break;
    }
    done += n;
  }
  return done;
}

sf_count_t place_in(void* user) { return ::lseek(static_cast<Channel*>(user)->descriptor, 0, SEEK_CUR); }

SF_VIRTUAL_IO channel_calls{length_of, seek_in, read_from, write_to, place_in};

}  // namespace

struct ClipWriter::State {
  AtomicFile file;
  Channel channel;
  WordFormat word;
  double levels;
  int channels;
  int64_t frames = 0;
  SNDFILE* sound = nullptr;
  std::vector<double> reals{};
  std::vector<int> words{};

  State(const Destination& to, WordFormat format, int count)
      : file(to), channel{file.descriptor()}, word(format), levels(levels_of(format)), channels(count) {}
  ~State() {
    if (sound) sf_close(sound);
  }
  void check() const {
    if (channel.error) file.fail(channel.error);
  }
  void put_chunk(const std::string& id, std::string bytes);
};

ClipWriter::ClipWriter(const Destination& to, int sample_rate_hz, int channels, WordFormat format) {
  SF_INFO info{};
  info.samplerate = sample_rate_hz;
  info.channels = channels;
  info.format = sound_format(to.file, format);
  state_ = std::make_unique<State>(to, format, channels);
  auto& s = *state_;
  s.sound = sf_open_virtual(&channel_calls, SFM_WRITE, &info, &s.channel);
  s.check();
  if (!s.sound)
    throw InputError(to.file,
                     fmt::format("{} Hz with {} channels cannot be written as {} ({}); choose another format",
                                 sample_rate_hz, channels, to.file.extension().string(), sf_strerror(nullptr)));
  sf_command(s.sound, SFC_RF64_AUTO_DOWNGRADE, nullptr, SF_TRUE);
  sf_command(s.sound, SFC_SET_ADD_PEAK_CHUNK, nullptr, SF_FALSE);
}

ClipWriter::~ClipWriter() = default;

void ClipWriter::State::put_chunk(const std::string& id, std::string bytes) {
  SF_CHUNK_INFO chunk{};
  id.copy(chunk.id, 4);
  chunk.id_size = 4;
  chunk.datalen = unsigned(bytes.size());
  chunk.data = bytes.data();
  if (sf_set_chunk(sound, &chunk) != SF_ERR_NO_ERROR)
    throw InputError(file.file(), "its " + id + " chunk cannot be written; write without it");
}

void ClipWriter::describe(const BroadcastExtension& bext) {
  if (state_->file.file().extension() != ".wav") return;
  state_->put_chunk("bext", bytes_of(bext));
  for (const auto& [id, bytes] : bext.others) state_->put_chunk(id, bytes);
}

void ClipWriter::mark(std::span<const CuePoint> points) {
  if (state_->file.file().extension() != ".wav") return;
  for (const auto& [id, bytes] : cue_chunks(points)) state_->put_chunk(id, bytes);
}

void ClipWriter::expect(int64_t frames) {
  const auto& s = *state_;
  const int bytes = s.word == WordFormat::pcm16     ? 2
                    : s.word == WordFormat::pcm24   ? 3
                    : s.word == WordFormat::float64 ? 8
                                                    : 4;
  state_->file.expect(frames * s.channels * bytes);
}

void ClipWriter::write(const Planar& block) { write(block, block.frames()); }

void ClipWriter::write(const Planar& block, int64_t frames) {
  auto& s = *state_;
  const auto count = size_t(frames * s.channels);
  sf_count_t written = 0;
  if (s.levels > 0) {  // libsndfile's own rounding differs between formats: integers are made here
    s.words.resize(count);
    const double unit = 2147483648.0 / s.levels;
    for (int c = 0; c < s.channels; ++c)
      for (int64_t n = 0; n < frames; ++n) {
        const double level =
            std::clamp(std::nearbyint(block.channel(c)[size_t(n)] * s.levels), -s.levels, s.levels - 1);
        s.words[size_t(n * s.channels + c)] = int(level * unit);
      }
    written = sf_writef_int(s.sound, s.words.data(), frames);
  } else {
    s.reals.resize(count);
    for (int c = 0; c < s.channels; ++c)
      for (int64_t n = 0; n < frames; ++n) s.reals[size_t(n * s.channels + c)] = block.channel(c)[size_t(n)];
    written = sf_writef_double(s.sound, s.reals.data(), frames);
  }
  s.check();
  if (written != frames) s.file.fail(EIO);
  s.frames += frames;
}

const std::filesystem::path& ClipWriter::close() {
  auto& s = *state_;
  if (!s.sound) return s.file.part();
  const int closed = sf_close(std::exchange(s.sound, nullptr));
  s.check();
  if (closed != 0) s.file.fail(EIO);
  SF_INFO info{};
  SNDFILE* back = sf_open(s.file.part().c_str(), SFM_READ, &info);  // what is there is what was meant to be
  if (back) sf_close(back);
  if (!back || info.frames != s.frames || info.channels != s.channels) s.file.fail(EIO);
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
