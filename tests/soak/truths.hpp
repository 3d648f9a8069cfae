// What must hold of the window at any time, and how large its process is.
#pragma once
#include <QString>
#include <vector>

#include "app/shell/main_window.hpp"

namespace heathmist::soak {

/// Of this process.
struct Size {
  int64_t bytes = 0;  ///< resident
  int handles = 0, threads = 0;
};
Size size_now();

/// What grew from one to the other beyond what chance does; a sentence each.
std::vector<QString> growth(const Size& early, const Size& late);

/// Of every trial the ledger, its result and the table of trials say the same. A sentence for each that does not.
std::vector<QString> unlike_numbers(app::MainWindow& window);

}  // namespace heathmist::soak
