// Marks of a master: put, found, and brought out as a table or as cue points.
#pragma once
#include "core/audio/cue_points.hpp"
#include "core/bench/document.hpp"
#include "core/job.hpp"
#include "core/json.hpp"

namespace heathmist {

class Clip;

inline bool is_before(const Mark& a, const Mark& b) { return a.at_s < b.at_s; }
/// In the order of time; takes the place of the one with its id.
void put_mark(Master& master, Mark mark);
/// False: there is none.
bool drop_mark(Master& master, const std::string& id);
const Mark* mark_of(const Master& master, const std::string& id);
/// The next one behind a place, the last one before it; nullptr: there is none.
const Mark* mark_after(const Master& master, double at_s);
const Mark* mark_before(const Master& master, double at_s);

/// {"master", "at_s", "until_s", "text", "trial"} of every mark of a bench.
std::vector<Json> marks_rows(const Bench& bench);

std::vector<CuePoint> cue_points_of(const Master& master, int sample_rate_hz);

/// The master's audio, sample for sample, with its marks as cue points: a WAV file with the words, the `bext` chunk and
/// the pictures that it has. Cue points of its own are not carried over. Throws InputError, OutputRefused, Cancelled.
void write_with_marks(const Clip& audio, const Master& master, const Destination& to, const Job& job = {});

}  // namespace heathmist
