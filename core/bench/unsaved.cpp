#include "core/bench/unsaved.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/file.h>
#include <unistd.h>

#include <algorithm>

#include "core/audio/atomic_file.hpp"

namespace heathmist {

namespace {

constexpr const char* ending = ".heathmist";
constexpr const char* before_0_2 = "unsaved.heathmist";

std::filesystem::path lock_file(std::filesystem::path file) { return file.replace_extension(".lock"); }

/// -1 where another run holds it.
int locked(const std::filesystem::path& file) {
  const int lock = ::open(lock_file(file).c_str(), O_RDWR | O_CREAT | O_CLOEXEC, 0600);
  if (lock < 0 || ::flock(lock, LOCK_EX | LOCK_NB) == 0) return lock;
  ::close(lock);
  return -1;
}

}  // namespace

UnsavedCopy::UnsavedCopy(std::filesystem::path folder) : folder_(std::move(folder)) {}

UnsavedCopy::~UnsavedCopy() { let_go(); }

UnsavedCopy::UnsavedCopy(UnsavedCopy&& other) noexcept
    : folder_(std::move(other.folder_)), file_(std::move(other.file_)), lock_(std::exchange(other.lock_, -1)) {
  other.file_.clear();
}

UnsavedCopy& UnsavedCopy::operator=(UnsavedCopy&& other) noexcept {
  let_go();
  folder_ = std::move(other.folder_);
  file_ = std::move(other.file_);
  other.file_.clear();
  lock_ = std::exchange(other.lock_, -1);
  return *this;
}

/// The lock's own file goes where there is nothing to hold any more.
void UnsavedCopy::let_go() {
  if (lock_ < 0) return;
  if (!exists()) ::unlink(lock_file(file_).c_str());
  ::close(std::exchange(lock_, -1));
}

bool UnsavedCopy::exists() const {
  std::error_code trouble;
  return !file_.empty() && std::filesystem::exists(file_, trouble);
}

std::vector<UnsavedCopy> UnsavedCopy::left_behind(const std::filesystem::path& folder) {
  std::vector<std::pair<std::filesystem::file_time_type, std::filesystem::path>> files;
  std::error_code trouble;
  for (const auto& entry : std::filesystem::directory_iterator(folder, trouble)) {
    const std::string name = entry.path().filename().string();
    if (name == before_0_2 || (name.starts_with("unsaved-") && name.ends_with(ending)))
      files.emplace_back(entry.last_write_time(trouble), entry.path());
  }
  std::sort(files.rbegin(), files.rend());
  std::vector<UnsavedCopy> copies;
  for (const auto& [time, file] : files)
    if (const int lock = locked(file); lock >= 0) copies.push_back(UnsavedCopy(file, lock));
  return copies;
}

void UnsavedCopy::keep(const Bench& bench, const std::filesystem::path& of) {
  if (lock_ < 0) {
    std::error_code trouble;
    std::filesystem::create_directories(folder_, trouble);
    file_ = folder_ / fmt::format("unsaved-{}-{}{}", ::getpid(), fresh_id(), ending);
    if ((lock_ = locked(file_)) < 0)
      throw InputError(file_, "no copy of the unsaved bench can be kept there; check the folder");
  }
  const Json json{{"heathmist_unsaved", 1}, {"of", of.string()}, {"bench", bench_json(bench, "/")}};
  write_whole({file_, true}, text_of(json) + "\n");
}

UnsavedCopy::Content UnsavedCopy::read() const {
  try {
    const Json json = json_from_file(file_);
    if (json.is_object() && json.contains("heathmist_bench")) return {bench_from_json(json, folder_, file_), {}};
    if (json.is_object() && json.value("heathmist_unsaved", 0) == 1 && json.contains("bench") && json.contains("of") &&
        json["of"].is_string())
      return {bench_from_json(json["bench"], "/", file_), json["of"].get<std::string>()};
  } catch (const JsonError&) {
  } catch (const Json::exception&) {
  }
  throw InputError(file_, "this copy of an unsaved bench is broken or of a newer version; it stays where it is");
}

void UnsavedCopy::drop() {
  if (file_.empty()) return;
  std::error_code ignored;
  std::filesystem::remove(file_, ignored);
  let_go();
  file_.clear();
}

}  // namespace heathmist
