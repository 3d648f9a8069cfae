// The verbs of heathmist-cli, one file each: add_...() gives the program its verb with all its options, which runs when
// it is called. A verb prints one JSON object or a short table. It throws std::invalid_argument where the words of the
// call are off, InputError for a file that cannot be used, SomeFailed where that was told already.
#pragma once
#include "cli/session.hpp"
#include "core/delivery/outlet.hpp"
#include "core/measure/meter.hpp"

namespace heathmist::cli {

void add_facts(CLI::App& app);
void add_measure(CLI::App& app);
void add_outlets(CLI::App& app);
void add_level(CLI::App& app);
void add_null(CLI::App& app);
void add_pass(CLI::App& app);
void add_stages(CLI::App& app);
void add_matrix(CLI::App& app);
void add_ceiling(CLI::App& app);
void add_spectrum(CLI::App& app);
void add_probe(CLI::App& app);
void add_read(CLI::App& app);
void add_converters(CLI::App& app);
void add_engines(CLI::App& app);
void add_perform(CLI::App& app);
void add_blind(CLI::App& app);
void add_devices(CLI::App& app);
void add_capture(CLI::App& app);
void add_check(CLI::App& app);
void add_pair(CLI::App& app);
void add_align(CLI::App& app);
void add_reach(CLI::App& app);
void add_listeners(CLI::App& app);
void add_deliverables(CLI::App& app);

/// What of a file is listened to and how long, as more than one verb takes it.
struct Range {
  std::string listen = "all";
  double from_s = 0, to_s = -1;
};
void add_range(CLI::App& verb, Range& range);
/// "all", "mid", "side" or a channel's number from 1. Throws std::invalid_argument.
MeterOptions listening(const std::string& words);
/// Throws std::invalid_argument where the words are off, or it ends before it begins.
void check(const Range& range);
/// First frame and the one behind the last (-1: the end). Throws InputError where it begins behind the file's end.
std::pair<int64_t, int64_t> frames_of(const Range& range, const Source& source, const ClipFormat& format);

/// The outlet of a key. Throws std::invalid_argument that lists the keys that there are.
Outlet outlet_named(const std::string& key);

/// Chains from a file: a list, {"chains": [...]}, or one alone.
std::vector<Chain> chains_from(Session& session, const std::string& file);

/// A probe's score from a file, or from what `probe --json` printed. Throws InputError where it is none of that kind.
Json score_from(Session& session, const std::string& file, const std::string& kind);

/// A number with so many decimals, or "none".
std::string shown(std::optional<double> value, int decimals = 1, const char* unit = "");

}  // namespace heathmist::cli
