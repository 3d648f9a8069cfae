#include "core/audio/sound_sink.hpp"

#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cmath>
#include <map>
#include <utility>

#include "core/audio/clip.hpp"
#include "core/audio/temporary.hpp"

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

}  // namespace

SF_VIRTUAL_IO SoundSink::calls() {
  SF_VIRTUAL_IO calls{};
  calls.get_filelen = [](void* user) -> sf_count_t {
    const auto* channel = static_cast<Channel*>(user);
    const off_t at = ::lseek(channel->descriptor, 0, SEEK_CUR), end = ::lseek(channel->descriptor, 0, SEEK_END);
    ::lseek(channel->descriptor, at, SEEK_SET);
    return end;
  };
  calls.seek = [](sf_count_t offset, int whence, void* user) -> sf_count_t {
    return ::lseek(static_cast<Channel*>(user)->descriptor, offset, whence);
  };
  calls.read = [](void* to, sf_count_t count, void* user) -> sf_count_t {
    return std::max<ssize_t>(0, ::read(static_cast<Channel*>(user)->descriptor, to, size_t(count)));
  };
  calls.write = [](const void* from, sf_count_t count, void* user) -> sf_count_t {
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
  };
  calls.tell = [](void* user) -> sf_count_t { return ::lseek(static_cast<Channel*>(user)->descriptor, 0, SEEK_CUR); };
  return calls;
}

SoundSink::SoundSink(int descriptor, const std::filesystem::path& file, int sample_rate_hz, int channels,
                     WordFormat word)
    : channel_{descriptor}, word_(word), channels_(channels) {
  SF_INFO info{};
  info.samplerate = sample_rate_hz;
  info.channels = channels;
  info.format = sound_format(file, word);
  auto io = calls();
  sound_ = sf_open_virtual(&io, SFM_WRITE, &info, &channel_);
  if (!sound_ && channel_.error)
    throw InputError(file,
                     why_not_written(channel_.error, file.parent_path(), 0, "free space or choose another folder"));
  if (!sound_)
    throw InputError(file, fmt::format("{} Hz with {} channels cannot be written as {} ({}); choose another format",
                                       sample_rate_hz, channels, file.extension().string(), sf_strerror(nullptr)));
  sf_command(sound_, SFC_RF64_AUTO_DOWNGRADE, nullptr, SF_TRUE);
  sf_command(sound_, SFC_SET_ADD_PEAK_CHUNK, nullptr, SF_FALSE);
}

SoundSink::~SoundSink() {
  if (sound_) sf_close(sound_);
}

int SoundSink::bytes_per_frame() const {
  const int bytes = word_ == WordFormat::pcm16     ? 2
                    : word_ == WordFormat::pcm24   ? 3
                    : word_ == WordFormat::float64 ? 8
                                                   : 4;
  return bytes * channels_;
}

bool SoundSink::put_chunk(const std::string& id, std::string bytes) {
  SF_CHUNK_INFO chunk{};
  id.copy(chunk.id, 4);
  chunk.id_size = 4;
  chunk.datalen = unsigned(bytes.size());
  chunk.data = bytes.data();
  return sf_set_chunk(sound_, &chunk) == SF_ERR_NO_ERROR;
}

int SoundSink::write(std::span<const double> interleaved) {
  const auto frames = sf_count_t(interleaved.size()) / channels_;
  sf_count_t written = 0;
  if (const double levels = levels_of(word_); levels > 0) {  // libsndfile's own rounding differs between formats
    words_.resize(interleaved.size());
    const double unit = 2147483648.0 / levels;
    for (size_t n = 0; n < words_.size(); ++n)
      words_[n] = int(std::clamp(std::nearbyint(interleaved[n] * levels), -levels, levels - 1) * unit);
    written = sf_writef_int(sound_, words_.data(), frames);
  } else {
    written = sf_writef_double(sound_, interleaved.data(), frames);
  }
  frames_ += written;
  return channel_.error ? channel_.error : written != frames ? EIO : 0;
}

int SoundSink::refresh() {
  sf_command(sound_, SFC_UPDATE_HEADER_NOW, nullptr, 0);
  return channel_.error;
}

int SoundSink::close() {
  const int closed = sf_close(std::exchange(sound_, nullptr));
  return channel_.error ? channel_.error : closed != 0 ? EIO : 0;
}

}  // namespace heathmist
