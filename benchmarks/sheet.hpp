// What a sheet of two hundred files costs, against the meter alone.
#pragma once
#include <filesystem>

namespace heathmist::bench {

struct SheetCost {
  double meter_s = 0;   ///< measuring each of the files, one after the other
  double levels_s = 0;  ///< the sheet, with rules of levels and format
  double all_s = 0;     ///< the sheet with every rule there is
};
/// `clip`: what the files are cut from. They are written into `folder`, and no cache knows them.
SheetCost sheet_cost(const std::filesystem::path& clip, const std::filesystem::path& folder);

}  // namespace heathmist::bench
