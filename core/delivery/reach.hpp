// Ways to an outlet's loudness, and what each of them costs: level alone, a limiter, a compressor before it.
//
//   Reach r = ways_to(outlet, Clip::open("master.wav"));
//   if (r.best) pass(master, r.ways[*r.best].chain);
#pragma once
#include "core/delivery/outlet.hpp"
#include "core/stages/permission.hpp"

namespace heathmist {

struct Way {
  std::string name;
  Chain chain;
  std::optional<double> loudness_lufs, true_peak_dbtp;  ///< of the return; the peak after the outlet's encode, if any
  std::optional<double> plr_db, range_lu;
  std::optional<double> residual_relative_db;  ///< against the master, both equally loud; none: nothing is left
  double moves_a_minute = 0;                   ///< how often its gain goes 0.5 dB under the usual
  bool reaches = false;                        ///< within 0.1 LU of the target, and no peak over the limit
};

struct Reach {
  double target_lufs = 0, ceiling_dbtp = -1;
  std::vector<Way> ways;
  std::optional<size_t> best;  ///< that reaches it with the least residual
};

/// Each way is set, by passing the master through it again and again, until its loudness is the target's within 0.05 LU
/// or goes no further; where the encode comes back over the limit, the limiter's ceiling is lowered. `told` is called
/// as each is done. Throws InputError (a silent master, too), ChainError, Cancelled.
Reach ways_to(const Outlet& outlet, std::shared_ptr<const Clip> master, const Job& job = {},
              const Grant& grant = grant_nothing, const std::function<void(const Way&)>& told = {});

Json way_json(const Way& way);

}  // namespace heathmist
