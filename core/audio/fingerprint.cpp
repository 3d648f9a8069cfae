#include "core/audio/fingerprint.hpp"

#define XXH_INLINE_ALL
#include <fmt/format.h>
#include <sys/stat.h>
#include <xxhash.h>

#include <fstream>
#include <map>
#include <memory>
#include <mutex>
#include <tuple>
#include <vector>

#include "core/audio/sound_name.hpp"

namespace heathmist {

namespace {

constexpr size_t hash_digits = 32;
constexpr size_t most_known = 20000;

/// What tells at once that a file was not touched.
using Facts = std::tuple<dev_t, ino_t, off_t, time_t, long, time_t, long>;

Facts facts_of(const struct ::stat& s) {
  return {s.st_dev, s.st_ino, s.st_size, s.st_mtim.tv_sec, s.st_mtim.tv_nsec, s.st_ctim.tv_sec, s.st_ctim.tv_nsec};
}

/// Empty where it cannot be read to its end.
std::string hash_of(const std::filesystem::path& file, int64_t size) {
  std::ifstream in(file, std::ios::binary);
  const std::unique_ptr<XXH3_state_t, decltype(&XXH3_freeState)> state(XXH3_createState(), XXH3_freeState);
  XXH3_128bits_reset(state.get());
  std::vector<char> bytes(1 << 20);
  int64_t read = 0;
  while (in.read(bytes.data(), std::streamsize(bytes.size())), in.gcount() > 0) {
    XXH3_128bits_update(state.get(), bytes.data(), size_t(in.gcount()));
    read += in.gcount();
  }
  if (read != size) return {};
  const XXH128_hash_t hash = XXH3_128bits_digest(state.get());
  return fmt::format("{:x}-{:016x}{:016x}", size, hash.high64, hash.low64);
}

}  // namespace

std::string fingerprint(const std::filesystem::path& name) {
  if (const auto [file, number] = sound_name(name); number > 0) {
    const std::string print = fingerprint(file);
    return print.empty() ? print : fmt::format("{}.{}", number, print);
  }
  const std::filesystem::path& file = name;
  static std::mutex lock;
  static std::map<std::filesystem::path, std::pair<Facts, std::string>> known;
  struct ::stat before {};
  if (::stat(file.c_str(), &before) != 0 || !S_ISREG(before.st_mode)) return {};
  {
    std::scoped_lock held(lock);
    if (const auto it = known.find(file); it != known.end() && it->second.first == facts_of(before))
      return it->second.second;
  }
  const std::string print = hash_of(file, before.st_size);
  struct ::stat after {};
  if (print.empty() || ::stat(file.c_str(), &after) != 0 || facts_of(after) != facts_of(before)) return print;
  // One that was written within the clock's last tick may be written again within it.
  struct ::timespec now {};
  clock_gettime(CLOCK_REALTIME, &now);
  const double age_s = double(now.tv_sec - after.st_mtim.tv_sec) + 1e-9 * double(now.tv_nsec - after.st_mtim.tv_nsec);
  constexpr double tick_s = 0.05;
  if (age_s < tick_s) return print;
  std::scoped_lock held(lock);
  if (known.size() >= most_known) known.clear();
  known[file] = {facts_of(after), print};
  return print;
}

bool is_fingerprint(const std::string& text) {
  const auto dash = text.find('-');
  return dash != std::string::npos && text.size() - dash - 1 == hash_digits;
}

}  // namespace heathmist
