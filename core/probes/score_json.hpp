// Scores as files: JSON for scripts, CSV and a MIDI file for engines that can import them, sentences for people.
#pragma once
#include <cstdint>
#include <string>
#include <vector>

#include "core/json.hpp"
#include "core/probes/probe.hpp"

namespace heathmist {

/// {"kind", "rate_hz", marks and body, and what is asked: "points" and "events", "moves", "sections" or the places of a
/// crossfade}.
Json score_json(const ProbeScore& score);
/// A probe's score with what a file asks instead of its own. Throws JsonError: one sentence without the file's name.
ProbeScore with_score(ProbeScore score, const Json& asked);

/// Time and value, a line each, under a heading; of gain in dB, of pan the position. Empty where nothing moves.
std::string score_csv(const ProbeScore& score);
/// What there is to do, a sentence a step.
std::vector<std::string> score_steps(const ProbeScore& score);
/// The same as a Standard MIDI File of format 0 at 1000 ticks a second: controller 7 (volume) by the law 40
/// log10(v/127) dB of the General MIDI recommendation, or 10 (pan). Empty where nothing moves.
std::vector<uint8_t> score_midi(const ProbeScore& score);

}  // namespace heathmist
