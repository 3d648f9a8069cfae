// What every test of the real window starts with: settings, caches and autosave of its own, the day variant.
#pragma once
#include "tests/support/signals.hpp"

namespace heathmist::test {

void prepare_window(const Folder& folder);

}  // namespace heathmist::test
