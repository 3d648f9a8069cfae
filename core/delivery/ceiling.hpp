// The ceiling search: how far a master must come down, or how low its limiter must be set, so that no encode comes back
// over the limit.
//
// Encoders are chaotic: a setting may hold where the next ones below it do not. What is answered therefore holds over a
// neighbourhood, for settings a little lower and for other places of the encoder's blocks in the audio.
#pragma once
#include "core/measure/true_peak.hpp"
#include "core/stages/chain.hpp"

namespace heathmist {

struct CeilingOptions {
  double limit_dbtp = 0;  ///< what the decoded return may reach
  bool limiter = false;   ///< search the ceiling of a true-peak limiter instead of a gain
  double tolerance_db = 0.05;
};

/// One encode that was tried: what was set before it, and what came back.
struct CeilingPoint {
  double set_db = 0;  ///< gain in dB, or ceiling in dBTP
  double true_peak_dbtp = 0;
  int64_t overs = 0;           ///< moments above the limit
  int64_t offset_samples = 0;  ///< of silence put before the audio, so that blocks begin elsewhere in it
};

struct CeilingAnswer {
  std::string name;                  ///< of the chain
  std::optional<double> set_db;      ///< that keeps the return under the limit, with all around it; none: nothing does
  std::vector<CeilingPoint> points;  ///< what was tried, by set_db
  int neighbours = 0;                ///< encodes at and just under the answer, none of which came back over
  std::optional<double> margin_db;   ///< from the highest of them to the limit
  std::optional<double> risk_at_most;  ///< share of such encodes that may come back over, with 95 % confidence
  std::vector<CeilingPoint> lucky;     ///< tries that held above one that did not
  std::vector<Over> worst;             ///< the ten worst moments of the return as the master stands
  std::string failure;                 ///< why this one could not be done
};

struct Ceiling {
  CeilingOptions options;
  std::vector<CeilingAnswer> answers;  ///< in the order of the chains
  /// What is enough for all that could be done.
  std::optional<double> for_all_db() const;
};

/// Tries that lie closely together as one, with how far they spread: what the curve is drawn from.
struct CeilingSpread {
  double set_db = 0, low_dbtp = 0, high_dbtp = 0;
};
std::vector<CeilingSpread> spread_of(const CeilingAnswer& answer);

/// Searches every chain, two at a time on two cores, from 24 dB down to 24 dB up (a ceiling: -24 to 0 dBTP), to within
/// the tolerance; then tries twelve encodes at the answer and to 0.2 dB under it, begun at different places in the
/// audio, and goes down until all of them hold. `done` is called for each chain as it is done, from any thread, one at
/// a time. Throws Cancelled.
Ceiling find_ceiling(std::shared_ptr<const Clip> master, const std::vector<Chain>& chains,
                     const CeilingOptions& options, const Job& job = {},
                     const std::function<void(size_t, const CeilingAnswer&)>& done = {},
                     const Grant& grant = grant_nothing);

/// The same of a file; what is found is kept for kept_ceiling(). Throws InputError too.
Ceiling find_ceiling(const std::filesystem::path& master, const std::vector<Chain>& chains,
                     const CeilingOptions& options, const Job& job = {},
                     const std::function<void(size_t, const CeilingAnswer&)>& done = {},
                     const Grant& grant = grant_nothing);
/// What a search of this chain came to on this machine, with these options, where neither the master's file nor
/// anything the chain reads has changed since; else nothing. Not kept of chains that run programs, load plug-ins or
/// write files.
std::optional<CeilingAnswer> kept_ceiling(const std::filesystem::path& master, const Chain& chain,
                                          const CeilingOptions& options);

Json ceiling_json(const Ceiling& ceiling);

}  // namespace heathmist
