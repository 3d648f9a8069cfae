#include "core/stages/encoder.hpp"

extern "C" {
#include <libavutil/opt.h>
}

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <cstring>
#include <memory>

#include "core/audio/ffmpeg_handles.hpp"
#include "core/audio/temporary.hpp"

namespace heathmist {

namespace {

template <class T>
T level_of(double x, double levels) {
  return T(std::clamp(std::nearbyint(x * levels), -levels, levels - 1));
}

void put_sample(AVFrame& frame, AVSampleFormat format, int channel, int n, int channels, double x) {
  const bool planar = av_sample_fmt_is_planar(format);
  uint8_t* const plane = frame.extended_data[planar ? channel : 0];
  const int place = planar ? n : n * channels + channel;
  switch (av_get_packed_sample_fmt(format)) {
    case AV_SAMPLE_FMT_S16:
      reinterpret_cast<int16_t*>(plane)[place] = level_of<int16_t>(x, 32768);
      break;
    case AV_SAMPLE_FMT_S32:
      reinterpret_cast<int32_t*>(plane)[place] = int32_t(level_of<int64_t>(x, 8388608) * 256);
      break;
    case AV_SAMPLE_FMT_FLT:
      reinterpret_cast<float*>(plane)[place] = float(x);
      break;
    default:
      reinterpret_cast<double*>(plane)[place] = x;
      break;
  }
}

/// The encoder's first format that holds the clip's words: 16 bits where they suffice, else more; never doubles or 8
/// bits.
AVSampleFormat best_format(const AVCodec& codec, const ClipFormat& clip) {
  const bool deep = clip.container_bits.value_or(32) > 16;
  AVSampleFormat fallback = AV_SAMPLE_FMT_NONE;
  for (const AVSampleFormat* f = codec.sample_fmts; f && *f != AV_SAMPLE_FMT_NONE; ++f) {
    const int bytes = av_get_bytes_per_sample(*f);
    if (bytes == (deep ? 4 : 2)) return *f;
    if (bytes == 2 || bytes == 4) fallback = *f;
  }
  return fallback;
}

template <class T>
std::string listed(const T* values, T end) {
  std::string words;
  for (; values && *values != end; ++values) words += (words.empty() ? "" : ", ") + fmt::format("{}", *values);
  return words;
}

std::string rates_in_words(const std::vector<int>& kbps) {
  if (kbps.empty()) return "none of the usual ones there";
  if (kbps.size() > 20) return fmt::format("{} to {} kbit/s", kbps.front(), kbps.back());
  return fmt::format("{} kbit/s", fmt::join(kbps, ", "));
}

/// Why an encoder does not open, as far as it can be known, and what it takes.
std::string refusal(const AVCodec& codec, const Encoding& encoding, const ClipFormat& f) {
  const std::string rates = listed(codec.supported_samplerates, 0);
  if (const int* r = codec.supported_samplerates;
      r && rate_for_encoder(codec.name, f.sample_rate_hz) != f.sample_rate_hz)
    return fmt::format("{} does not take {} Hz; it takes {}", codec.name, f.sample_rate_hz, rates);
  std::string channels;
  for (const AVChannelLayout* l = codec.ch_layouts; l && l->nb_channels; ++l)
    if (const auto n = fmt::format("{}", l->nb_channels); channels.find(n) == std::string::npos)
      channels += (channels.empty() ? "" : ", ") + n;
  if (!channels.empty() && channels.find(fmt::format("{}", f.channels)) == std::string::npos)
    return fmt::format("{} does not take {} channels; it takes {}", codec.name, f.channels, channels);
  if (encoding.bit_rate_bps > 0)
    return fmt::format("{} does not take {} kbit/s with {} channel{} at {} Hz; it takes {}", codec.name,
                       encoding.bit_rate_bps / 1000, f.channels, f.channels == 1 ? "" : "s", f.sample_rate_hz,
                       rates_in_words(bit_rates_taken(codec.name, f.sample_rate_hz, f.channels)));
  return fmt::format("{} cannot take {} Hz with {} channel{}; convert or map the channels first", codec.name,
                     f.sample_rate_hz, f.channels, f.channels == 1 ? "" : "s");
}

class Encoder {
 public:
  Encoder(const Clip& clip, const Encoding& encoding, const std::filesystem::path& file,
          const std::filesystem::path& part)
      : clip_(clip), file_(file) {
    av_log_set_level(AV_LOG_QUIET);
    const AVCodec* codec = avcodec_find_encoder_by_name(encoding.codec.c_str());
    if (!codec)
      throw InputError(file,
                       fmt::format("there is no encoder '{}' on this machine; choose another codec", encoding.codec));
    AVFormatContext* container = nullptr;
    avformat_alloc_output_context2(&container, nullptr, nullptr, file.c_str());
    if (!container)
      throw InputError(file, "its ending names no container that can be written; use .mp3, .m4a, .ogg, .opus or .mkv");
    container_.reset(container);
    context_.reset(avcodec_alloc_context3(codec));
    context_->sample_rate = clip.format().sample_rate_hz;
    context_->sample_fmt = best_format(*codec, clip.format());
    set_rate_control(encoding, *codec, file);
    context_->time_base = {1, context_->sample_rate};
    if (av_get_packed_sample_fmt(context_->sample_fmt) == AV_SAMPLE_FMT_S32) context_->bits_per_raw_sample = 24;
    context_->strict_std_compliance = FF_COMPLIANCE_EXPERIMENTAL;
    av_channel_layout_default(&context_->ch_layout, clip.format().channels);
    if (container->oformat->flags & AVFMT_GLOBALHEADER) context_->flags |= AV_CODEC_FLAG_GLOBAL_HEADER;
    if (avcodec_open2(context_.get(), codec, nullptr) < 0)
      throw InputError(file, refusal(*codec, encoding, clip.format()));
    stream_ = avformat_new_stream(container, nullptr);
    avcodec_parameters_from_context(stream_->codecpar, context_.get());
    stream_->time_base = context_->time_base;
    if (const int error = avio_open(&container->pb, part.c_str(), AVIO_FLAG_WRITE); error < 0) fail(error);
    wrote(avformat_write_header(container, nullptr));
  }

  int64_t delay_samples() const { return context_->initial_padding; }
  int64_t bit_rate_bps() const { return context_->bit_rate; }
  int64_t block_samples() const { return context_->frame_size > 0 ? context_->frame_size : free_block; }

  void run(const Job& job) {
    const int frame_size = context_->frame_size > 0 ? context_->frame_size : free_block;
    const int channels = clip_.format().channels;
    const auto reader = clip_.reader();
    Planar block;
    for (int64_t at = 0; at < clip_.format().frames; at += frame_size) {
      job.check();
      const int frames = int(std::min<int64_t>(frame_size, clip_.format().frames - at));
      reader->read(at, frames, block);
      for (int c = 0; c < channels; ++c)
        for (const double x : block.channel(c))
          if (!std::isfinite(x))
            throw InputError(file_, "the audio holds a sample that is no number; look at the stages before it");
      const Ffmpeg<AVFrame> frame(av_frame_alloc());
      frame->nb_samples = frames;
      frame->format = context_->sample_fmt;
      av_channel_layout_copy(&frame->ch_layout, &context_->ch_layout);
      frame->sample_rate = context_->sample_rate;
      if (av_frame_get_buffer(frame.get(), 0) < 0) throw std::bad_alloc();
      for (int c = 0; c < channels; ++c)
        for (int n = 0; n < frames; ++n)
          put_sample(*frame, context_->sample_fmt, c, n, channels, block.channel(c)[size_t(n)]);
      frame->pts = at;
      send(frame.get());
      job.report(double(at) / double(clip_.format().frames));
    }
    send(nullptr);
    wrote(av_write_trailer(container_.get()));
    avio_flush(container_->pb);
    wrote(container_->pb->error);
    wrote(avio_closep(&container_->pb));
  }

 private:
  void set_rate_control(const Encoding& encoding, const AVCodec& codec, const std::filesystem::path& file) {
    if (encoding.quality) {
      context_->flags |= AV_CODEC_FLAG_QSCALE;
      context_->global_quality = int(std::lround(*encoding.quality * FF_QP2LAMBDA));
    } else if (encoding.bit_rate_bps > 0) {
      context_->bit_rate = encoding.bit_rate_bps;
    }
    if (encoding.stereo == StereoMode::encoders_choice) return;
    for (const char* option : {"joint_stereo", "aac_ms", "stereo_rematrixing"})
      if (av_opt_set_int(context_.get(), option, encoding.stereo == StereoMode::joint, AV_OPT_SEARCH_CHILDREN) >= 0)
        return;
    throw InputError(
        file, fmt::format("{} has no choice between joint and split stereo; leave it to the encoder", codec.name));
  }

  void send(const AVFrame* frame) {
    const Ffmpeg<AVPacket> packet(av_packet_alloc());
    if (const int error = avcodec_send_frame(context_.get(), frame); error < 0) encoder_failed(error);
    int error = 0;
    while ((error = avcodec_receive_packet(context_.get(), packet.get())) == 0) {
      packet->stream_index = stream_->index;
      av_packet_rescale_ts(packet.get(), context_->time_base, stream_->time_base);
      wrote(av_interleaved_write_frame(container_.get(), packet.get()));
      wrote(container_->pb->error);
    }
    if (error != AVERROR(EAGAIN) && error != AVERROR_EOF) encoder_failed(error);
  }

  /// What a muxer or a write gave back.
  void wrote(int error) const {
    if (error < 0) fail(error);
  }
  [[noreturn]] void fail(int error) const {
    const auto& f = clip_.format();
    const int64_t bits = context_->bit_rate > 0 ? context_->bit_rate : int64_t(16) * f.channels * f.sample_rate_hz;
    throw InputError(file_,
                     why_not_written(AVUNERROR(error), file_.parent_path(), int64_t(f.duration_s() * double(bits) / 8),
                                     "free space or point TMPDIR to a larger disk"));
  }
  [[noreturn]] void encoder_failed(int error) const {
    char words[AV_ERROR_MAX_STRING_SIZE] = "";
    av_strerror(error, words, sizeof words);
    throw InputError(file_,
                     fmt::format("the encoder {} failed ({}); choose other settings", context_->codec->name, words));
  }

  static constexpr int free_block = 4096;  // for encoders that take any number of frames at a time
  const Clip& clip_;
  const std::filesystem::path file_;
  Ffmpeg<AVFormatContext> container_;
  Ffmpeg<AVCodecContext> context_;
  AVStream* stream_ = nullptr;
};

}  // namespace

std::vector<int> bit_rates_taken(const std::string& encoder, int sample_rate_hz, int channels) {
  constexpr int usual[] = {6,   8,   12,  16,  24,  32,  40,  48,  56,  64,  80,  96,  112, 128, 144, 160,  176,
                           192, 208, 224, 240, 256, 288, 320, 352, 384, 416, 448, 512, 576, 640, 768, 1024, 1536};
  std::vector<int> taken;
  const AVCodec* codec = avcodec_find_encoder_by_name(encoder.c_str());
  for (const int kbps : usual) {
    if (!codec) break;
    const Ffmpeg<AVCodecContext> context(avcodec_alloc_context3(codec));
    context->sample_rate = sample_rate_hz, context->time_base = {1, sample_rate_hz};
    context->sample_fmt = codec->sample_fmts ? codec->sample_fmts[0] : AV_SAMPLE_FMT_FLT;
    context->bit_rate = 1000 * kbps;
    context->strict_std_compliance = FF_COMPLIANCE_EXPERIMENTAL;
    av_channel_layout_default(&context->ch_layout, channels);
    if (avcodec_open2(context.get(), codec, nullptr) >= 0 && std::abs(context->bit_rate - 1000 * kbps) < 1000)
      taken.push_back(kbps);
  }
  return taken;
}

int rate_for_encoder(const std::string& encoder, int sample_rate_hz) {
  const AVCodec* codec = avcodec_find_encoder_by_name(encoder.c_str());
  int above = 0, highest = 0;
  for (const int* r = codec ? codec->supported_samplerates : nullptr; r && *r; ++r) {
    if (*r >= sample_rate_hz && (above == 0 || *r < above)) above = *r;
    highest = std::max(highest, *r);
  }
  return highest == 0 ? sample_rate_hz : above ? above : highest;
}

Encoded encode(const Clip& clip, const Encoding& encoding, const std::filesystem::path& file, const Job& job) {
  const auto part = file.parent_path() / ("." + file.filename().string() + ".part");
  try {
    Encoded encoded;
    {
      Encoder encoder(clip, encoding, file, part);
      encoder.run(job);
      encoded.delay_samples = encoder.delay_samples();
      encoded.block_samples = encoder.block_samples();
      encoded.bit_rate_bps = encoder.bit_rate_bps();
    }
    std::filesystem::rename(part, file);
    encoded.bytes = int64_t(std::filesystem::file_size(file));
    return encoded;
  } catch (...) {
    std::error_code ignored;
    std::filesystem::remove(part, ignored);
    throw;
  }
}

}  // namespace heathmist
