#include "core/audio/sound_name.hpp"

#include <algorithm>

#include "core/audio/clip.hpp"
#include "core/audio/ffmpeg_handles.hpp"

namespace heathmist {

namespace {

constexpr size_t most_digits = 3;

std::string tag(const AVStream& stream, const char* key) {
  const AVDictionaryEntry* entry = av_dict_get(stream.metadata, key, nullptr, 0);
  return entry ? entry->value : "";
}

}  // namespace

SoundName sound_name(const std::filesystem::path& name) {
  const std::string text = name.string();
  const auto mark = text.rfind('#');
  if (mark == std::string::npos || mark == 0) return {name, 0};
  const std::string digits = text.substr(mark + 1);
  const bool is_number = !digits.empty() && digits.size() <= most_digits && digits[0] != '0' &&
                         std::all_of(digits.begin(), digits.end(), [](char c) { return c >= '0' && c <= '9'; });
  std::error_code trouble;
  if (!is_number || std::filesystem::exists(name, trouble)) return {name, 0};
  return {text.substr(0, mark), std::stoi(digits)};
}

std::filesystem::path file_behind(const std::filesystem::path& name) { return sound_name(name).file; }

std::filesystem::path name_of_sound(const std::filesystem::path& file, int number) {
  return file.string() + "#" + std::to_string(number);
}

std::vector<SoundInFile> sounds_in(const std::filesystem::path& file) {
  refuse_unless_plain(file);
  const auto container = open_container(file);
  if (!container || avformat_find_stream_info(container.get(), nullptr) < 0)
    throw InputError(file, "its sounds cannot be made out; export it again");
  const int usual = sound_stream(*container, 0);
  std::vector<SoundInFile> sounds;
  for (unsigned n = 0; n < container->nb_streams; ++n) {
    const AVStream& stream = *container->streams[n];
    if (stream.codecpar->codec_type != AVMEDIA_TYPE_AUDIO) continue;
    sounds.push_back({int(sounds.size()) + 1, avcodec_get_name(stream.codecpar->codec_id), tag(stream, "language"),
                      tag(stream, "title"), stream.codecpar->ch_layout.nb_channels, stream.codecpar->sample_rate,
                      int(n) == usual});
  }
  return sounds;
}

}  // namespace heathmist
