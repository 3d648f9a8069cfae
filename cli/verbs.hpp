// The verbs of heathmist-cli. Each prints one JSON object or a short table, and throws InputError for a file it cannot
// use.
#pragma once
#include <string>
#include <vector>

namespace heathmist::cli {

void facts(const std::vector<std::string>& files, bool json);

struct NullCall {
  std::string master, ret, align = "auto", gain = "auto", drift = "auto", residual, floor;
  bool json = false;
};
/// Throws std::invalid_argument where an option's words are off.
void null(const NullCall& call);

}  // namespace heathmist::cli
