// What a file says of itself beside its audio: words and pictures (TagLib), `bext` of WAV (EBU Tech 3285 v2), loudness
// for players to read (`bext`; ReplayGain 2 comments of FLAC).
#pragma once
#include <cstdint>
#include <filesystem>
#include <map>
#include <optional>
#include <string>
#include <vector>

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

/// What a WAV or FLAC file says of its loudness, to the hundredth that is written. Throws InputError.
LoudnessTags read_loudness_tags(const std::filesystem::path& file, bool flac);

/// The `bext` chunk of a WAV file (EBU Tech 3285 v2).
struct BroadcastExtension {
  std::string description, originator, originator_reference;  ///< up to 256, 32 and 32 bytes
  std::string date, time;                                     ///< yyyy-mm-dd, hh:mm:ss
  uint64_t time_reference = 0;                                ///< of the first frame, in frames since midnight
  std::string umid;                                           ///< 64 bytes (SMPTE 330M), or nothing
  std::string coding_history;                                 ///< lines after EBU R 98
  LoudnessTags loudness{};
  std::vector<std::pair<std::string, std::string>> others{};  ///< chunks that go with it as they are: iXML, axml
  bool operator==(const BroadcastExtension&) const = default;
};
/// Nothing where the file is no WAV or has none of these chunks.
std::optional<BroadcastExtension> read_broadcast_extension(const std::filesystem::path& file);
/// The chunk's bytes, in version 2.
std::string bytes_of(const BroadcastExtension& bext);

struct Picture {
  std::string mime, description, bytes;
  int type = 0;  ///< as ID3v2 and FLAC count: 3 is the front cover
  bool operator==(const Picture&) const = default;
};
/// Words by TagLib's names of properties (TITLE, ARTIST, ISRC ...), and pictures.
struct Tags {
  std::map<std::string, std::vector<std::string>> words;
  std::vector<Picture> pictures;
  bool empty() const { return words.empty() && pictures.empty(); }
  bool operator==(const Tags&) const = default;
};
/// Of a file of any format that carries them; empty where it carries none.
Tags read_tags(const std::filesystem::path& file);
/// The same of a WAV or FLAC file, whatever it is called.
Tags read_tags(const std::filesystem::path& file, bool flac);
/// Into a WAV (ID3v2 and INFO) or FLAC file in place of what is there; its audio stays. Throws InputError.
void write_tags(const std::filesystem::path& file, bool flac, const Tags& tags);

}  // namespace heathmist
