// Other sound in a video: the picture is copied packet by packet and never decoded.
//
//   VideoWritten v = replace_sound("film.mp4", *Clip::open("good.wav"), WordFormat::pcm24, {"film with sound.mkv"});
#pragma once
#include <cstdint>
#include <string>
#include <vector>

#include "core/audio/write.hpp"

namespace heathmist {

struct VideoWritten {
  int64_t pictures = 0;       ///< packets of the picture, each copied as it was
  double pictures_per_s = 0;  ///< what the container says; 0: nothing
  double off_s = 0;           ///< how much nearer or farther sound and picture lie than before, as read back
  double off_pictures() const { return off_s * pictures_per_s; }
  std::vector<std::string> left_out{};  ///< what the new container does not take, in words
};

/// The video with `sound` in place of the sound that is read of it (sound_name.hpp); it begins where that began in the
/// picture's time, to the nearest sample. Other sounds, subtitles, chapters and names go along where the container
/// takes them. `.mkv` and `.mov` are written, with PCM. The file is read again before it takes its place: as many
/// packets of each stream as there were, and the same bytes to the last one, the new sound's too (but where the
/// container has its own way of writing a stream). Throws InputError: no video, no picture, no sound in it; a picture
/// that the container does not take; OutputRefused, Cancelled.
VideoWritten replace_sound(const std::filesystem::path& video, const Clip& sound, WordFormat word, Destination to,
                           const Job& job);

/// The questions of that, before anything else is done.
void check_video(const std::filesystem::path& video, const Destination& to);

}  // namespace heathmist
