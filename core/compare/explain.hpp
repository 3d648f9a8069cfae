// The explanation: why a pair does not null. Everything the residual can be taken apart into, and the findings on it.
//
//   NullReport report = null_test(*master, *ret, pair);
//   Explanation why = explain(*master, *ret, pair, report);   // the report's kind and findings are told anew from both
#pragma once
#include "core/compare/aliasing.hpp"
#include "core/compare/causes/layers.hpp"
#include "core/compare/continuity.hpp"
#include "core/compare/depth.hpp"
#include "core/compare/dynamics.hpp"
#include "core/compare/null.hpp"
#include "core/compare/path.hpp"
#include "core/compare/requantised.hpp"
#include "core/measure/origin.hpp"
#include "core/measure/word_length.hpp"

namespace heathmist {

/// What is studied of each of the two clips by itself.
struct ClipStudy {
  std::optional<WordStudy> words;
  Origin origin;
  FlatTops flat_tops;
  std::vector<Over> overs;
};

struct Explanation {
  Split split;                   ///< empty where nothing is left to split
  std::vector<PathBand> bands;   ///< sixth octaves
  std::vector<DepthBand> depth;  ///< third octaves
  std::vector<CloseMoment> closest;
  MaskMap mask;
  Continuity continuity;
  std::optional<Requantisation> requantised;
  GainTrace gain;
  std::vector<Aliasing> aliasing;  ///< of the rates that fold anything
  std::optional<ShapedNoise> shaped_noise;
  ClipStudy master, ret;
  Layers layers;                  ///< that the report's causes are parts of
  std::optional<Spectrum> floor;  ///< of the route, on the bins of the residual's spectrum
  double floor_share = 0;         ///< of the residual's power that is no more than the floor
};

struct ExplainOptions {
  std::optional<Spectrum>
      floor;  ///< power per bin of what the route alone leaves, at the master's level; any resolution
};

/// Explains a report. Puts the better remainder into `report.sums` and tells `report.kind` and `report.findings` anew.
Explanation explain(const Clip& master, const Clip& ret, const Comparable& pair, NullReport& report,
                    const ExplainOptions& options = {}, const Job& job = {});

/// The rules (explained.cpp): what an explanation adds to the findings.
std::vector<Finding> findings_of(const NullReport& report, const Explanation& why);

/// A spectrum's power on the bins of another, by density.
Spectrum on_bins_of(const Spectrum& spectrum, const Spectrum& like);

}  // namespace heathmist
