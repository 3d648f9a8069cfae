#include "core/audio/write.hpp"

#include <fcntl.h>
#include <sndfile.h>
#include <unistd.h>

#include <algorithm>
#include <cmath>
#include <cstdio>
#include <map>
#include <utility>
#include <vector>

#include "core/audio/clip.hpp"

namespace heathmist {

namespace {

std::filesystem::path beside(const std::filesystem::path& file) {
  return file.parent_path() / ("." + file.filename().string() + "." + std::to_string(::getpid()) + ".part");
}

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

}  // namespace

struct ClipWriter::State {
  std::filesystem::path file, part;
  double levels;
  SNDFILE* sound = nullptr;
  int channels;
  std::vector<double> reals;
  std::vector<int> words;

  ~State() {
    if (!sound) return;
    sf_close(sound);
    std::error_code ignored;
    std::filesystem::remove(part, ignored);
  }
};

ClipWriter::ClipWriter(const std::filesystem::path& file, int sample_rate_hz, int channels, WordFormat format)
    : state_(new State{file, beside(file), levels_of(format), nullptr, channels, {}, {}}) {
  SF_INFO info{};
  info.samplerate = sample_rate_hz;
  info.channels = channels;
  info.format = sound_format(file, format);
  state_->sound = sf_open(state_->part.c_str(), SFM_WRITE, &info);
  if (!state_->sound)
    throw InputError(
        file, std::string("it cannot be written (") + sf_strerror(nullptr) + "); check the folder and the format");
  sf_command(state_->sound, SFC_RF64_AUTO_DOWNGRADE, nullptr, SF_TRUE);
  sf_command(state_->sound, SFC_SET_ADD_PEAK_CHUNK, nullptr, SF_FALSE);
}

ClipWriter::~ClipWriter() = default;

void ClipWriter::tag(const LoudnessTags& tags) {
  if (state_->file.extension() != ".wav") return;
  constexpr int16_t no_value = 0x7fff;
  auto hundredths = [](std::optional<double> value) {
    return value ? int16_t(std::lround(std::clamp(*value, -300.0, 300.0) * 100)) : no_value;
  };
  SF_BROADCAST_INFO bext{};
  std::snprintf(bext.originator, sizeof bext.originator, "Heathmist");
  bext.version = 2;
  bext.loudness_value = hundredths(tags.integrated_lufs);
  bext.loudness_range = hundredths(tags.range_lu);
  bext.max_true_peak_level = hundredths(tags.true_peak_dbtp);
  bext.max_momentary_loudness = hundredths(tags.momentary_max_lufs);
  bext.max_shortterm_loudness = hundredths(tags.short_term_max_lufs);
  if (sf_command(state_->sound, SFC_SET_BROADCAST_INFO, &bext, sizeof bext) != SF_TRUE)
    throw InputError(state_->file, "its loudness cannot be written into it; write without tags");
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
  if (written != frames) throw InputError(s.file, "it cannot be written to its end; the disk may be full");
}

void ClipWriter::finish() {
  auto& s = *state_;
  sf_write_sync(s.sound);
  const int closed = sf_close(std::exchange(s.sound, nullptr));
  std::error_code trouble;
  if (closed == 0) std::filesystem::rename(s.part, s.file, trouble);
  if (closed == 0 && !trouble) return;
  std::error_code ignored;
  std::filesystem::remove(s.part, ignored);
  throw InputError(s.file, "it cannot be written to its end; the disk may be full");
}

void write_clip(ClipWriter& out, const Clip& clip, const Job& job) {
  const int64_t frames = clip.format().frames;
  const auto reader = clip.reader();
  Planar block;
  for (int64_t at = 0; at < frames; at += block.frames()) {
    job.check();
    reader->read(at, std::min<int64_t>(1 << 16, frames - at), block);
    out.write(block);
    job.report(double(at) / double(frames));
  }
}

void write_whole(const std::filesystem::path& file, const std::string& content) {
  const auto part = beside(file);
  const int out = ::open(part.c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0644);
  if (out < 0) throw InputError(file, "it cannot be written; check the folder and its permissions");
  size_t done = 0;
  while (done < content.size()) {
    const ssize_t n = ::write(out, content.data() + done, content.size() - done);
    if (n <= 0) break;
    done += size_t(n);
  }
  const bool kept = done == content.size() && ::fsync(out) == 0;
  ::close(out);
  std::error_code trouble, ignored;
  if (kept) std::filesystem::rename(part, file, trouble);
  if (kept && !trouble) return;
  std::filesystem::remove(part, ignored);
  throw InputError(file, "it cannot be saved, the disk may be full; the old file is left as it was");
}

}  // namespace heathmist
