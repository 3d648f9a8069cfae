#include "core/audio/tags.hpp"

#include <fmt/format.h>
#include <sndfile.h>

#include <cmath>
#include <cstdlib>
#include <cstring>
#include <memory>

extern "C" {
#include <libavformat/avformat.h>
}

#include "core/audio/clip.hpp"

namespace heathmist {

namespace {

constexpr int no_value = 0x7fff;  // Tech 3285: a loudness that is not known

struct Close {
  void operator()(AVFormatContext* context) const {
    if (context->iformat) {
      avformat_close_input(&context);
      return;
    }
    avio_closep(&context->pb);
    avformat_free_context(context);
  }
};
using Container = std::unique_ptr<AVFormatContext, Close>;

Container open(const std::filesystem::path& file) {
  AVFormatContext* context = nullptr;
  if (avformat_open_input(&context, file.c_str(), nullptr, nullptr) < 0)
    throw InputError(file, "its tags cannot be read; check that it is a WAV or FLAC file");
  return Container(context);
}

void copy_packets(AVFormatContext* from, AVFormatContext* to) {
  AVPacket* packet = av_packet_alloc();
  while (av_read_frame(from, packet) >= 0) {
    if (packet->stream_index == 0) {
      av_packet_rescale_ts(packet, from->streams[0]->time_base, to->streams[0]->time_base);
      av_interleaved_write_frame(to, packet);
    }
    av_packet_unref(packet);
  }
  av_packet_free(&packet);
}

std::optional<double> hundredths(int value) { return value == no_value ? std::nullopt : std::optional(value / 100.0); }

LoudnessTags from_bext(const std::filesystem::path& file) {
  SF_INFO info{};
  SNDFILE* sound = sf_open(file.c_str(), SFM_READ, &info);
  if (!sound) throw InputError(file, "its tags cannot be read; check that it is a WAV or FLAC file");
  SF_BROADCAST_INFO bext{};
  const bool there = sf_command(sound, SFC_GET_BROADCAST_INFO, &bext, sizeof bext) == SF_TRUE && bext.version >= 2;
  sf_close(sound);
  if (!there) return {};
  LoudnessTags tags;
  tags.integrated_lufs = hundredths(bext.loudness_value);
  tags.range_lu = hundredths(bext.loudness_range);
  tags.true_peak_dbtp = hundredths(bext.max_true_peak_level);
  tags.momentary_max_lufs = hundredths(bext.max_momentary_loudness);
  tags.short_term_max_lufs = hundredths(bext.max_shortterm_loudness);
  return tags;
}

LoudnessTags from_comments(const std::filesystem::path& file) {
  const Container in = open(file);
  auto number = [&](const char* key) -> std::optional<double> {
    const AVDictionaryEntry* entry = av_dict_get(in->metadata, key, nullptr, 0);
    return entry ? std::optional(std::strtod(entry->value, nullptr)) : std::nullopt;
  };
  auto loudness = [](std::optional<double> gain) { return gain ? std::optional(replay_gain_lufs - *gain) : gain; };
  auto decibels = [](std::optional<double> peak) {
    return peak && *peak > 0 ? std::optional(20 * std::log10(*peak)) : std::nullopt;
  };
  LoudnessTags tags;
  tags.integrated_lufs = loudness(number("REPLAYGAIN_TRACK_GAIN"));
  tags.true_peak_dbtp = decibels(number("REPLAYGAIN_TRACK_PEAK"));
  tags.album_lufs = loudness(number("REPLAYGAIN_ALBUM_GAIN"));
  tags.album_peak_dbtp = decibels(number("REPLAYGAIN_ALBUM_PEAK"));
  return tags;
}

}  // namespace

std::map<std::string, std::string> replay_gain_comments(const LoudnessTags& tags) {
  std::map<std::string, std::string> comments;
  auto gain = [&](const char* key, std::optional<double> lufs) {
    if (lufs) comments[key] = fmt::format("{:.2f} dB", replay_gain_lufs - *lufs);
  };
  auto peak = [&](const char* key, std::optional<double> dbtp) {
    if (dbtp) comments[key] = fmt::format("{:.6f}", std::pow(10.0, *dbtp / 20));
  };
  gain("REPLAYGAIN_TRACK_GAIN", tags.integrated_lufs);
  peak("REPLAYGAIN_TRACK_PEAK", tags.true_peak_dbtp);
  gain("REPLAYGAIN_ALBUM_GAIN", tags.album_lufs);
  peak("REPLAYGAIN_ALBUM_PEAK", tags.album_peak_dbtp);
  if (!comments.empty()) comments["REPLAYGAIN_REFERENCE_LOUDNESS"] = fmt::format("{:.2f} LUFS", replay_gain_lufs);
  return comments;
}

void write_comments(const std::filesystem::path& flac, const std::map<std::string, std::string>& comments) {
  const auto part = flac.parent_path() / ("." + flac.filename().string() + ".tags.part");
  const std::string sentence = "its tags cannot be written; the disk may be full";
  try {
    const Container in = open(flac);
    AVFormatContext* made = nullptr;
    if (avformat_find_stream_info(in.get(), nullptr) < 0 || in->nb_streams < 1 ||
        avformat_alloc_output_context2(&made, nullptr, "flac", part.c_str()) < 0)
      throw InputError(flac, sentence);
    const Container out(made);
    AVStream* stream = avformat_new_stream(out.get(), nullptr);
    if (!stream || avcodec_parameters_copy(stream->codecpar, in->streams[0]->codecpar) < 0 ||
        avio_open(&out->pb, part.c_str(), AVIO_FLAG_WRITE) < 0)
      throw InputError(flac, sentence);
    stream->time_base = in->streams[0]->time_base;
    av_dict_copy(&out->metadata, in->metadata, 0);
    for (const auto& [key, value] : comments) av_dict_set(&out->metadata, key.c_str(), value.c_str(), 0);
    if (avformat_write_header(out.get(), nullptr) < 0) throw InputError(flac, sentence);
    copy_packets(in.get(), out.get());
    if (av_write_trailer(out.get()) < 0) throw InputError(flac, sentence);
    avio_flush(out->pb);
    if (out->pb->error < 0) throw InputError(flac, sentence);
  } catch (...) {
    std::error_code ignored;
    std::filesystem::remove(part, ignored);
    throw;
  }
  std::error_code trouble;
  std::filesystem::rename(part, flac, trouble);
  if (trouble) throw InputError(flac, sentence);
}

LoudnessTags read_tags(const std::filesystem::path& file) {
  return file.extension() == ".flac" ? from_comments(file) : from_bext(file);
}

}  // namespace heathmist
