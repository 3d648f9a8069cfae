#include "core/audio/ffmpeg_handles.hpp"

#include <algorithm>

namespace heathmist {

namespace {

/// What is read through FFmpeg: containers of audio, each by itself. Playlists and descriptions of streams are not
/// among them: they name other files and places on the network.
constexpr const char* containers =
    "mov,mp4,m4a,3gp,3g2,mj2,matroska,webm,mp3,aac,loas,ogg,flac,wav,w64,aiff,caf,au,ac3,eac3,dts,truehd,mlp,wv,ape,"
    "tta,"
    "mpegts,mpeg,avi,asf,flv,sbc,aptx,aptx_hd,g722,amr,mpc,mpc8,tak,shn,oma,ast,voc,xwma,dsf,iff,opus,nut,mxf,gsm,"
    "sox,adts,latm";

}  // namespace

Ffmpeg<AVFormatContext> open_container(const std::filesystem::path& file, bool by_edit_list) {
  av_log_set_level(AV_LOG_QUIET);
  AVFormatContext* container = nullptr;
  AVDictionary* options = nullptr;
  av_dict_set(&options, "format_whitelist", containers, 0);
  av_dict_set(&options, "protocol_whitelist", "file", 0);
  if (!by_edit_list) av_dict_set(&options, "ignore_editlist", "1", 0);
  const int opened = avformat_open_input(&container, ("file:" + file.string()).c_str(), nullptr, &options);
  av_dict_free(&options);
  return Ffmpeg<AVFormatContext>(opened < 0 ? nullptr : container);
}

int sound_stream(AVFormatContext& container, int number, const AVCodec** codec) {
  int wanted = -1;
  for (unsigned n = 0, seen = 0; n < container.nb_streams; ++n)
    if (container.streams[n]->codecpar->codec_type == AVMEDIA_TYPE_AUDIO && int(++seen) == number) wanted = int(n);
  if (number > 0 && wanted < 0) return -1;
  return av_find_best_stream(&container, AVMEDIA_TYPE_AUDIO, wanted, -1, codec, 0);
}

int sounds_of(const AVFormatContext& container) {
  return int(std::count_if(container.streams, container.streams + container.nb_streams,
                           [](const AVStream* stream) { return stream->codecpar->codec_type == AVMEDIA_TYPE_AUDIO; }));
}

}  // namespace heathmist
