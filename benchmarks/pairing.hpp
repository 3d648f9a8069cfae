// What pairing two hundred by two hundred files of four minutes costs.
#pragma once
#include <filesystem>

namespace heathmist::bench {

struct PairingCost {
  double print_s = 0, read_s = 0;  ///< of one file: its print, and reading it once
  double match_s = 0;              ///< of all of them
  int wrong = 0;                   ///< pairs that are none, and those that were not found
};
/// `file`: one that prints are made of, some minutes long. 40 of the masters have no return and 20 returns no master.
PairingCost pairing_cost(const std::filesystem::path& file);

}  // namespace heathmist::bench
