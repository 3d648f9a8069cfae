// A file that holds several sounds, a video in three languages, say: which of them is meant stands behind its name.
//
//   film.mkv      the sound that its container marks as the usual one, or the one with the most channels
//   film.mkv#2    the second
//
// A file that is called film.mkv#2 itself is just that file.
#pragma once
#include <filesystem>
#include <string>
#include <vector>

namespace heathmist {

struct SoundName {
  std::filesystem::path file;
  int number = 0;  ///< from 1; 0: the usual one
};
SoundName sound_name(const std::filesystem::path& name);
/// The file behind a name, whichever sound of it is meant.
std::filesystem::path file_behind(const std::filesystem::path& name);
std::filesystem::path name_of_sound(const std::filesystem::path& file, int number);

struct SoundInFile {
  int number = 1;
  std::string codec, language, title;  ///< empty: the file does not say
  int channels = 0, sample_rate_hz = 0;
  bool is_usual = false;  ///< it is read where none is named
};
/// The sounds of a file that FFmpeg reads, in its order. Throws InputError.
std::vector<SoundInFile> sounds_in(const std::filesystem::path& file);

}  // namespace heathmist
