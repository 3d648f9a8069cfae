// PCM and FLAC, read in place through libsndfile.
#include <fmt/format.h>
#include <sndfile.h>

#include <algorithm>
#include <array>
#include <fstream>
#include <regex>

#include "core/audio/scratch.hpp"

namespace heathmist {

namespace {

using Sound = std::unique_ptr<SNDFILE, decltype(&sf_close)>;

Sound open_sound(const std::filesystem::path& file, SF_INFO& info) {
  info = {};
  return {sf_open(file.c_str(), SFM_READ, &info), &sf_close};
}

class SndfileReader : public Reader {
 public:
  SndfileReader(const std::filesystem::path& file, const ClipFormat& format)
      : Reader(format), file_(file), sound_(open_sound(file, info_)) {
    if (!sound_) throw InputError(file, "it can no longer be opened; put it back or point to it anew");
    if (info_.channels != format.channels || info_.samplerate != format.sample_rate_hz)
      throw InputError(file, "it has been changed since it was opened; open it again");
  }

 private:
  void fetch(int64_t first, int64_t frames, Planar& out, int64_t at) override {
    if (place_ != first && sf_seek(sound_.get(), first, SEEK_SET) != first) fail(first);
    constexpr int64_t piece = 8192;  // small enough to stay in the cache between reading and spreading
    interleaved_.resize(size_t(piece * format_.channels));
    for (int64_t done = 0; done < frames;) {
      const int64_t wanted = std::min(piece, frames - done);
      const int64_t got = sf_readf_double(sound_.get(), interleaved_.data(), wanted);
      if (got <= 0) fail(first + done);
      for (int c = 0; c < format_.channels; ++c) {
        double* to = out.channel(c).data() + at + done;
        const double* from = interleaved_.data() + c;
        for (int64_t n = 0; n < got; ++n, from += format_.channels) to[n] = *from;
      }
      done += got;
    }
    place_ = first + frames;
    if (format_.sample_format == SampleFormat::real) refuse_damage(file_, format_, out, at, frames, first);
  }

  [[noreturn]] void fail(int64_t frame) {
    place_ = -1;
    throw InputError(
        file_, fmt::format("it ends or breaks off at {:.2f} s of the {:.2f} s it promises; copy or export it again",
                           double(frame) / format_.sample_rate_hz, format_.duration_s()));
  }

  std::filesystem::path file_;
  SF_INFO info_{};
  Sound sound_;
  int64_t place_ = 0;
  std::vector<double> interleaved_;
};

class SndfileClip : public Clip {
 public:
  SndfileClip(std::filesystem::path file, ClipFormat format) : Clip(std::move(file), std::move(format)) {}
  std::unique_ptr<Reader> reader() const override { return std::make_unique<SndfileReader>(path_, format_); }
};

struct Kind {
  const char* codec;
  std::optional<int> bits;
  SampleFormat format;
};

/// What libsndfile may read here; everything else is left to FFmpeg.
std::optional<Kind> kind_of(int format) {
  const int major = format & SF_FORMAT_TYPEMASK, minor = format & SF_FORMAT_SUBMASK;
  const char* codec = major == SF_FORMAT_FLAC ? "flac" : "pcm";
  if (major == SF_FORMAT_OGG || major == SF_FORMAT_MPEG) return {};
  switch (minor) {
    case SF_FORMAT_PCM_S8:
    case SF_FORMAT_PCM_U8:
      return Kind{codec, 8, SampleFormat::integer};
    case SF_FORMAT_PCM_16:
      return Kind{codec, 16, SampleFormat::integer};
    case SF_FORMAT_PCM_24:
      return Kind{codec, 24, SampleFormat::integer};
    case SF_FORMAT_PCM_32:
      return Kind{codec, 32, SampleFormat::integer};
    case SF_FORMAT_FLOAT:
      return Kind{codec, 32, SampleFormat::real};
    case SF_FORMAT_DOUBLE:
      return Kind{codec, 64, SampleFormat::real};
    default:
      return {};
  }
}

/// The numbers of a WAV header do not fit together; libsndfile reads on all the same.
bool contradicts_itself(const std::string& log) {
  static const std::regex numbers(R"(Channels\s*: (\d+)[\s\S]*?Block Align\s*: (\d+)[\s\S]*?Bit Width\s*: (\d+))");
  std::smatch match;
  if (!std::regex_search(log, match, numbers)) return false;
  return std::stoul(match[2]) != std::stoul(match[1]) * ((std::stoul(match[3]) + 7) / 8);
}

std::string log_of(SNDFILE* sound) {
  std::string log(16384, '\0');
  log.resize(size_t(std::max(0, sf_command(sound, SFC_GET_LOG_INFO, log.data(), int(log.size())))));
  return log;
}

/// libsndfile reads what is there of a file that is cut short and says so only in its log; a length of 0 or about
/// 2 or 4 GiB is what programs write that stream to a pipe, and promises nothing.
bool cut_short(const std::string& log) {
  static const std::regex sizes(R"((?:^|\n)\s*(data|SSND|riff)\s*: (0x[0-9A-Fa-f]+|\d+) \(should be (\d+)\))");
  for (std::sregex_iterator it(log.begin(), log.end(), sizes), end; it != end; ++it) {
    const auto promised = std::stoull((*it)[2], nullptr, 0), there = std::stoull((*it)[3]);
    if (promised > there && promised < 0x7fff0000ULL) return true;
  }
  static const std::regex count(R"(frame count (\d+) does not match value from 'ds64' chunk of (\d+))");
  std::smatch match;
  return std::regex_search(log, match, count) && std::stoull(match[2]) > std::stoull(match[1]);
}

/// The first bytes of the containers that are read here; others are not even tried, their parsers talk to the terminal.
bool is_plain_container(const std::filesystem::path& file) {
  std::array<char, 4> first{};
  std::ifstream(file, std::ios::binary).read(first.data(), first.size());
  const std::string_view mark(first.data(), first.size());
  constexpr std::string_view known[] = {"RIFF", "RIFX", "RF64", "riff", "FORM", "caff", "fLaC", ".snd"};
  return std::find(std::begin(known), std::end(known), mark) != std::end(known);
}

}  // namespace

std::shared_ptr<const Clip> open_with_sndfile(const std::filesystem::path& file) {
  if (!is_plain_container(file)) return nullptr;
  SF_INFO info;
  const Sound sound = open_sound(file, info);
  if (!sound) return nullptr;
  const auto kind = kind_of(info.format);
  if (!kind) return nullptr;
  refuse_out_of_range(file, info.samplerate, info.channels);
  const auto log = log_of(sound.get());
  if (contradicts_itself(log))
    throw InputError(
        file, "its header contradicts itself (channels, bits and block size do not fit together); export it again");
  if (cut_short(log))
    throw InputError(
        file, fmt::format(
                  "it is cut short: its header promises more than the {:.2f} s that are there; copy or export it again",
                  double(info.frames) / info.samplerate));
  if (info.frames <= 0 || info.frames == SF_COUNT_MAX)
    throw InputError(file, "it holds no audio, its length is zero; export it again");
  ClipFormat format{.codec = kind->codec,
                    .sample_rate_hz = info.samplerate,
                    .channels = info.channels,
                    .frames = info.frames,
                    .container_bits = kind->bits,
                    .sample_format = kind->format,
                    .lossy = false,
                    .bit_rate_bps = {}};
  const double seconds = format.duration_s();
  std::error_code ignored;
  format.bit_rate_bps = format.codec == "pcm"
                            ? int64_t(*kind->bits) * info.channels * info.samplerate
                            : int64_t(double(std::filesystem::file_size(file, ignored)) * 8 / seconds);
  return std::make_shared<SndfileClip>(file, format);
}

}  // namespace heathmist
