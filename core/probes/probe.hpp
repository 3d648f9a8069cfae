// Probes as files: a test signal whose truth is known between two sync marks, so that it can be read back after it has
// been played through anything.
//
//   ProbeScore score = probe_score("sweep", 96000);
//   write_probe(score, "sweep.wav", ProbeWord::pcm24);
//   ... through the engine under test ...
//   std::optional<ProbeFit> heard = find_probe(*Clip::open("return.wav"), "sweep");
//
// Times in seconds from the file's first frame, levels in dBFS with a full-scale sine's peak at 0. Every channel is
// alike. The marks also tell the rate the probe was written at, so that a return of any rate can be read.
#pragma once
#include <optional>

#include "core/audio/atomic_file.hpp"
#include "core/audio/clip.hpp"
#include "core/probes/sweep_law.hpp"

namespace heathmist {

struct ProbeKind {
  std::string key, title, what;
  double body_s;
};
const std::vector<ProbeKind>& probe_kinds();
/// nullptr: there is none of that name.
const ProbeKind* probe_kind(const std::string& key);
/// The rates a probe can be written at.
const std::vector<int>& probe_rates();

/// A stretch of steady tones of equal level inside a body.
struct ProbeStep {
  double at_s = 0, seconds = 0;
  std::vector<double> tones_hz;
  double dbfs = 0;  ///< of each tone
};

struct ProbeScore {
  std::string kind;
  int rate_hz = 48000;
  double first_mark_s = 0, second_mark_s = 0, body_s = 0, body_seconds = 0, last_mark_s = 0, length_s = 0;
  double level_dbfs = -3;            ///< of a sweep
  std::optional<SweepLaw> sweep{};   ///< of its body's time
  std::vector<ProbeStep> steps{};    ///< times of the file
  std::vector<double> impulses_s{};  ///< times of the file, each on a frame
};
/// Throws std::invalid_argument for a kind or a rate there is not.
ProbeScore probe_score(const std::string& kind, int rate_hz);

/// All of it, one channel.
std::vector<double> render(const ProbeScore& score);
/// The body of a score by itself, as a clip of one channel: frame 0 is the body's first. For converters run in place.
std::shared_ptr<const Clip> body_clip(const ProbeScore& score);

enum class ProbeWord { pcm16, pcm24, float32 };
/// Two channels, both alike; 16 and 24 bits with TPDF dither. Throws InputError, OutputRefused.
void write_probe(const ProbeScore& score, const Destination& to, ProbeWord word);
/// What to do with the file, a sentence a line.
std::vector<std::string> instructions(const ProbeScore& score);

/// How a return lies on its probe.
struct ProbeFit {
  int probe_rate_hz = 0;
  double at_s = 0;      ///< where the probe's first frame lies in the return
  double stretch = 1;   ///< seconds of the return to a second of the probe
  double level_db = 0;  ///< of the marks against the probe's
  bool inverted = false;
  bool ends = false;  ///< the chirp at its end is where this kind has it
  double return_s(double probe_s) const { return at_s + probe_s * stretch; }
};
/// Looks for the marks in a channel of a return. Nothing: they are not there.
std::optional<ProbeFit> find_probe(const Clip& ret, const std::string& kind, int channel = 0, const Job& job = {});

/// The kinds whose last mark lies where the return has it: some are equally long.
std::vector<std::string> kinds_that_end_there(const Clip& ret, int channel = 0, const Job& job = {});

}  // namespace heathmist
