// What a null costs on pairs that differ, and its explanation: ratios against the plain null on the same files.
#pragma once
#include <filesystem>
#include <functional>
#include <string>
#include <vector>

#include "benchmarks/figures.hpp"

namespace heathmist::pairs {

struct Measurement {
  std::string name;
  std::function<void()> work;
  bool one_core = false;  ///< on one core alone, all its threads
};

/// Makes the returns of a master in its folder and gives what is to be measured. The results are read by `figures`.
std::vector<Measurement> measurements(const std::filesystem::path& master);

/// `wall_ms` and `cpu_ms` give the medians of a measurement, the latter of all its threads.
std::vector<bench::Figure> figures(const std::function<double(const std::string&)>& wall_ms,
                                   const std::function<double(const std::string&)>& cpu_ms);

}  // namespace heathmist::pairs
