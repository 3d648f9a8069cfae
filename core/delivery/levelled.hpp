// Levelled copies: a master at a target of loudness, with all its tags and pictures, its new loudness among them; read
// back and checked before it takes its place.
#pragma once
#include "core/audio/tags.hpp"
#include "core/delivery/measured.hpp"
#include "core/stages/chain.hpp"

namespace heathmist {

struct LevelPlan {
  double target_lufs = -16;
  bool limiter = false;  ///< without it the gain stops where true peaks meet the ceiling
  double ceiling_dbtp = -1;
  int bits = 24;  ///< 16 or 24; 32: floating point, WAV only
  std::string dither = "triangular";
  bool flac = false;
};

struct Levelled {
  std::filesystem::path file;
  double gain_db = 0;    ///< what was applied (before the limiter)
  bool stopped = false;  ///< the ceiling stopped the gain under the target
  Loudness loudness;     ///< of the copy, read back
  LoudnessTags tags;     ///< read back
  std::string fault;     ///< what the check found; empty: the copy is what was asked for, its tags what it is
};

/// Writes a copy (.wav or .flac). `album`: gain and tags count for all of it together; empty: for this one alone. A
/// copy that is found not to be what was asked for is written all the same, with its fault. Throws InputError,
/// OutputRefused, ChainError, Cancelled.
Levelled write_levelled(std::shared_ptr<const Clip> master, const Loudness& loudness, const LevelPlan& plan,
                        Destination to, const std::vector<const Loudness*>& album = {}, const Job& job = {});

/// Where the copies of some files go: their names in a folder. Where two have one name, each says what it was: "t
/// (wav)" and "t (flac)", or the folder it lay in.
std::vector<std::filesystem::path> copy_names(const std::vector<std::filesystem::path>& files,
                                              const std::filesystem::path& folder, bool flac);

Json levelled_json(const Levelled& levelled);

}  // namespace heathmist
