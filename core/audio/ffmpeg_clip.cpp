// Everything libsndfile does not read: one audio stream of a file, decoded once to scratch.
extern "C" {
#include <libavutil/intreadwrite.h>
}

#include <fmt/format.h>

#include <algorithm>

#include "core/audio/ffmpeg_handles.hpp"
#include "core/audio/scratch.hpp"
#include "core/audio/sound_name.hpp"

namespace heathmist {

namespace {

template <class T>
void take(const AVFrame& frame, bool planar, double scale, double offset, Planar& out) {
  const int channels = out.channels();
  for (int c = 0; c < channels; ++c) {
    const T* from = reinterpret_cast<const T*>(frame.extended_data[planar ? c : 0]) + (planar ? 0 : c);
    auto to = out.channel(c);
    for (int n = 0; n < frame.nb_samples; ++n)
      to[size_t(n)] = (double(from[planar ? n : n * channels]) - offset) * scale;
  }
}

void take_frame(const AVFrame& frame, Planar& out) {
  const auto format = AVSampleFormat(frame.format);
  const bool planar = av_sample_fmt_is_planar(format);
  out.resize(frame.ch_layout.nb_channels, frame.nb_samples);
  switch (av_get_packed_sample_fmt(format)) {
    case AV_SAMPLE_FMT_U8:
      return take<uint8_t>(frame, planar, 1.0 / 128, 128, out);
    case AV_SAMPLE_FMT_S16:
      return take<int16_t>(frame, planar, 1.0 / 32768, 0, out);
    case AV_SAMPLE_FMT_S32:
      return take<int32_t>(frame, planar, 1.0 / 2147483648.0, 0, out);
    case AV_SAMPLE_FMT_FLT:
      return take<float>(frame, planar, 1, 0, out);
    default:
      return take<double>(frame, planar, 1, 0, out);
  }
}

struct Source {
  Ffmpeg<AVFormatContext> container;
  Ffmpeg<AVCodecContext> decoder;
  AVStream* stream = nullptr;
};

Source open_source(const std::filesystem::path& name) {
  const auto [file, number] = sound_name(name);
  Source source;
  source.container = open_container(file);
  AVFormatContext* const container = source.container.get();
  if (!container)
    throw InputError(file,
                     "this is not an audio file that can be read; export it as WAV, FLAC or another audio format");
  const AVCodec* codec = nullptr;
  if (avformat_find_stream_info(container, nullptr) < 0)
    throw InputError(file, "its audio cannot be made out; export it again");
  const int index = sound_stream(*container, number, &codec);
  if (index < 0 && number > 0)
    throw InputError(file, fmt::format("it has no sound number {}, as it holds {}; name one of those", number,
                                       sounds_of(*container)));
  if (index < 0 || !codec)
    throw InputError(file, "it holds no audio stream that can be decoded; export its audio as WAV or FLAC");
  source.stream = container->streams[index];
  source.decoder.reset(avcodec_alloc_context3(codec));
  const auto& promised = *source.stream->codecpar;
  refuse_out_of_range(file, promised.sample_rate, promised.ch_layout.nb_channels);
  avcodec_parameters_to_context(source.decoder.get(), source.stream->codecpar);
  source.decoder->pkt_timebase = source.stream->time_base;
  source.decoder->flags2 |= AV_CODEC_FLAG2_SKIP_MANUAL;  // Trimmer does it, and counts
  if (avcodec_open2(source.decoder.get(), codec, nullptr) < 0 || source.decoder->sample_rate <= 0)
    throw InputError(file, fmt::format("its {} audio cannot be decoded; export it in another format", codec->name));
  return source;
}

/// Linear PCM is one codec, whatever words it comes in.
std::string name_of(AVCodecID id) {
  const std::string name = avcodec_get_name(id);
  for (const char* kind : {"pcm_s", "pcm_u", "pcm_f", "pcm_bluray", "pcm_dvd", "pcm_lxf"})
    if (name.starts_with(kind)) return "pcm";
  return name;
}

ClipFormat format_of(const Source& source, int64_t audio_bytes, int64_t frames) {
  const AVCodecDescriptor* about = avcodec_descriptor_get(source.decoder->codec_id);
  const bool lossless = about && (about->props & AV_CODEC_PROP_LOSSLESS);
  const auto packed = av_get_packed_sample_fmt(source.decoder->sample_fmt);
  const bool integer = packed == AV_SAMPLE_FMT_U8 || packed == AV_SAMPLE_FMT_S16 || packed == AV_SAMPLE_FMT_S32;
  ClipFormat format;
  format.codec = name_of(source.decoder->codec_id);
  format.sample_rate_hz = source.decoder->sample_rate;
  format.channels = source.decoder->ch_layout.nb_channels;
  format.lossy = !lossless;
  format.sample_format = lossless && integer ? SampleFormat::integer : SampleFormat::real;
  if (lossless) {
    const int raw = source.decoder->bits_per_raw_sample;
    format.container_bits = raw > 0 ? raw : av_get_bytes_per_sample(packed) * 8;
  }
  if (frames > 0) format.bit_rate_bps = int64_t(double(audio_bytes) * 8 * format.sample_rate_hz / double(frames));
  return format;
}

/// Takes off what the container declares to be priming and padding, as FFmpeg's AVFrameSideData has it: how many frames
/// to skip in front, how many to drop at the end of a block.
class Trimmer {
 public:
  explicit Trimmer(const Source& source)
      : stream_(*source.stream), rate_(source.decoder->sample_rate), keeps_time_(keeps_time(*source.container)) {}

  /// The frames of a block that are the clip's: first and the one behind the last.
  std::pair<int, int> take(const AVFrame& frame) {
    int drop = 0;
    if (const auto* side = av_frame_get_side_data(&frame, AV_FRAME_DATA_SKIP_SAMPLES); side && side->size >= 10) {
      waiting_ = int64_t(AV_RL32(side->data));
      drop = int(std::min<uint32_t>(AV_RL32(side->data + 4), uint32_t(frame.nb_samples)));
    }
    const int first = int(std::min<int64_t>(waiting_, frame.nb_samples));
    waiting_ -= first;
    const int last = std::max(first, frame.nb_samples - drop);
    timeline_.priming_frames += kept_ == 0 ? first : 0;
    timeline_.padding_frames += frame.nb_samples - last;
    if (kept_ == 0 && last > first && keeps_time_ && frame.best_effort_timestamp != AV_NOPTS_VALUE)
      timeline_.start_s = double(frame.best_effort_timestamp) * av_q2d(stream_.time_base) + double(first) / rate_;
    kept_ += last - first;
    return {first, last};
  }

  /// How many frames the clip has, by what the track says it holds (`media`, 0: nothing) less the priming. An edit list
  /// ends on a clock as coarse as a six-hundredth of a second: one that ends earlier than that cuts, else the track
  /// knows better. What is cut is less than two blocks of any coder.
  int64_t frames_in_all(int64_t media) const {
    if (media <= 0) return kept_;
    int64_t end = media - timeline_.priming_frames;
    if (stream_.duration > 0 && stream_.duration < end - rate_ / 600 - 1) end = stream_.duration;
    return end > 0 && end < kept_ && kept_ - end < 4096 ? end : kept_;
  }
  Timeline timeline(int64_t frames) const {
    Timeline t = timeline_;
    t.padding_frames += kept_ - frames;
    return t;
  }

 private:
  static bool keeps_time(const AVFormatContext& container) {
    const std::string names = std::string(",") + container.iformat->name + ",";
    for (const char* one : {"mov", "mp4", "matroska", "webm", "mpegts", "mpeg", "avi", "asf", "flv", "nut", "mxf"})
      if (names.find(std::string(",") + one + ",") != std::string::npos) return true;
    return false;
  }
  const AVStream& stream_;
  int rate_;
  bool keeps_time_;
  int64_t waiting_ = 0, kept_ = 0;
  Timeline timeline_;
};

/// What the track of an MP4 or MOV holds whatever its edit list says, priming and all; 0: it is none, or counts
/// otherwise.
int64_t media_frames(const std::filesystem::path& file, const Source& source) {
  if (std::string(source.container->iformat->name).find("mov") == std::string::npos) return 0;
  const auto plain = open_container(file_behind(file), false);
  if (!plain || source.stream->index >= int(plain->nb_streams)) return 0;
  const AVStream& stream = *plain->streams[source.stream->index];
  return stream.time_base.num == 1 && stream.time_base.den == source.decoder->sample_rate ? stream.duration : 0;
}

/// Hands every decoded frame to `sink`; returns the bytes of audio that were read.
template <class Sink>
int64_t decode_all(Source& source, const Job& job, Sink sink) {
  const Ffmpeg<AVPacket> packet(av_packet_alloc());
  const Ffmpeg<AVFrame> frame(av_frame_alloc());
  const double size = double(std::max<int64_t>(1, avio_size(source.container->pb)));
  int64_t bytes = 0;
  auto drain = [&] {
    while (avcodec_receive_frame(source.decoder.get(), frame.get()) == 0) sink(*frame);
  };
  while (av_read_frame(source.container.get(), packet.get()) >= 0) {
    job.check();
    if (packet->stream_index == source.stream->index) {
      bytes += packet->size;
      if (avcodec_send_packet(source.decoder.get(), packet.get()) == 0) drain();
      job.report(std::min(1.0, double(avio_tell(source.container->pb)) / size));
    }
    av_packet_unref(packet.get());
  }
  avcodec_send_packet(source.decoder.get(), nullptr);
  drain();
  return bytes;
}

/// What the container says of its length; 0: nothing.
int64_t promised_frames(const Source& source) {
  const double seconds = double(source.stream->duration) * av_q2d(source.stream->time_base);
  return seconds > 0 && seconds < 1e7 ? int64_t(seconds * source.decoder->sample_rate) : 0;
}

void refuse_if_cut_short(const std::filesystem::path& file, const Source& source, int64_t frames) {
  if (source.container->duration_estimation_method == AVFMT_DURATION_FROM_BITRATE || source.stream->duration <= 0)
    return;
  const double promised = double(source.stream->duration) * av_q2d(source.stream->time_base);
  const double there = double(frames) / source.decoder->sample_rate;
  if (there < promised - 0.5 && there < 0.98 * promised)
    throw InputError(
        file,
        fmt::format("it is cut short: {:.2f} s of the {:.2f} s it promises can be decoded; copy or export it again",
                    there, promised));
}

}  // namespace

std::shared_ptr<const Clip> decode_with_ffmpeg(const std::filesystem::path& file, const Job& job) {
  Source source = open_source(file);
  const auto packed = av_get_packed_sample_fmt(source.decoder->sample_fmt);
  const bool wide = packed == AV_SAMPLE_FMT_DBL || packed == AV_SAMPLE_FMT_S32;
  std::unique_ptr<ScratchWriter> out;
  Planar block;
  int channels = 0, rate = 0;
  Trimmer trimmer(source);
  const int64_t bytes = decode_all(source, job, [&](const AVFrame& frame) {
    if (!out) {
      refuse_out_of_range(file, rate = frame.sample_rate, channels = frame.ch_layout.nb_channels);
      out = std::make_unique<ScratchWriter>(file, channels, wide, promised_frames(source));
    }
    if (frame.ch_layout.nb_channels != channels)
      throw InputError(file, "its channel count changes on the way; export it with one layout throughout");
    if (frame.sample_rate != rate)
      throw InputError(file, "its sample rate changes on the way; export it with one rate throughout");
    take_frame(frame, block);
    const auto [first, last] = trimmer.take(frame);
    if (last <= first) return;
    if (first > 0)
      for (int c = 0; c < channels; ++c)
        std::copy_n(block.channel(c).begin() + first, last - first, block.channel(c).begin());
    ClipFormat so_far;
    so_far.sample_rate_hz = rate;
    refuse_damage(file, so_far, block, 0, last - first, out->frames());
    out->write(block, last - first);
  });
  if (!out || out->frames() == 0) throw InputError(file, "none of its audio can be decoded; export or copy it again");
  refuse_if_cut_short(file, source, out->frames());
  const int64_t frames = trimmer.frames_in_all(media_frames(file, source));
  auto format = format_of(source, bytes, frames);
  format.channels = channels;
  format.timeline = trimmer.timeline(frames);
  out->keep(frames);
  return out->finish(format);
}

}  // namespace heathmist
