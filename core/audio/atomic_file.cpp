#include "core/audio/atomic_file.hpp"

#include <fcntl.h>
#include <linux/fs.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <utility>

#include "core/audio/clip.hpp"
#include "core/audio/sound_name.hpp"
#include "core/audio/temporary.hpp"
#include "core/printable.hpp"

namespace heathmist {

namespace {

/// Where a name leads: a symbolic link is followed, so that the link stays one.
std::filesystem::path followed(const std::filesystem::path& file) {
  std::error_code trouble;
  if (!std::filesystem::is_symlink(file, trouble)) return file;
  auto led = std::filesystem::weakly_canonical(file, trouble);
  return trouble || led.empty() ? file : led;
}

std::filesystem::path folder_of(const std::filesystem::path& file) {
  return file.has_parent_path() ? file.parent_path() : std::filesystem::path(".");
}

/// Into place unless something is there: 0, or an errno.
int move_unless_there(const std::filesystem::path& from, const std::filesystem::path& to) {
  if (::syscall(SYS_renameat2, AT_FDCWD, from.c_str(), AT_FDCWD, to.c_str(), RENAME_NOREPLACE) == 0) return 0;
  if (errno != EINVAL && errno != ENOSYS) return errno;
  if (::link(from.c_str(), to.c_str()) == 0) {  // a file system that knows no such renaming
    ::unlink(from.c_str());
    return 0;
  }
  if (errno == EEXIST) return errno;
  struct ::stat there {};
  if (::lstat(to.c_str(), &there) == 0) return EEXIST;
  return ::rename(from.c_str(), to.c_str()) == 0 ? 0 : errno;
}

}  // namespace

OutputRefused::OutputRefused(const std::filesystem::path& file, const std::string& wrong_and_remedy)
    : std::invalid_argument(printable(file) + ": " + wrong_and_remedy) {}

bool same_file(const std::filesystem::path& a, const std::filesystem::path& b) {
  struct ::stat first {
  }, second{};
  const auto one = file_behind(a), other = file_behind(b);
  return ::stat(one.c_str(), &first) == 0 && ::stat(other.c_str(), &second) == 0 && first.st_dev == second.st_dev &&
         first.st_ino == second.st_ino;
}

void check(const Destination& to) {
  if (to.file.empty() || !to.file.has_filename())
    throw OutputRefused(to.file, "this names no file to write; give it a name");
  for (const auto& input : to.inputs)
    if (same_file(to.file, input))
      throw OutputRefused(to.file,
                          (input == to.file ? "this file" : "this is " + printable(input) + " by another name, which") +
                              " is read here and is never written over; choose another name");
  std::error_code trouble;
  const auto status = std::filesystem::status(to.file, trouble);
  if (!std::filesystem::exists(status)) return;
  if (!std::filesystem::is_regular_file(status))
    throw OutputRefused(to.file, "this is no plain file that could be replaced; choose another name");
  if (!to.replace)
    throw OutputRefused(to.file, "there is a file of this name; choose another, or allow it to be replaced (--force)");
}

AtomicFile::AtomicFile(Destination to) : to_(std::move(to)) {
  check(to_);
  to_.file = followed(to_.file);
  const auto folder = folder_of(to_.file);
  std::error_code trouble;
  std::filesystem::create_directories(folder, trouble);
  if (!std::filesystem::is_directory(folder))
    throw InputError(to_.file, "its folder is not there and cannot be made; check the name and its permissions");
  sweep_once(folder);
  part_ = folder / ("." + passing_name(".part"));
  descriptor_ = ::open(part_.c_str(), O_RDWR | O_CREAT | O_EXCL | O_CLOEXEC, 0666);
  if (descriptor_ < 0)
    throw InputError(to_.file, errno == ENOSPC || errno == EDQUOT
                                   ? why_not_written(errno, folder, 0, "free space or choose another folder")
                                   : "it cannot be written; check the folder and its permissions");
  ::flock(descriptor_, LOCK_EX | LOCK_NB);
}

AtomicFile::~AtomicFile() {
  if (descriptor_ < 0) return;
  ::unlink(part_.c_str());
  ::close(descriptor_);
}

void AtomicFile::write(std::string_view bytes) {
  while (!bytes.empty()) {
    const ssize_t n = ::write(descriptor_, bytes.data(), bytes.size());
    if (n < 0 && errno == EINTR) continue;
    if (n <= 0) fail(n < 0 ? errno : ENOSPC);
    bytes.remove_prefix(size_t(n));
  }
}

void AtomicFile::fail(int error) const {
  std::string sentence = why_not_written(error, folder_of(to_.file), expected_, "free space or choose another folder");
  if (std::error_code none; std::filesystem::exists(to_.file, none)) sentence += " (the old file is left as it was)";
  throw InputError(to_.file, sentence);
}

void AtomicFile::commit() {
  check(to_);
  struct ::stat old {};
  if (::stat(to_.file.c_str(), &old) == 0) ::fchmod(descriptor_, old.st_mode & 07777);
  if (::fsync(descriptor_) != 0) fail(errno);
  if (to_.replace) {
    if (::rename(part_.c_str(), to_.file.c_str()) != 0) fail(errno);
  } else if (const int error = move_unless_there(part_, to_.file)) {
    if (error == EEXIST) check({to_.file});
    fail(error);
  }
  ::close(std::exchange(descriptor_, -1));
  const int folder = ::open(folder_of(to_.file).c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC);
  if (folder >= 0) ::fsync(folder), ::close(folder);  // its name, too
}

void write_whole(const Destination& to, std::string_view content) {
  AtomicFile out(to);
  out.expect(int64_t(content.size()));
  out.write(content);
  out.commit();
}

}  // namespace heathmist
