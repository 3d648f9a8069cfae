#include "core/audio/video.hpp"

#define XXH_INLINE_ALL
#include <fmt/format.h>
#include <xxhash.h>

#include <algorithm>
#include <cmath>
#include <map>
#include <optional>
#include <set>

#include "core/audio/clip.hpp"
#include "core/audio/ffmpeg_handles.hpp"
#include "core/audio/sound_name.hpp"
#include "core/audio/temporary.hpp"

namespace heathmist {

namespace {

constexpr int block_frames = 2048;  // of sound in a packet

bool is_picture(const AVStream& stream) {
  return stream.codecpar->codec_type == AVMEDIA_TYPE_VIDEO && !(stream.disposition & AV_DISPOSITION_ATTACHED_PIC);
}

/// A video as it was opened: its container and the place of the sound that is read of it.
struct Video {
  std::filesystem::path name;
  Ffmpeg<AVFormatContext> container;
  int sound = -1, picture = -1;
};

Video open_video(const std::filesystem::path& name) {
  refuse_unless_plain(name);
  const auto [file, number] = sound_name(name);
  Video video{name, open_container(file)};
  if (!video.container || avformat_find_stream_info(video.container.get(), nullptr) < 0)
    throw InputError(file, "this is no video that can be read; copy or export it again");
  video.sound = sound_stream(*video.container, number);
  for (int n = int(video.container->nb_streams) - 1; n >= 0; --n)
    if (is_picture(*video.container->streams[n])) video.picture = n;
  if (video.picture < 0) throw InputError(file, "it holds no picture, sound alone; leave --video out");
  if (video.sound < 0) throw InputError(file, "it holds no sound that could be replaced; name a video with sound");
  return video;
}

/// A stream as it went by: how many packets, all their bytes, and when the first is shown.
struct Passed {
  Passed() : state(XXH3_createState(), XXH3_freeState) { XXH3_64bits_reset(state.get()); }
  void take(const AVPacket& packet, const AVStream& stream) {
    ++packets;
    XXH3_64bits_update(state.get(), packet.data, size_t(packet.size));
    if (packet.pts == AV_NOPTS_VALUE) return;
    const double at_s = double(packet.pts) * av_q2d(stream.time_base);
    first_s = std::min(first_s.value_or(at_s), at_s);
  }
  int64_t packets = 0;
  std::optional<double> first_s;
  std::unique_ptr<XXH3_state_t, decltype(&XXH3_freeState)> state;
};

AVCodecID pcm_codec(WordFormat word) {
  switch (word) {
    case WordFormat::pcm16:
      return AV_CODEC_ID_PCM_S16LE;
    case WordFormat::pcm24:
      return AV_CODEC_ID_PCM_S24LE;
    case WordFormat::pcm32:
      return AV_CODEC_ID_PCM_S32LE;
    case WordFormat::float32:
      return AV_CODEC_ID_PCM_F32LE;
    default:
      return AV_CODEC_ID_PCM_F64LE;
  }
}

void put(double x, WordFormat word, uint8_t* to) {
  const auto integer = [&](int bytes) {
    const double full = std::ldexp(1.0, 8 * bytes - 1);
    const auto value = int64_t(std::clamp(std::nearbyint(x * full), -full, full - 1));
    for (int b = 0; b < bytes; ++b) to[b] = uint8_t(uint64_t(value) >> (8 * b));
  };
  switch (word) {
    case WordFormat::pcm16:
      return integer(2);
    case WordFormat::pcm24:
      return integer(3);
    case WordFormat::pcm32:
      return integer(4);
    case WordFormat::float32: {
      const auto value = float(x);
      return void(std::copy_n(reinterpret_cast<const uint8_t*>(&value), sizeof value, to));
    }
    default:
      std::copy_n(reinterpret_cast<const uint8_t*>(&x), sizeof x, to);
  }
}

bool takes(const AVOutputFormat& format, const AVStream& stream) {
  return avformat_query_codec(&format, stream.codecpar->codec_id, FF_COMPLIANCE_NORMAL) == 1;
}

void refuse_picture_not_taken(const Video& video, const std::filesystem::path& out) {
  const AVOutputFormat* format = av_guess_format(nullptr, out.c_str(), nullptr);
  const AVStream& picture = *video.container->streams[video.picture];
  if (!format || !takes(*format, picture))
    throw InputError(video.name, fmt::format("{} does not take its picture ({}); write an .mkv instead",
                                             out.extension().string(), avcodec_get_name(picture.codecpar->codec_id)));
}

/// Writes the new file: streams of the video as they are, and the sound between them.
class Remuxer {
 public:
  Remuxer(Video& video, const Clip& sound, double sound_start_s, WordFormat word, const AtomicFile& file)
      : in_(*video.container), video_(video), sound_(sound), reader_(sound.reader()), word_(word), file_(file) {
    AVFormatContext* out = nullptr;
    avformat_alloc_output_context2(&out, nullptr, nullptr, file.file().c_str());
    out_.reset(out);
    if (!out) throw std::bad_alloc();
    for (unsigned n = 0; n < in_.nb_streams; ++n) add_stream(int(n));
    zero_s_ = earliest_s(sound_start_s);
    lead_frames_ = std::llround((sound_start_s - zero_s_) * sound.format().sample_rate_hz);
    av_dict_copy(&out->metadata, in_.metadata, 0);
    add_chapters();
    if (const int error = avio_open(&out->pb, file.part().c_str(), AVIO_FLAG_WRITE); error < 0) file.fail(-error);
    wrote(avformat_write_header(out, nullptr));
  }

  void run(const Job& job) {
    const Ffmpeg<AVPacket> packet(av_packet_alloc());
    const double size = double(std::max<int64_t>(1, avio_size(in_.pb)));
    int read = 0;
    while ((read = av_read_frame(&in_, packet.get())) >= 0) {
      job.check();
      reach(*packet);
      if (const auto to = to_.find(packet->stream_index); to != to_.end()) copy(*packet, to->second);
      av_packet_unref(packet.get());
      job.report(std::min(1.0, double(avio_tell(in_.pb)) / size));
    }
    if (read != AVERROR_EOF) throw InputError(video_.name, "it cannot be read to its end; copy or export it again");
    refuse_if_cut_off();
    while (write_sound()) job.check();
    wrote(av_write_trailer(out_.get()));
    avio_flush(out_->pb);
    wrote(out_->pb->error);
    wrote(avio_closep(&out_->pb));
  }

  /// By the index of the stream in the new file.
  const std::map<int, Passed>& passed() const { return passed_; }
  const std::vector<std::string>& left_out() const { return left_out_; }
  int picture() const { return to_.at(video_.picture); }
  int sound() const { return sound_index_; }
  double lead_s() const { return double(lead_frames_) / sound_.format().sample_rate_hz; }
  /// Whether the container writes a stream in its own way, and not byte by byte.
  bool rewrites(int index) const { return rewritten_.contains(index); }

 private:
  void add_stream(int n) {
    const AVStream& from = *in_.streams[n];
    if (n == video_.sound) return add_sound(from);
    const auto type = from.codecpar->codec_type;
    const bool is_taken = (is_picture(from) || type == AVMEDIA_TYPE_AUDIO || type == AVMEDIA_TYPE_SUBTITLE) &&
                          takes(*out_->oformat, from);
    if (!is_taken) {
      const char* what = av_get_media_type_string(type);
      left_out_.push_back(
          fmt::format("stream {}, {} ({})", n + 1, what ? what : "data", avcodec_get_name(from.codecpar->codec_id)));
      return;
    }
    AVStream* stream = copy_of(from);
    avcodec_parameters_copy(stream->codecpar, from.codecpar);
    stream->codecpar->codec_tag = 0;
    stream->time_base = from.time_base;
    stream->avg_frame_rate = from.avg_frame_rate;
    stream->r_frame_rate = from.r_frame_rate;
    stream->sample_aspect_ratio = from.sample_aspect_ratio;
    for (int k = 0; k < from.nb_side_data; ++k) {  // the way it is turned, colours of a mastering display
      const AVPacketSideData& side = from.side_data[k];
      if (uint8_t* to = av_stream_new_side_data(stream, side.type, side.size)) std::copy_n(side.data, side.size, to);
    }
    to_[n] = stream->index;
    // H.264 and its kin with start codes become ones with lengths in Matroska and MOV
    const auto& p = *from.codecpar;
    const bool has_start_codes = p.extradata_size == 0 || p.extradata[0] != 1;
    if ((p.codec_id == AV_CODEC_ID_H264 || p.codec_id == AV_CODEC_ID_HEVC) && has_start_codes)
      rewritten_.insert(stream->index);
    passed_[stream->index];
  }

  void reach(const AVPacket& packet) {
    if (packet.pts != AV_NOPTS_VALUE)
      reached_s_ = std::max(reached_s_,
                            double(packet.pts + packet.duration) * av_q2d(in_.streams[packet.stream_index]->time_base));
  }

  /// Readers take a file that breaks off for one that ends: its header says how long it was to be.
  void refuse_if_cut_off() const {
    if (in_.duration == AV_NOPTS_VALUE || in_.duration_estimation_method == AVFMT_DURATION_FROM_BITRATE) return;
    const double start_s = in_.start_time == AV_NOPTS_VALUE ? 0 : double(in_.start_time) / AV_TIME_BASE;
    const double stated_s = double(in_.duration) / AV_TIME_BASE, held_s = reached_s_ - start_s;
    if (stated_s - held_s > std::max(1.0, 0.02 * stated_s))
      throw InputError(video_.name, fmt::format("it breaks off after {:.1f} s of the {:.1f} s that its header states; "
                                                "copy or export it again",
                                                held_s, stated_s));
  }

  AVStream* copy_of(const AVStream& from) {
    AVStream* stream = avformat_new_stream(out_.get(), nullptr);
    if (!stream) throw std::bad_alloc();
    stream->disposition = from.disposition;
    av_dict_copy(&stream->metadata, from.metadata, 0);
    return stream;
  }

  void add_sound(const AVStream& from) {
    AVStream* stream = copy_of(from);
    for (const char* of_the_old : {"BPS", "NUMBER_OF_FRAMES", "NUMBER_OF_BYTES", "encoder", "ENCODER", "DURATION"})
      av_dict_set(&stream->metadata, of_the_old, nullptr, 0);
    const auto& f = sound_.format();
    AVCodecParameters& p = *stream->codecpar;
    p.codec_type = AVMEDIA_TYPE_AUDIO;
    p.codec_id = pcm_codec(word_);
    p.sample_rate = f.sample_rate_hz;
    av_channel_layout_default(&p.ch_layout, f.channels);
    p.bits_per_coded_sample = av_get_bits_per_sample(p.codec_id);
    bytes_ = p.bits_per_coded_sample / 8;
    p.block_align = bytes_ * f.channels;
    p.bit_rate = int64_t(p.block_align) * 8 * f.sample_rate_hz;
    stream->time_base = {1, f.sample_rate_hz};
    sound_index_ = stream->index;
    passed_[sound_index_];
  }

  /// Where the new file's time begins: with the first of all that is in it.
  double earliest_s(double sound_start_s) const {
    double earliest = sound_start_s;
    for (const auto& [from, to] : to_)
      if (const AVStream& stream = *in_.streams[from]; stream.start_time != AV_NOPTS_VALUE)
        earliest = std::min(earliest, double(stream.start_time) * av_q2d(stream.time_base));
    return earliest;
  }

  void add_chapters() {
    if (in_.nb_chapters == 0) return;
    auto** chapters = static_cast<AVChapter**>(av_calloc(in_.nb_chapters, sizeof(AVChapter*)));
    if (!chapters) throw std::bad_alloc();
    out_->chapters = chapters;
    for (unsigned n = 0; n < in_.nb_chapters; ++n) {
      auto* chapter = static_cast<AVChapter*>(av_mallocz(sizeof(AVChapter)));
      if (!chapter) throw std::bad_alloc();
      const AVChapter& from = *in_.chapters[n];
      const int64_t zero = in_units(zero_s_, from.time_base);
      chapter->id = from.id, chapter->time_base = from.time_base;
      chapter->start = from.start - zero, chapter->end = from.end - zero;
      av_dict_copy(&chapter->metadata, from.metadata, 0);
      out_->chapters[out_->nb_chapters++] = chapter;
    }
  }

  static int64_t in_units(double seconds, AVRational unit) { return std::llround(seconds / av_q2d(unit)); }

  void copy(AVPacket& packet, int to) {
    const AVStream &from = *in_.streams[packet.stream_index], &stream = *out_->streams[to];
    passed_.at(to).take(packet, from);
    const int64_t zero = in_units(zero_s_, from.time_base);
    if (packet.pts != AV_NOPTS_VALUE) packet.pts -= zero;
    if (packet.dts != AV_NOPTS_VALUE) packet.dts -= zero;
    const int64_t when = packet.dts != AV_NOPTS_VALUE ? packet.dts : packet.pts;
    while (when != AV_NOPTS_VALUE && sound_s() < double(when) * av_q2d(from.time_base) && write_sound()) {
    }
    packet.stream_index = to, packet.pos = -1;
    av_packet_rescale_ts(&packet, from.time_base, stream.time_base);
    wrote(av_interleaved_write_frame(out_.get(), &packet));
    wrote(out_->pb->error);
  }

  double sound_s() const { return double(at_) / sound_.format().sample_rate_hz; }

  /// The next packet of the sound: silence until it begins. False: it is all written.
  bool write_sound() {
    const auto& f = sound_.format();
    const int64_t frames = std::min<int64_t>(block_frames, lead_frames_ + f.frames - at_);
    if (frames <= 0) return false;
    reader_->read(at_ - lead_frames_, frames, block_);
    const Ffmpeg<AVPacket> packet(av_packet_alloc());
    if (av_new_packet(packet.get(), int(frames) * bytes_ * f.channels) < 0) throw std::bad_alloc();
    uint8_t* to = packet->data;
    for (int64_t n = 0; n < frames; ++n)
      for (int c = 0; c < f.channels; ++c, to += bytes_) put(block_.channel(c)[size_t(n)], word_, to);
    packet->stream_index = sound_index_;
    packet->pts = packet->dts = at_;
    packet->duration = frames;
    packet->flags |= AV_PKT_FLAG_KEY;
    at_ += frames;
    passed_.at(sound_index_).take(*packet, *out_->streams[sound_index_]);
    av_packet_rescale_ts(packet.get(), {1, f.sample_rate_hz}, out_->streams[sound_index_]->time_base);
    wrote(av_interleaved_write_frame(out_.get(), packet.get()));
    wrote(out_->pb->error);
    return true;
  }

  void wrote(int error) const {
    if (error < 0) file_.fail(AVUNERROR(error));
  }

  AVFormatContext& in_;
  const Video& video_;
  const Clip& sound_;
  std::unique_ptr<Reader> reader_;
  WordFormat word_;
  const AtomicFile& file_;
  Ffmpeg<AVFormatContext> out_;
  Planar block_;
  std::map<int, int> to_;  // stream there to stream here
  std::set<int> rewritten_;
  std::map<int, Passed> passed_;
  std::vector<std::string> left_out_;
  int sound_index_ = -1, bytes_ = 4;
  int64_t lead_frames_ = 0, at_ = 0;  // silence in front of the sound; how far it is written
  double zero_s_ = 0, reached_s_ = 0;
};

std::map<int, Passed> read_again(const std::filesystem::path& file, const Job& job) {
  std::map<int, Passed> passed;
  const auto container = open_container(file);
  const Ffmpeg<AVPacket> packet(av_packet_alloc());
  if (!container) return passed;
  const double size = double(std::max<int64_t>(1, avio_size(container->pb)));
  while (av_read_frame(container.get(), packet.get()) >= 0) {
    job.check();
    passed[packet->stream_index].take(*packet, *container->streams[packet->stream_index]);
    av_packet_unref(packet.get());
    job.report(std::min(1.0, double(avio_tell(container->pb)) / size));
  }
  return passed;
}

/// Throws where what lies on the disk is not what went by.
void compare(const std::filesystem::path& file, const Remuxer& written, const std::map<int, Passed>& there) {
  for (const auto& [index, went] : written.passed()) {
    const auto lies = there.find(index);
    const int64_t packets = lies == there.end() ? 0 : lies->second.packets;
    // the container may cut the new sound into other packets
    const bool same = (packets == went.packets || index == written.sound()) &&
                      (packets == 0 || written.rewrites(index) ||
                       XXH3_64bits_digest(went.state.get()) == XXH3_64bits_digest(lies->second.state.get()));
    if (!same)
      throw InputError(file, fmt::format("read again, its stream {} is not what was copied; it was not kept: try the "
                                         "other container, .mkv or .mov",
                                         index + 1));
  }
}

double start_of(const std::map<int, Passed>& passed, int index) {
  const auto it = passed.find(index);
  return it == passed.end() ? 0 : it->second.first_s.value_or(0);
}

}  // namespace

void check_video(const std::filesystem::path& video, const Destination& to) {
  const std::string ending = to.file.extension().string();
  if (ending != ".mkv" && ending != ".mov")
    throw OutputRefused(to.file, "a video is written as .mkv or .mov; give it one of these endings");
  check(to);
  refuse_picture_not_taken(open_video(video), to.file);
}

VideoWritten replace_sound(const std::filesystem::path& name, const Clip& sound, WordFormat word, Destination to,
                           const Job& job) {
  to.inputs.push_back(name), to.inputs.push_back(sound.path());
  check_video(name, to);
  Video video = open_video(name);
  const double start_s = Clip::open(name, job.part(0, 0.3))->format().timeline.start_s.value_or(0);
  AtomicFile file(to);
  file.expect(int64_t(std::filesystem::file_size(file_behind(name))) + sound.format().frames * 8);
  Remuxer out(video, sound, start_s, word, file);
  out.run(job.part(0.3, 0.8));
  const auto there = read_again(file.part(), job.part(0.8, 1));
  compare(file.file(), out, there);
  file.commit();
  VideoWritten written;
  const AVStream& picture = *video.container->streams[video.picture];
  written.pictures = out.passed().at(out.picture()).packets;
  written.pictures_per_s = picture.avg_frame_rate.den > 0 ? av_q2d(picture.avg_frame_rate) : 0;
  const double before_s = start_s - start_of(out.passed(), out.picture());
  const double now_s = start_of(there, out.sound()) + out.lead_s() - start_of(there, out.picture());
  written.off_s = now_s - before_s;
  written.left_out = out.left_out();
  return written;
}

}  // namespace heathmist
