// Loudness written into a file for players to read: `bext` of WAV (EBU Tech 3285 v2), ReplayGain 2 comments of FLAC.
#pragma once
#include <filesystem>
#include <map>
#include <optional>
#include <string>

namespace heathmist {

/// Of the whole file. What is empty is not written.
struct LoudnessTags {
  std::optional<double> integrated_lufs, range_lu, true_peak_dbtp, momentary_max_lufs, short_term_max_lufs;
  std::optional<double> album_lufs, album_peak_dbtp;  ///< FLAC only
  bool operator==(const LoudnessTags&) const = default;
};

/// The level ReplayGain 2 brings everything to.
inline constexpr double replay_gain_lufs = -18;

/// The comments of ReplayGain 2: REPLAYGAIN_TRACK_GAIN "-7.03 dB", REPLAYGAIN_TRACK_PEAK "0.988553" and so on.
std::map<std::string, std::string> replay_gain_comments(const LoudnessTags& tags);

/// Writes the comments into a FLAC file, whose audio stays as it is. Throws InputError.
void write_comments(const std::filesystem::path& flac, const std::map<std::string, std::string>& comments);

/// What a WAV or FLAC file says of its loudness, to the hundredth that is written. Throws InputError.
LoudnessTags read_tags(const std::filesystem::path& file);

}  // namespace heathmist
