// Probes as files: a test signal whose truth is known between two sync marks, so that it can be read back after it has
// been played through anything.
//
//   ProbeScore score = probe_score("sweep", 96000);
//   write_probe(score, "sweep.wav", ProbeWord::pcm24);
//   ... through the engine under test ...
//   std::optional<ProbeFit> heard = find_probe(*Clip::open("return.wav"), "sweep");
//
// Times in seconds from the file's first frame, levels in dBFS with a full-scale sine's peak at 0. The marks are alike
// in every channel, and so are all bodies but those of probes for engines; these ask for something to be done, which is
// their score (score.hpp). The marks also tell the rate the probe was written at, so that a return of any rate can be
// read.
#pragma once
#include <optional>

#include "core/audio/atomic_file.hpp"
#include "core/audio/clip.hpp"
#include "core/probes/score.hpp"
#include "core/probes/sweep_law.hpp"

namespace heathmist {

struct ProbeKind {
  std::string key, title, what;
  double body_s;
  bool for_engines = false;  ///< it asks for something to be done, or for everything to be left alone
};
const std::vector<ProbeKind>& probe_kinds();
/// nullptr: there is none of that name.
const ProbeKind* probe_kind(const std::string& key);
/// The rates a probe can be written at.
const std::vector<int>& probe_rates();

/// Whether a kind that there is can be written at a rate.
bool has_rate(const std::string& kind, int rate_hz);

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

  int channels = 2;
  double mark_dbfs = -12.0411998265592;  ///< a quarter of full scale
  GainScore gain{};
  std::vector<PanMove> moves{};
  std::optional<CrossfadeScore> crossfade{};
  std::vector<TrimSection> sections{};
  Stretch identity{}, silence{};  ///< of `transit`
  /// Of a crossfade there are two.
  int files() const { return crossfade ? 2 : 1; }
  int64_t frames(int file = 0) const;
};
struct ProbeOptions {
  bool mono = false;  ///< one channel; of probes for engines only
};
/// Throws std::invalid_argument for a kind, a rate or a number of channels there is not.
ProbeScore probe_score(const std::string& kind, int rate_hz, const ProbeOptions& options = {});

/// All of it, one channel; of probes with channels alike.
std::vector<double> render(const ProbeScore& score);
/// All of it, as many channels as the score has. `file`: of a crossfade the first, 0, or the second, 1.
Planar render_channels(const ProbeScore& score, int file = 0);
/// The body of a score by itself, as a clip of one channel: frame 0 is the body's first. For converters run in place.
std::shared_ptr<const Clip> body_clip(const ProbeScore& score);

enum class ProbeWord { pcm16, pcm24, float32 };
inline constexpr ProbeWord probe_words[] = {ProbeWord::pcm24, ProbeWord::pcm16, ProbeWord::float32};
int bits_of(ProbeWord word);
/// The samples as they are written: 16 and 24 bits with TPDF dither; of probes for engines digital silence stays what
/// it is.
Planar sound_of(const ProbeScore& score, ProbeWord word, int file = 0);
Planar as_written(Planar sound, const ProbeScore& score, ProbeWord word, int file = 0);
/// Throws InputError, OutputRefused.
void write_probe(const ProbeScore& score, const Destination& to, ProbeWord word, int file = 0);
/// What to do with the file, a sentence a line.
std::vector<std::string> instructions(const ProbeScore& score);

/// How a return lies on its probe.
struct ProbeFit {
  int probe_rate_hz = 0;
  double at_s = 0;      ///< where the probe's first frame lies in the return
  double stretch = 1;   ///< seconds of the return to a second of the probe
  double level_db = 0;  ///< of the marks against the probe's
  bool inverted = false;
  bool ends = false;       ///< the chirp at its end is where this kind has it
  double last_mark_s = 0;  ///< that chirp's start in the return
  double probe_s(double return_s) const { return (return_s - at_s) / stretch; }
  /// The frame the probe's first one became, where a return of this rate has the probe's own samples.
  std::optional<int64_t> whole_frame(int return_rate_hz) const;
  double return_s(double probe_s) const { return at_s + probe_s * stretch; }
};
/// Looks for the marks in a channel of a return. Nothing: they are not there.
std::optional<ProbeFit> find_probe(const Clip& ret, const std::string& kind, int channel = 0, const Job& job = {});

/// The kinds whose last mark lies where the return has it: some are equally long.
std::vector<std::string> kinds_that_end_there(const Clip& ret, int channel = 0, const Job& job = {});

}  // namespace heathmist
