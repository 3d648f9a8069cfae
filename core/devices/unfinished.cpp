#include "core/devices/unfinished.hpp"

#include <fcntl.h>
#include <sys/file.h>
#include <unistd.h>

#include <functional>
#include <system_error>

#include "core/audio/atomic_file.hpp"
#include "core/audio/temporary.hpp"
#include "core/json.hpp"

namespace heathmist {

namespace {

constexpr const char* ending = ".recording";

/// Calls with every note that no living run holds, and what stands in it; true takes it away.
void each_left_behind(const std::filesystem::path& folder, const std::function<bool(const Unfinished*)>& take) {
  std::error_code trouble;
  for (const auto& entry : std::filesystem::directory_iterator(folder, trouble)) {
    if (entry.path().extension() != ending) continue;
    const int lock = ::open(entry.path().c_str(), O_RDONLY | O_CLOEXEC);
    if (lock < 0) continue;
    if (::flock(lock, LOCK_EX | LOCK_NB) == 0) {
      bool goes = true;
      try {
        const Json json = json_from_file(entry.path());
        const Unfinished what{json.at("file").get<std::string>(), json.at("master_name").get<std::string>(),
                              json.at("master").get<std::string>()};
        goes = take(&what);
      } catch (const std::exception&) {  // cut short, or none of ours
        goes = take(nullptr);
      }
      if (goes) ::unlink(entry.path().c_str());
    }
    ::close(lock);
  }
}

}  // namespace

RecordingNote::RecordingNote(const std::filesystem::path& folder, const Unfinished& what) {
  const Json json{{"file", std::filesystem::absolute(what.file).string()},
                  {"master_name", what.master_name},
                  {"master", what.master.string()}};
  std::error_code trouble;
  std::filesystem::create_directories(folder, trouble);
  note_ = folder / ("recording-" + passing_name(ending));  // not one of those that are swept
  try {
    write_whole(Destination(note_), text_of(json));
    lock_ = ::open(note_.c_str(), O_RDONLY | O_CLOEXEC);
    if (lock_ >= 0) ::flock(lock_, LOCK_EX | LOCK_NB);
  } catch (const std::exception&) {  // the recording is worth more than its note
  }
}

RecordingNote::~RecordingNote() {
  if (lock_ >= 0) ::close(lock_);
}

void RecordingNote::done() {
  if (lock_ >= 0) ::unlink(note_.c_str());
}

std::vector<Unfinished> unfinished_recordings(const std::filesystem::path& folder) {
  std::vector<Unfinished> all;
  each_left_behind(folder, [&](const Unfinished* what) {
    std::error_code trouble;
    if (!what || !std::filesystem::exists(what->file, trouble)) return true;
    all.push_back(*what);
    return false;
  });
  return all;
}

void forget_recording(const std::filesystem::path& folder, const std::filesystem::path& file) {
  each_left_behind(folder, [&](const Unfinished* what) { return what && what->file == file; });
}

}  // namespace heathmist
