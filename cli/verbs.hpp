// The verbs of heathmist-cli. Each prints one JSON object or a short table, and throws InputError for a file it cannot
// use.
#pragma once
#include <string>
#include <vector>

#include "core/job.hpp"

namespace heathmist::cli {

void facts(const std::vector<std::string>& files, bool json);

struct NullCall {
  std::string master, ret, align = "auto", gain = "auto", drift = "auto", residual, floor;
  bool json = false;
};
/// Throws std::invalid_argument where an option's words are off.
void null(const NullCall& call);

/// Sends a master through a chain and writes the return.
void pass(const std::string& master, const std::string& chain, const std::string& out, bool json);
/// Lists the types of stages.
void stages(bool json);

/// Nulls every master and probe signal against every chain. `chains`: a file with a list of chains; `probes`: keys, or
/// all.
struct MatrixCall {
  std::vector<std::string> masters, probes;
  std::string chains, csv;
  bool json = false;
};
void matrix(const MatrixCall& call);

/// Searches the gain (or the limiter's ceiling) that keeps every chain's return under a limit.
struct CeilingCall {
  std::string master, chains;
  double limit_dbtp = 0;
  bool limiter = false, json = false;
};
void ceiling(const CeilingCall& call);

/// Progress for a person who watches: a line on standard error, where that is a terminal.
Job watched(const std::string& what);

}  // namespace heathmist::cli
