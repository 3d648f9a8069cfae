#define XXH_INLINE_ALL
#include "core/audio/cache.hpp"

#include <xxhash.h>

#include <algorithm>
#include <atomic>
#include <cstdlib>
#include <fstream>
#include <sstream>
#include <vector>

#include "core/audio/atomic_file.hpp"

namespace heathmist {

namespace fs = std::filesystem;

namespace {

std::atomic<uintmax_t> limit{uintmax_t(256) << 20};
std::atomic<int> written{0};
constexpr int sweep_every = 32;  // files written
constexpr size_t check_bytes = 8;

/// Only what this program names so: nothing else that may lie there is touched.
bool is_ours(const fs::path& file) {
  const auto ending = file.extension();
  return ending == ".survey" || ending == ".loudness" || ending == ".trial" || ending == ".converter";
}

struct Entry {
  fs::path file;
  uintmax_t bytes;
  fs::file_time_type used;
};

std::vector<Entry> entries_of(const fs::path& folder) {
  std::vector<Entry> entries;
  std::error_code trouble;
  for (fs::directory_iterator at(folder, trouble), end; !trouble && at != end; at.increment(trouble)) {
    std::error_code gone;
    if (!at->is_regular_file(gone) || gone || !is_ours(at->path())) continue;
    const Entry entry{at->path(), at->file_size(gone), at->last_write_time(gone)};
    if (!gone) entries.push_back(entry);
  }
  return entries;
}

/// Stands behind what is kept: a file that was cut, or in which a bit turned, is none.
std::string check_of(const std::string& bytes) {
  const uint64_t hash = XXH3_64bits(bytes.data(), bytes.size());
  std::string check;
  for (size_t n = 0; n < check_bytes; ++n) check.push_back(char(hash >> (8 * n)));
  return check;
}

}  // namespace

fs::path cache_folder() {
  const char *wanted = std::getenv("XDG_CACHE_HOME"), *home = std::getenv("HOME");
  fs::path folder;
  if (wanted && *wanted)
    folder = fs::path(wanted) / "heathmist";
  else if (home && *home)
    folder = fs::path(home) / ".cache" / "heathmist";
  std::error_code trouble;
  fs::create_directories(folder, trouble);
  return trouble ? fs::path{} : folder;
}

std::optional<std::string> read_cache(const std::string& name) {
  const auto folder = cache_folder();
  if (folder.empty() || name.empty()) return {};
  std::ifstream in(folder / name, std::ios::binary);
  if (!in) return {};
  std::ostringstream bytes;
  bytes << in.rdbuf();
  std::string kept = std::move(bytes).str();
  if (kept.size() < check_bytes) return {};
  const std::string check = kept.substr(kept.size() - check_bytes);
  kept.resize(kept.size() - check_bytes);
  if (check != check_of(kept)) return {};
  std::error_code ignored;
  fs::last_write_time(folder / name, fs::file_time_type::clock::now(), ignored);
  return kept;
}

void write_cache(const std::string& name, const std::string& bytes) {
  const auto folder = cache_folder();
  if (folder.empty() || name.empty()) return;
  try {
    write_whole({folder / name, true}, bytes + check_of(bytes));
  } catch (const std::exception&) {
  }
  if (++written % sweep_every == 0) sweep_cache();
}

void set_cache_limit(uintmax_t bytes) { limit = bytes; }

int sweep_cache() {
  const auto folder = cache_folder();
  if (folder.empty()) return 0;
  auto entries = entries_of(folder);
  uintmax_t all = 0;
  for (const Entry& e : entries) all += e.bytes;
  if (all <= limit) return 0;
  std::sort(entries.begin(), entries.end(), [](const Entry& a, const Entry& b) { return a.used < b.used; });
  int gone = 0;
  for (const Entry& e : entries) {
    if (all <= limit / 4 * 3) break;
    std::error_code trouble;
    if (fs::remove(e.file, trouble) && !trouble) all -= e.bytes, ++gone;
  }
  return gone;
}

}  // namespace heathmist
