// What probes and spectra come to, as JSON; and the words a converter's reading deserves.
#pragma once
#include "core/compare/json.hpp"
#include "core/probes/read.hpp"
#include "core/probes/score_json.hpp"

namespace heathmist {

Json line_json(const SpectralLine& line);
/// The heads of a table of lines, the file's path first.
std::vector<std::string> line_heads();
/// Numbers of a spectrum's lines; `lines` holds each of them, strongest first.
Json lines_json(const LineReading& reading);
/// One sentence where a line is wider than one line is, with the FFT size that would part two; empty where none is.
std::string unresolved_text(const LineReading& reading);
/// What `imd_db` is against, in words.
const char* imd_against(Intermodulation method);
Json sweep_json(const SweepReading& reading);
Json impulse_json(const ImpulseReading& reading);
/// {"kind", "probe_rate_hz", "return_rate_hz", "delay_samples", "drift_ppm", "level_db", "polarity", ...}: the
/// contract's answer to `read`.
Json probe_json(const ProbeReading& reading);
/// Each point of a sweep, or each step, as a flat object: for CSV.
std::vector<Json> points_of(const ProbeReading& reading);

/// How good a conversion is, by what of it folds back under 20 kHz and by what it does to the pass band.
enum class Grade { spotless, clean, fair, poor };
const char* name_of(Grade grade);
Grade grade_of(const SweepReading& reading);
/// One sentence with the number that decides it.
std::string label_of(const SweepReading& reading);

}  // namespace heathmist
