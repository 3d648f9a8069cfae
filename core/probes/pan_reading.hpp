// Reading a position control back: what each input gives to each output, at every position.
#pragma once
#include <array>
#include <optional>
#include <vector>

#include "core/audio/clip.hpp"
#include "core/probes/probe.hpp"

namespace heathmist {

/// Amplitude with sign from an input (row) to an output (column). Of a probe with one channel only the first row
/// counts.
using MixMatrix = std::array<std::array<double, 2>, 2>;

struct PanPoint {
  double at_s = 0, position = 0;
  MixMatrix matrix{};
  double power_db = 0;  ///< of both outputs, inputs unlike and equally loud, against one output as loud as its input
};

/// `balance`: each input stays on its side; `pan`: each is placed by itself; `mono`: both are summed first; `none`: the
/// position changes nothing.
enum class PanKind { balance, pan, mono, none };
const char* name_of(PanKind kind);
enum class Taper { linear, sine, square_root, other };
const char* name_of(Taper taper);
/// A side's gain where a share of its way is left.
double taper_gain(Taper taper, double share);

struct PanReading {
  std::optional<PanKind> kind;  ///< none: one position alone tells no kind
  int inputs = 2;
  std::optional<double> centre_db;  ///< gain of one side at 0 against that side alone at its end
  Taper taper = Taper::other;
  std::optional<double> taper_fit_db;  ///< greatest departure from it where the gain is above -40 dB
  std::optional<double> width;         ///< at 0: side's gain over middle's; 1: as it was, 0: mono
  bool inverted = false;               ///< in polarity, at 0
  bool swapped = false;                ///< at 0 either input comes out on the other side
  bool reversed = false;               ///< the position moves the other way
  std::vector<PanPoint> positions;     ///< held ones, each once, from left to right
  std::vector<PanPoint> course;        ///< every 50 ms of a move
};
/// Throws InputError where the tones are not there or the score was not followed, Cancelled.
PanReading read_pan(const Clip& ret, const ProbeScore& score, const ProbeFit& fit, const Job& job = {});

/// Law and level from positions that were read, of one render or of several.
PanReading judge_pan(std::vector<PanPoint> positions, int inputs);

/// What tones put into either channel come to in each output over a stretch, by least squares against the known tones.
/// `share`: of the sound that they are.
MixMatrix mix_of(const Clip& ret, const ProbeFit& fit, Stretch where, int inputs, double* share = nullptr);

}  // namespace heathmist
