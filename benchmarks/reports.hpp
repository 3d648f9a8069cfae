// What a report of two hundred trials costs beyond their measuring.
#pragma once
#include <filesystem>

namespace heathmist::bench {

struct ReportCost {
  double made_s = 0, html_s = 0, pdf_s = 0;
  int pages = 0;
};
/// `folder`: where a pair of some seconds is written; all trials are of it, measured once.
ReportCost report_cost(const std::filesystem::path& folder);

}  // namespace heathmist::bench
