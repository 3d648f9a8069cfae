// What was measured, as one table with what is to be reached, kept as JSON so that two runs can be compared.
#pragma once
#include <filesystem>
#include <optional>
#include <string>
#include <vector>

namespace heathmist::bench {

struct Figure {
  std::string what, against;  ///< against: what its ratio is to; empty: it is no ratio
  double value = 0;
  std::string unit{};  ///< "s", "MiB"; empty: a ratio
  std::optional<double> to_reach{};
  bool more_is_better = false;

  bool is_met() const { return !to_reach || (more_is_better ? value >= *to_reach : value <= *to_reach); }
};

/// A line each, with what it was `before`, found by what and against.
std::string table_of(const std::vector<Figure>& figures, const std::vector<Figure>& before = {});

/// Throws OutputRefused where the file is there already, InputError where it cannot be written.
void write_figures(const std::vector<Figure>& figures, const std::filesystem::path& file);
/// Throws InputError, naming the file, where it cannot be read or holds no figures.
std::vector<Figure> read_figures(const std::filesystem::path& file);

}  // namespace heathmist::bench
