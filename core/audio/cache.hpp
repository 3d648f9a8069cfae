// What was measured, kept between runs: files in the user's cache, each under a name that says all it hangs on
// (fingerprints of what was read, values, the version of the rules). They may go at any time.
#pragma once
#include <cstdint>
#include <filesystem>
#include <optional>
#include <string>

namespace heathmist {

/// `$XDG_CACHE_HOME/heathmist`, or `~/.cache/heathmist`; empty where none can be made.
std::filesystem::path cache_folder();

/// What was kept under a name; it counts as used now. Nothing where there is none, it is not as it was kept, or the
/// name is empty.
std::optional<std::string> read_cache(const std::string& name);

/// Keeps it whole or not at all; a cache that cannot be written only costs time. Now and then the cache is swept.
void write_cache(const std::string& name, const std::string& bytes);

/// How much the cache may hold (256 MiB unless it is told otherwise).
void set_cache_limit(uintmax_t bytes);

/// Takes away what was not used the longest, where all together is over the limit, down to three quarters of it. How
/// many files went.
int sweep_cache();

}  // namespace heathmist
