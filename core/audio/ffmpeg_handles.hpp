// FFmpeg's things, each let go by its own function. Inside core only.
#pragma once
extern "C" {
#include <libavcodec/avcodec.h>
#include <libavformat/avformat.h>
#include <libavutil/channel_layout.h>
}

#include <filesystem>
#include <memory>

namespace heathmist {

struct DropFfmpeg {
  void operator()(AVFormatContext* c) const {
    if (c->iformat) {
      avformat_close_input(&c);
      return;
    }
    if (c->pb) avio_closep(&c->pb);
    avformat_free_context(c);
  }
  void operator()(AVCodecContext* c) const { avcodec_free_context(&c); }
  void operator()(AVPacket* p) const { av_packet_free(&p); }
  void operator()(AVFrame* f) const { av_frame_free(&f); }
  void operator()(AVDictionary* d) const { av_dict_free(&d); }
};
template <class T>
using Ffmpeg = std::unique_ptr<T, DropFfmpeg>;

/// Opens a container of sound, nothing that names other files or places; nullptr: it is none that can be read.
Ffmpeg<AVFormatContext> open_container(const std::filesystem::path& file, bool by_edit_list = true);
/// The index of a container's sound stream, counted from 1 among those of sound; 0: the one FFmpeg thinks best. Less
/// than 0: there is none. After avformat_find_stream_info().
int sound_stream(AVFormatContext& container, int number, const AVCodec** codec = nullptr);
/// How many there are.
int sounds_of(const AVFormatContext& container);

}  // namespace heathmist
