// Stand-in engines: small made-up mixers that do what a score asks, each with habits of its own.
//
//   for (const Engine& e : known_engines()) Planar render = perform(score, {clip}, e);
//
// An engine is a small JSON file (docs/formats.md). Times in ms, levels in dB, lengths in frames of the engine's rate.
#pragma once
#include <filesystem>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "core/json.hpp"
#include "core/probes/crossfade_reading.hpp"
#include "core/probes/gain_reading.hpp"
#include "core/probes/pan_reading.hpp"

namespace heathmist {

struct Engine {
  std::string key, name, what;
  bool shipped = false;

  // on the way through
  double latency_samples = 0;  ///< not made up for
  double gain_db = 0;          ///< with every control at rest
  bool inverted = false, swapped = false;
  double dc = 0;
  int rate_hz = 0;                    ///< its own; a file of another rate is converted. 0: it takes the file's
  std::string converter = "libsoxr";  ///< by which; see the stage `converter`

  // a volume line
  enum class Glide { none, linear, one_pole, raised_cosine };
  Glide glide = Glide::none;
  double glide_ms = 0;   ///< whole time; of a pole its time constant
  double late_ms = 0;    ///< before it begins
  int block_frames = 0;  ///< it looks at its line once a block and holds what it finds; 0: at every frame
  bool in_decibels = false;

  // a position
  PanKind pan = PanKind::balance;
  Taper taper = Taper::sine;
  bool unity_in_middle = true;  ///< a side falls only past the middle; else along the whole way

  // two clips
  FadeLaw fade = FadeLaw::linear;
  double fade_bend = 9;

  // the bus
  enum class Bus { exact, single, fixed };
  Bus bus = Bus::exact;
  int bus_bits = 24;  ///< of a fixed one
  bool dither = false;
  std::optional<double> clips_at_dbfs;

  /// How its renders are written: 16 or 24 bits, or 32 for floating point.
  int writes_bits = 32;
};

/// An engine that cannot be: one sentence that says which key is wrong and what it takes.
struct EngineError : std::runtime_error {
  using std::runtime_error::runtime_error;
};
Engine engine_from_json(const std::string& key, const Json& json);
Json engine_json(const Engine& engine);

/// Where the user's own lie, a file each: `$XDG_CONFIG_HOME/heathmist/engines`.
std::filesystem::path engines_folder();
const std::vector<Engine>& shipped_engines();
/// The shipped ones and the user's own, which come first where they have the same key. What cannot be read is told to
/// `refused`, a sentence each that names the file.
std::vector<Engine> known_engines(std::vector<std::string>* refused = nullptr);

/// Does what a score asks with a probe's file (of a crossfade with both), and gives what the engine would render, at
/// its rate. Throws InputError where a file is not that probe, std::invalid_argument for a number of files that the
/// kind has not, Cancelled.
std::shared_ptr<const Clip> perform(const ProbeScore& score, const std::vector<std::shared_ptr<const Clip>>& probe,
                                    const Engine& engine, const Job& job = {});

/// Has the stage `engine` among those that chains are made of; to be called before any chain is looked at.
void offer_engine_stage();

/// What a matrix an engine's position makes, for one or two inputs.
MixMatrix pan_matrix(const Engine& engine, double position, int inputs);
/// A volume line as it is rendered: amplitudes at every frame.
std::vector<double> rendered_line(const Engine& engine, const GainScore& line, double rate_hz, int64_t frames);

}  // namespace heathmist
