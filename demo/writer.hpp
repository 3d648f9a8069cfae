// Writes the demo: the masters of Curlew Hours, returns of them with known faults, and the bench that holds them.
#pragma once
#include <filesystem>

#include "core/job.hpp"

namespace heathmist::demo {

/// Raised when any of its files changes.
constexpr int version = 12;

/// The bench in `folder`, as it would lie there.
std::filesystem::path bench_in(const std::filesystem::path& folder);
/// It is there with every file of it.
bool is_whole(const std::filesystem::path& folder);
/// Makes what is missing in `folder`; returns the bench's file. Throws InputError, Cancelled.
std::filesystem::path write_demo(const std::filesystem::path& folder, const Job& job = {});

}  // namespace heathmist::demo
