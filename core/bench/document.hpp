// The bench: the document that holds masters and their trials. One file, open JSON (docs/formats.md).
//
// In memory all files are absolute paths; on disk they stand relative to the bench. `settings` are kept
// as they are; other keys that are not known are dropped. It is read strictly: a value of another kind than the
// format's is refused with its place.
#pragma once
#include <filesystem>
#include <optional>
#include <string>
#include <vector>

#include "core/compare/manual_fit.hpp"
#include "core/hearing/blind_test.hpp"
#include "core/stages/chain.hpp"

namespace heathmist {

/// A file a bench refers to, with the fingerprint of its content when it was last seen.
struct FileRef {
  std::filesystem::path file;
  std::string fingerprint;
  bool operator==(const FileRef&) const = default;
};
enum class FileState { present, changed, missing };
FileState state_of(const FileRef& ref);

/// What is held by hand instead of measured.
struct FitHold {
  std::optional<double> delay_samples, drift_ppm, gain_db;
  std::optional<bool> inverted;  ///< all channels
  std::optional<bool> swapped;   ///< first two channels of the return exchanged
  std::optional<FitBy> by;       ///< delay, drift and gain are measured by a part of the signal
  bool any() const { return delay_samples || drift_ppm || gain_db || inverted || swapped || by; }
  bool operator==(const FitHold&) const = default;
};
/// The fit with what is held put in its place.
Fit with_hold(Fit fit, const FitHold& hold);

/// A finding that was put aside, as it stood then (put_aside.hpp).
struct PutAside {
  std::string code, text, detail, reason;
  bool operator==(const PutAside&) const = default;
};

struct Trial {
  std::string id, name;
  FileRef ret;  ///< empty where the return is made by a chain
  FitHold hold;
  std::optional<Chain> chain{};
  int version = 1;  ///< of the master, that the return came back from (versions.hpp)
  std::vector<PutAside> aside{};
  bool operator==(const Trial&) const = default;
};

/// Its name, or its chain in a few words.
std::string title_of(const Trial& trial);

/// A note at a spot or a range of a master.
struct Mark {
  std::string id, text;
  double at_s = 0;
  std::optional<double> until_s{};  ///< none: a spot
  std::string trial{};              ///< the one it was made on; empty: it is of the master
  bool operator==(const Mark&) const = default;
};

struct Master {
  std::string id, name;
  FileRef audio;
  std::vector<Trial> trials;
  std::string album{};             ///< masters of one album have one name here, and follow each other as on the bench
  std::vector<Mark> marks{};       ///< in the order of time (marks.hpp)
  std::vector<FileRef> earlier{};  ///< versions before this one, oldest first (versions.hpp)
  bool operator==(const Master&) const = default;
};

/// The baseline of the route: a recording of silence, or what is left of a file that went the same way: its master.
struct Floor {
  std::string name;
  FileRef recording;
  std::optional<FileRef> master;  ///< the recording is nulled with it
  bool operator==(const Floor&) const = default;
};

/// What came back of a probe that an engine was asked with: a file, or what a stand-in makes of it.
struct EngineRender {
  std::string id, kind;         ///< of the probe
  FileRef render;               ///< empty: the stand-in is asked
  std::string control{};        ///< what was moved, where an engine has more than one for it: "clip gain"
  std::optional<Json> score{};  ///< what was asked instead of the kind's own
  bool operator==(const EngineRender&) const = default;
};

/// An engine under test: one of the user's own by name, or a stand-in.
struct TestedEngine {
  std::string id, name;
  std::string stand_in{};  ///< its key; empty: renders are brought in
  std::vector<EngineRender> renders{};
  bool operator==(const TestedEngine&) const = default;
};

struct Bench {
  static constexpr int version = 5;  ///< a bench is written as the oldest one that holds all of it (formats.md)
  std::string name;
  std::vector<Master> masters;
  std::optional<Floor> floor;
  std::vector<Chain> chains{};  ///< kept by name, to be used again
  std::vector<TestedEngine> engines{};
  std::vector<FileRef> responses{};  ///< impulse responses, side by side
  std::vector<BlindTest> blind{};    ///< blind tests, the latest last
  Json settings = Json::object();
  bool operator==(const Bench&) const = default;

  Master* master(const std::string& id);
  Trial* trial(const std::string& id);
  Master* master_of(const std::string& trial_id);
  TestedEngine* engine(const std::string& id);
  const Master* master(const std::string& id) const { return const_cast<Bench*>(this)->master(id); }
  const Trial* trial(const std::string& id) const { return const_cast<Bench*>(this)->trial(id); }
  const TestedEngine* engine(const std::string& id) const { return const_cast<Bench*>(this)->engine(id); }
  const Master* master_of(const std::string& trial_id) const { return const_cast<Bench*>(this)->master_of(trial_id); }
};

/// A fresh id, unlike any other.
std::string fresh_id();

/// Reads a bench. What was mended on the way (ids that two entries shared) is told to `notes`, a sentence each. Throws
/// InputError for one that is broken or from a newer version.
Bench load_bench(const std::filesystem::path& file, std::vector<std::string>* notes = nullptr);

/// Writes a bench whole or not at all, in place of the file that is there. Throws InputError; OutputRefused where the
/// file is one that the bench holds.
void save_bench(const Bench& bench, const std::filesystem::path& file);

/// The bench as JSON, its files relative to `folder`; and back. Throws InputError that names `from`.
Json bench_json(const Bench& bench, const std::filesystem::path& folder);
Bench bench_from_json(const Json& json, const std::filesystem::path& folder, const std::filesystem::path& from,
                      std::vector<std::string>* notes = nullptr);

/// Every file a bench refers to.
std::vector<std::filesystem::path> files_of(const Bench& bench);

}  // namespace heathmist
