// Returns that are made here: chains run over masters, with what was made before kept at hand.
#pragma once
#include <string>

#include "core/stages/chain.hpp"
#include "core/store.hpp"

namespace heathmist {

/// A short hash of all that a chain's result hangs on: its stages that are on, their values, the content of the files
/// they read, and the versions of the libraries that encode and convert.
std::string chain_fingerprint(const Chain& chain);

/// Runs chains. The last results are kept, those of a chain's front part too: an edit at the end of a chain does not
/// encode again what stands before it. Not to be shared by threads.
class Returns {
 public:
  /// Throws as pass() does. `master_fingerprint`: of the master's file.
  Passed make(const std::shared_ptr<const Clip>& master, const std::string& master_fingerprint, const Chain& chain,
              const Job& job, const Grant& grant = grant_nothing);
  /// Stages run so far (not those that were at hand).
  int64_t stages_run() const { return stages_run_; }

 private:
  static constexpr size_t most_bytes = size_t(4) << 30;  // on disk
  Store<Passed> kept_{most_bytes, 2};
  int64_t stages_run_ = 0;
};

}  // namespace heathmist
