// Real encoders: encoded to a file, decoded again as any file is.
#include <fmt/format.h>

#include <algorithm>

#include "core/stages/encoder.hpp"
#include "core/stages/stage_context.hpp"

namespace heathmist {

namespace {

namespace p = parameter;

enum class Control { none, bit_rate, both };  // what its size can be set by

struct Codec {
  const char *key, *title, *encoder, *ending;
  Control control;
  int only_rate_hz = 0;  // where the file format keeps no rate
  int channels = 0;      // 0: as the encoder says
};

constexpr Codec codecs[] = {
    {"aac", "AAC", "aac", ".m4a", Control::both},
    {"mp3", "MP3", "libmp3lame", ".mp3", Control::both},
    {"vorbis", "Vorbis", "libvorbis", ".ogg", Control::both},
    {"opus", "Opus", "libopus", ".opus", Control::bit_rate},
    {"mp2", "MP2", "mp2", ".mp2", Control::bit_rate},
    {"ac3", "AC-3", "ac3", ".ac3", Control::bit_rate},
    {"eac3", "E-AC-3", "eac3", ".eac3", Control::bit_rate},
    {"sbc", "SBC", "sbc", ".sbc", Control::bit_rate},
    {"aptx", "aptX", "aptx", ".aptx", Control::none, 48000, 2},
    {"g722", "G.722", "g722", ".g722", Control::none, 16000, 1},
    {"adpcm_ima", "IMA ADPCM", "adpcm_ima_wav", ".wav", Control::none},
    {"adpcm_ms", "MS ADPCM", "adpcm_ms", ".wav", Control::none},
    {"mulaw", "µ-law", "pcm_mulaw", ".wav", Control::none},
    {"alaw", "A-law", "pcm_alaw", ".wav", Control::none},
    {"flac", "FLAC", "flac", ".flac", Control::none},
    {"alac", "ALAC", "alac", ".m4a", Control::none},
    {"wavpack", "WavPack", "wavpack", ".wv", Control::none},
};

const Codec& codec_of(const Values& v) {
  const std::string key = v.text("codec");
  return *std::find_if(std::begin(codecs), std::end(codecs), [&](const Codec& c) { return key == c.key; });
}

Encoding encoding_of(const Codec& codec, const Values& v) {
  Encoding e{codec.encoder, 0};
  const std::string mode = v.text("mode"), stereo = v.text("stereo");
  if (mode == "quality") {
    if (codec.control != Control::both)
      throw ChainError(fmt::format("{} has no quality to set; mode quality is for AAC, MP3 and Vorbis", codec.title));
    e.quality = v.number("quality");
  } else if (codec.control != Control::none) {
    e.bit_rate_bps = int(1000 * v.number("bit_rate_kbps"));
  }
  e.stereo = stereo == "joint"   ? StereoMode::joint
             : stereo == "split" ? StereoMode::split
                                 : StereoMode::encoders_choice;
  return e;
}

std::string after_file(const std::filesystem::path& file, const std::string& sentence) {
  return sentence.starts_with(file.string() + ": ") ? sentence.substr(file.string().size() + 2) : sentence;
}

/// A lossless coder gives every frame back. A lossy one puts its delay before the audio, and fills its last block up or
/// drops it; more or less than that is a failure.
void refuse_other_length(const Codec& codec, const ClipFormat& in, const ClipFormat& out, const Encoded& encoded) {
  const int64_t off = out.frames - in.frames, block = out.lossy ? std::min<int64_t>(encoded.block_samples, 4096) : 0;
  const int64_t delay = out.lossy ? encoded.delay_samples : 0;
  if (out.sample_rate_hz != in.sample_rate_hz || (off <= delay + 2 * block && off >= -delay - block)) return;
  throw ChainError(fmt::format("{} gave {} frames back for {} that went in; the encode is not whole", codec.title,
                               out.frames, in.frames));
}

/// Some encoders take any bit rate and make another of it; and the ones of fixed rates the nearest they have.
void tell_bit_rate(const Codec& codec, const Encoding& asked, const Encoded& encoded, const ClipFormat& out,
                   StageReport& report) {
  if (asked.bit_rate_bps <= 0) return;
  const std::string key = codec.key;
  const bool fixed = key == "mp3" || key == "mp2" || key == "ac3" || key == "eac3" || key == "sbc";
  int64_t made = encoded.bit_rate_bps;
  if (fixed && out.bit_rate_bps) made = *out.bit_rate_bps;
  if (made <= 0 || std::abs(double(made) / asked.bit_rate_bps - 1) < (fixed ? 0.03 : 0.001)) return;
  report.note += fmt::format("{}asked for {} kbit/s, the encoder made {} of it", report.note.empty() ? "" : "; ",
                             plain(asked.bit_rate_bps / 1000.0), plain(std::round(double(made) / 1000)));
}

AudioStreamPtr make(AudioStreamPtr in, const Values& v, StageContext& context) {
  const Codec& codec = codec_of(v);
  const Encoding encoding = encoding_of(codec, v);
  auto clip = clip_of(*in, context.origin, context.job.part(0, 0.2));
  const auto& f = clip->format();
  if (codec.channels && f.channels != codec.channels)
    throw ChainError(fmt::format("{} takes {} channel{}, the audio has {}; put a channel map before it", codec.title,
                                 codec.channels, codec.channels == 1 ? "" : "s", f.channels));
  const int asked = v.whole("rate_hz") ? v.whole("rate_hz") : f.sample_rate_hz;
  const int rate = codec.only_rate_hz   ? codec.only_rate_hz
                   : v.whole("rate_hz") ? asked
                                        : rate_for_encoder(codec.encoder, asked);
  if (rate != f.sample_rate_hz) {
    context.report.note = fmt::format("converted to {} Hz", rate);
    clip = Clip::at_rate(clip, rate, context.job.part(0.2, 0.4));
  }
  const std::filesystem::path keep = v.text("keep");
  if (!keep.empty() && keep.extension() != codec.ending)
    throw ChainError(fmt::format("keep is {}; a file of {} ends in {}", keep.string(), codec.title, codec.ending));
  const auto folder = std::make_shared<const TemporaryFolder>();
  const auto file = folder->path() / (std::string("encoded") + codec.ending);
  if (!keep.empty()) context.kept.push_back({folder, file, keep, context.place});
  try {
    const Encoded encoded = encode(*clip, encoding, file, context.job.part(0.4, 0.8));
    auto decoded = Clip::open(file, context.job.part(0.8, 1));
    refuse_other_length(codec, clip->format(), decoded->format(), encoded);
    context.report.encoded_bytes = encoded.bytes;
    context.report.delay_samples = encoded.delay_samples;
    context.report.bit_rate_bps = decoded->format().bit_rate_bps;
    tell_bit_rate(codec, encoding, encoded, decoded->format(), context.report);
    if (decoded->format().codec == "flac")  // read in place: the file may go
      decoded = materialise(*stream_of(decoded), context.origin, context.job);
    return stream_of(std::move(decoded));
  } catch (const InputError& error) {
    throw ChainError(after_file(file, error.what()));
  }
}

std::vector<std::string> keys() {
  std::vector<std::string> list;
  for (const Codec& c : codecs) list.push_back(c.key);
  return list;
}

std::string words(const Values& v) {
  const Codec& codec = codec_of(v);
  if (codec.control == Control::none) return codec.title;
  if (v.text("mode") == "quality") return fmt::format("{} quality {}", codec.title, plain(v.number("quality")));
  return fmt::format("{} {} kbit/s", codec.title, plain(v.number("bit_rate_kbps")));
}

}  // namespace

std::vector<int> bit_rates_of_codec(const std::string& codec, int sample_rate_hz, int channels) {
  const auto c = std::find_if(std::begin(codecs), std::end(codecs), [&](const Codec& one) { return codec == one.key; });
  if (c == std::end(codecs)) throw std::invalid_argument(fmt::format("'{}' is no codec", codec));
  if (c->control == Control::none) return {};
  return bit_rates_taken(c->encoder, rate_for_encoder(c->encoder, sample_rate_hz), channels);
}

std::vector<StageFamily> codec_stages() {
  return {
      {{"codec",
        "Codec",
        "Encoded and decoded again with the real encoder. The rate is changed where the codec demands it.",
        {p::choice("codec", "which codec", keys()),
         p::only(p::choice("mode", "what sets the size", {"bit_rate", "quality"}), "codec", {"aac", "mp3", "vorbis"}),
         p::only(p::number("bit_rate_kbps", "bit rate of the whole stream", "kbit/s", 6, 1536, 128), "codec",
                 {"aac", "mp3", "vorbis", "opus", "mp2", "ac3", "eac3", "sbc"}),
         p::only(p::number("quality",
                           "as the encoder counts: MP3 0 (best) to 9, Vorbis -1 to 10 (best), AAC 0.1 to 10 (best)", "",
                           -1, 10, 4),
                 "mode", {"quality"}),
         p::only(
             p::choice("stereo", "channels together or each by itself: AAC, MP3 and AC-3", {"auto", "joint", "split"}),
             "codec", {"aac", "mp3", "ac3"}),
         p::whole("rate_hz", "sample rate to encode at; 0: the nearest the codec takes", "Hz", 0, 384000, 0),
         p::file("keep", "where to keep the encoded file")},
        Capability::write_file,
        "keep"},
       make,
       words}};
}

}  // namespace heathmist
