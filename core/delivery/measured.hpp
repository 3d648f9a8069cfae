// Everything that is measured of one clip by itself: its facts, levels and loudness. Kept between runs.
#pragma once
#include "core/compare/json.hpp"
#include "core/measure/meter.hpp"
#include "core/stages/chain.hpp"

namespace heathmist {

struct Measured {
  ClipFormat format;
  Levels levels;
  std::optional<double> bandwidth_hz;
  Loudness loudness;
};

/// Measures a clip. Throws InputError, Cancelled.
Measured measure(const Clip& clip, const MeterOptions& options = {}, const Job& job = {});

/// What was kept under a fingerprint (of a file, and of a chain behind it), read at once and without opening
/// the audio.
std::optional<Measured> kept_measured(const std::string& print);
void keep_measured(const std::string& print, const Measured& measured);
/// A file's measurement: the one that was kept, or a fresh one.
Measured measure_file(const std::filesystem::path& file, const Job& job = {});

/// The same of what a chain makes of a file. Throws ChainError, too.
Measured measure_return(const std::filesystem::path& file, const Chain& chain, const Job& job = {},
                        const Grant& grant = grant_nothing);

/// The answer to `measure` for one file, `path` as given, and for an album.
Json measured_json(const std::string& path, const Measured& measured);
Json album_json(const Loudness& album);
/// Such answers as a table: a line of heads, then a line each.
std::string measured_csv(const std::vector<Json>& answers);

}  // namespace heathmist
