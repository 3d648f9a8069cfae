// What a stage may do to the machine besides changing audio, and who allows it (docs/security.md).
//
// Nothing is allowed unless somebody says so: on the command line `--allow`, in the window the user who armed that very
// stage on this machine (core/bench/armed.hpp).
#pragma once
#include <functional>
#include <optional>
#include <string>
#include <vector>

namespace heathmist {

struct Stage;
struct Chain;

enum class Capability { run_program, load_plugin, write_file };
/// The word of `--allow`: external, lv2, keep.
const char* word_of(Capability capability);
std::optional<Capability> capability_named(const std::string& word);

/// What a stage would do with the values it has; nothing: it only changes audio.
std::optional<Capability> capability_of(const Stage& stage);
/// The whole of it, for the person who is to allow it: "run the program: sox {in} {out}".
std::string deed_of(const Stage& stage);

/// Whether a stage may do what it would.
using Grant = std::function<bool(const Stage& stage)>;
/// Allows nothing.
bool grant_nothing(const Stage& stage);
/// Allows these, whatever they would do.
Grant grant_of(std::vector<Capability> capabilities);

/// The stages that are on and would do what is not granted.
std::vector<const Stage*> disarmed_stages(const Chain& chain, const Grant& grant);

}  // namespace heathmist
