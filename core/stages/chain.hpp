// Chains: what a master is sent through, stage by stage, to make a return.
//
//   Chain chain = chain_from_json(Json::parse(text), folder);
//   Passed made = pass(Clip::open("master.wav"), chain);        // made.ret is the return
//
// A stage is a type and values; what types there are, with their parameters, units and ranges, stage_types() tells.
// Times are in the units the keys name; levels in dBFS where 0 is a full-scale sine's peak. Files in a chain are
// absolute in memory and relative to the chain's own file on disk.
#pragma once
#include "core/audio/atomic_file.hpp"
#include "core/audio/clip.hpp"
#include "core/json.hpp"
#include "core/stages/permission.hpp"

namespace heathmist {

struct Parameter {
  enum class Kind { number, whole, choice, flag, file, text };
  std::string key;
  Kind kind = Kind::number;
  std::string what, unit;
  double low = 0, high = 0;  ///< of numbers, both included
  Json initial;
  std::vector<std::string> choices{};
  std::string when{};                      ///< it counts only where the choice of this key ...
  std::vector<std::string> when_one_of{};  ///< ... is one of these; always where `when` is empty
};
const char* name_of(Parameter::Kind kind);

struct StageType {
  std::string type, title, what;
  std::vector<Parameter> parameters;
  std::optional<Capability> may{};  ///< what it does besides changing audio ...
  std::string may_when{};           ///< ... where this parameter is set; always where it is empty
  const Parameter* parameter(const std::string& key) const;
};
/// All types, in the order they are offered.
const std::vector<StageType>& stage_types();
/// nullptr: there is none of that name.
const StageType* stage_type(const std::string& type);

struct Stage {
  std::string type;
  Json values = Json::object();  ///< by parameter; what is not there has its initial value
  bool on = true;
  bool operator==(const Stage&) const = default;
};

struct Chain {
  std::string name;
  std::vector<Stage> stages;
  int rounds = 1;  ///< how many times everything goes through, 1 to 100
  bool operator==(const Chain&) const = default;
};

/// A chain that cannot be: one sentence that names the stage, says what is wrong and what it takes.
struct ChainError : std::runtime_error {
  using std::runtime_error::runtime_error;
};

/// A chain with a stage that would do what it has not been allowed to.
struct Disarmed : ChainError {
  using ChainError::ChainError;
};

/// Throws ChainError where a type, a parameter or a value is none.
void check(const Chain& chain);

/// A chain from JSON, checked; relative files are taken from `folder`. Throws ChainError.
Chain chain_from_json(const Json& json, const std::filesystem::path& folder = {});
/// The same unchecked, as far as it is a chain at all: it may hold stages that are not known. pass() will refuse those.
Chain unchecked_chain_from_json(const Json& json, const std::filesystem::path& folder = {});
Json chain_json(const Chain& chain, const std::filesystem::path& folder = {});
/// The same from a file. Throws InputError.
Chain load_chain(const std::filesystem::path& file);

/// The chain in a few words: "AAC 128 kbit/s, 16 bit TPDF".
std::string label_of(const Chain& chain);
std::string label_of(const Stage& stage);
/// Its name, or its words where it has none.
std::string title_of(const Chain& chain);
/// Whether a parameter counts with the values that a stage has.
bool counts(const Parameter& parameter, const Stage& stage);

/// What a stage tells when it has run.
struct StageReport {
  std::string type;
  std::optional<int64_t> encoded_bytes{}, bit_rate_bps{}, delay_samples{};
  std::string note{};  ///< what it did of its own: "converted to 48000 Hz"
};

struct Passed {
  std::shared_ptr<const Clip> ret;
  std::vector<StageReport> stages;  ///< of the stages that are on, of the last round
};

struct PassOptions {
  Grant grant = grant_nothing;  ///< what stages may do besides changing audio
  bool replace_kept = false;    ///< a file that is kept may take the place of another
  size_t first_place = 1;       ///< what the first stage is counted as in sentences
};

/// Sends a clip through a chain. A stage that would run a program or load a plug-in without leave is Disarmed; an
/// encoded file that may not be kept is not kept, and the stage's note says so. Throws ChainError, InputError,
/// Cancelled.
Passed pass(std::shared_ptr<const Clip> master, const Chain& chain, const Job& job = {},
            const PassOptions& options = {});

/// The files a chain reads: never to be written over.
std::vector<std::filesystem::path> files_read_by(const Chain& chain);

/// Writes a return: 32-bit float in `.wav`, 24 bit in `.flac`, or the word length the chain ends in.
/// Throws InputError, OutputRefused.
void write_return(const Passed& passed, const Chain& chain, const Destination& to, const Job& job = {});

/// Everything about the types as JSON: {"stages": [...]}.
Json stages_json();

}  // namespace heathmist
