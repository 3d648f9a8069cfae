// The null test: one master, one return, all that is measured from them.
//
//   auto master = Clip::open("mill-race.wav"), ret = Clip::open("back.mp3");
//   NullReport report = null_test(*master, *ret);
//   report.findings.front().text;   // the answer in one sentence
//
// Levels are relative to full scale = 1; "relative" ones to the master's RMS over the overlap. dB values that do not
// exist (of silence) are empty.
#pragma once
#include <optional>
#include <string>
#include <vector>

#include "core/compare/causes/cause.hpp"
#include "core/compare/fit.hpp"
#include "core/compare/sums.hpp"
#include "core/measure/survey.hpp"

namespace heathmist {

/// The one word for what happened.
enum class Kind {
  identical,
  shifted,
  level,
  word_length,
  linear,
  converted,
  lossy,
  limited,
  noise,
  changed,
  unrelated
};
const char* name_of(Kind kind);

enum class Severity { clean, note, caution, fault };
const char* name_of(Severity severity);

/// What a finding can be seen on.
enum class Evidence { lanes, fit, spectra, depth, path, parts, mask, words, course };

struct Finding {
  std::string code;  ///< stable, snake case
  Severity severity = Severity::note;
  std::string text;    ///< one plain sentence
  std::string detail;  ///< what goes with it; may be empty
  std::optional<double> value;
  std::string unit;
  std::optional<double> at_s;  ///< where to look, in the master's time
  Evidence evidence = Evidence::lanes;
  std::optional<std::pair<double, double>> when_s{}, band_hz{};  ///< where alone it holds; nothing: throughout
};

struct NullOptions {
  FitOptions fit;
  std::optional<Fit> held_fit;  ///< a fit from before or by hand: nothing is searched
};

struct NullReport {
  bool identical = false;
  Kind kind = Kind::unrelated;
  ClipFormat master, ret;
  Levels master_levels, return_levels;
  Overview master_overview, return_overview;
  Fit fit;
  ResidualSums sums;  ///< over the overlap
  std::optional<double> master_bandwidth_hz, return_bandwidth_hz;
  int breaks = 0;                 ///< places where the return does not run through; known once it has been explained
  double folded_share = 0;        ///< of the remainder, what is aliases; known once it has been explained
  bool explained = false;         ///< the causes are known
  std::vector<Cause> causes;      ///< the residual's budget, in the order they were taken out
  std::vector<Finding> findings;  ///< the verdict first, then worst first

  std::optional<double> residual_relative_db() const { return sums.residual_relative_db(); }
};

/// The pair as it is compared: both at the master's rate, over the band that both can carry.
struct Comparable {
  std::shared_ptr<const Clip> master, ret;
};
Comparable comparable(std::shared_ptr<const Clip> master, std::shared_ptr<const Clip> ret, const Job& job = {});

/// The residual of a fitted pair as a clip, on the master's time axis: worked out as it is read.
std::shared_ptr<const Clip> residual_clip(const Comparable& pair, const Fit& fit);

/// Same rate, channels, length and every sample equal, as the files stand.
bool same_samples(const Clip& master, const Clip& ret, const Job& job = {});

/// The whole test. `pair` comes from comparable(); `master` and `ret` are the clips as they stand.
NullReport null_test(const Clip& master, const Clip& ret, const Comparable& pair, const NullOptions& options = {},
                     const Job& job = {});
NullReport null_test(std::shared_ptr<const Clip> master, std::shared_ptr<const Clip> ret,
                     const NullOptions& options = {}, const Job& job = {});

/// The rules (kind.cpp, findings.cpp): measurements in, words out.
Kind kind_of(const NullReport& report);
/// The word length that the return's samples keep to, beneath later dither as far as its cause was found.
std::optional<int> bits_of_return(const NullReport& report);
/// The return's samples keep to a shorter word than the master's.
bool fewer_bits(const NullReport& report);
/// Nothing came back: the return stays under -100 dBFS, the master does not stay under -60.
bool is_silent(const NullReport& report);
std::vector<Finding> findings_of(const NullReport& report);

}  // namespace heathmist
