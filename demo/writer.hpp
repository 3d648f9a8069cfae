// Writes the demo: the masters of Curlew Hours, returns of them with known faults, and the bench that holds them.
#pragma once
#include <filesystem>

namespace heathmist::demo {

/// Makes what is missing in `folder`; returns the bench's file. Throws InputError.
std::filesystem::path write_demo(const std::filesystem::path& folder);

}  // namespace heathmist::demo
