#include "core/audio/temporary.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <signal.h>
#include <sys/file.h>
#include <sys/statvfs.h>
#include <unistd.h>

#include <atomic>
#include <cerrno>
#include <charconv>
#include <cstring>
#include <mutex>
#include <set>

#include "core/audio/clip.hpp"
#include "core/printable.hpp"

namespace heathmist {

namespace {

constexpr std::string_view ours = "heathmist-";

/// The process a passing thing belongs to; 0 where it is none of ours.
pid_t owner_of(std::string_view name) {
  if (name.starts_with('.')) name.remove_prefix(1);
  if (!name.starts_with(ours)) return 0;
  name.remove_prefix(ours.size());
  int owner = 0;
  const auto [end, error] = std::from_chars(name.data(), name.data() + name.size(), owner);
  return error == std::errc{} && end < name.data() + name.size() && *end == '-' ? owner : 0;
}

bool is_alive(pid_t process) { return ::kill(process, 0) == 0 || errno != ESRCH; }

/// Nobody holds it: not even a process of another machine or container that has the same folder.
bool is_unlocked(const std::filesystem::path& thing) {
  const int file = ::open(thing.c_str(), O_RDONLY | O_CLOEXEC | O_NOFOLLOW | O_NONBLOCK);
  if (file < 0) return false;
  const bool free = ::flock(file, LOCK_EX | LOCK_NB) == 0;
  ::close(file);
  return free;
}

}  // namespace

std::filesystem::path temporary_folder() {
  const char* wanted = std::getenv("TMPDIR");
  const bool set = wanted && *wanted;
  const std::filesystem::path folder = set ? wanted : "/var/tmp";
  std::error_code trouble;
  const std::string what = set ? "TMPDIR points here" : "decoded audio is kept here";
  if (!std::filesystem::is_directory(folder, trouble))
    throw InputError(folder, what + ", and it is no folder; point TMPDIR to one that exists");
  if (::access(folder.c_str(), W_OK | X_OK) != 0)
    throw InputError(folder, what + ", and it may not be written to; point TMPDIR to another folder");
  return folder;
}

std::string passing_name(const std::string& ending) {
  static std::atomic<unsigned> next{0};
  return fmt::format("{}{}-{:x}{}", ours, ::getpid(), next++, ending);
}

int sweep(const std::filesystem::path& folder) {
  int swept = 0;
  std::error_code trouble;
  for (const auto& entry : std::filesystem::directory_iterator(folder, trouble)) {
    const pid_t owner = owner_of(entry.path().filename().native());
    if (owner == 0 || is_alive(owner) || entry.is_symlink(trouble) || !is_unlocked(entry.path())) continue;
    swept += std::filesystem::remove_all(entry.path(), trouble) > 0 && !trouble;
  }
  return swept;
}

void sweep_once(const std::filesystem::path& folder) {
  static std::mutex lock;
  static std::set<std::filesystem::path> done;
  {
    std::scoped_lock held(lock);
    if (!done.insert(folder).second) return;
  }
  sweep(folder);
}

TemporaryFolder::TemporaryFolder() {
  const auto inside = temporary_folder();
  sweep_once(inside);
  std::string name = (inside / passing_name("-XXXXXX")).string();
  if (!::mkdtemp(name.data()))
    throw InputError(inside, why_not_written(errno, inside, 0, "point TMPDIR to another folder"));
  path_ = name;
  lock_ = ::open(name.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC);
  if (lock_ >= 0) ::flock(lock_, LOCK_EX | LOCK_NB);
}

TemporaryFolder::~TemporaryFolder() {
  std::error_code ignored;
  std::filesystem::remove_all(path_, ignored);
  if (lock_ >= 0) ::close(lock_);
}

std::string why_not_written(int error, const std::filesystem::path& folder, int64_t needed_bytes,
                            const std::string& remedy) {
  if (error != ENOSPC && error != EDQUOT && error != EFBIG)
    return fmt::format("it cannot be written to its end ({}); {}", error ? std::strerror(error) : "the disk failed",
                       remedy);
  struct ::statvfs disk {};
  const bool known = ::statvfs(folder.empty() ? "." : folder.c_str(), &disk) == 0;
  std::string words = fmt::format("the disk is full: {}", printable(folder.empty() ? "." : folder));
  if (known) words += fmt::format(" has {:.1f} MB left", double(disk.f_bavail) * double(disk.f_frsize) / 1e6);
  if (needed_bytes > 0)
    words += fmt::format("{} about {:.1f} MB are needed", known ? "," : " and", double(needed_bytes) / 1e6);
  return words + "; " + remedy;
}

}  // namespace heathmist
