#include "core/devices/recording.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>

#include "core/audio/clip.hpp"
#include "core/audio/sound_sink.hpp"
#include "core/audio/temporary.hpp"

namespace heathmist {

namespace {

constexpr const char* remedy = "free space or choose another folder";

std::filesystem::path folder_of(const std::filesystem::path& file) {
  return file.has_parent_path() ? file.parent_path() : std::filesystem::path(".");
}

/// Where it lies while it is recorded: at its own place, or beside the file that it is to replace.
std::filesystem::path place_for(const Destination& to) {
  check(to);
  if (to.file.extension() != ".wav")
    throw InputError(to.file, "recordings are written as WAV, which can be played at any moment; let it end in .wav");
  std::error_code trouble;
  if (!std::filesystem::exists(to.file, trouble)) return to.file;
  auto beside = to.file;
  for (int n = 1; std::filesystem::exists(beside, trouble); ++n)
    beside.replace_filename(to.file.stem().string() +
                            (n > 1 ? fmt::format(" (recording {}).wav", n) : " (recording).wav"));
  return beside;
}

int claim(const std::filesystem::path& place) {
  std::error_code trouble;
  std::filesystem::create_directories(folder_of(place), trouble);
  if (!std::filesystem::is_directory(folder_of(place), trouble))
    throw InputError(place, "its folder is not there and cannot be made; check the name and its permissions");
  const int file = ::open(place.c_str(), O_RDWR | O_CREAT | O_EXCL | O_CLOEXEC, 0666);
  if (file >= 0) return file;
  if (errno == EEXIST) check(Destination(place));
  throw InputError(place, errno == ENOSPC || errno == EDQUOT
                              ? why_not_written(errno, folder_of(place), 0, remedy)
                              : "it cannot be written; check the folder and its permissions");
}

}  // namespace

struct Recording::Inside {
  Destination to;
  std::filesystem::path place;
  int descriptor;
  std::unique_ptr<SoundSink> sink;
  int64_t header_every;   // frames
  int64_t header_at = 0;  // what it says
  bool ended = false;

  [[noreturn]] void fail(int error) const {
    throw InputError(place, why_not_written(error, folder_of(place), 0, remedy));
  }
  void check(int error) const {
    if (error) fail(error);
  }
};

Recording::Recording(const Destination& to, int sample_rate_hz, int channels, WordFormat word) {
  const auto place = place_for(to);
  inside_.reset(new Inside{to, place, claim(place), nullptr, sample_rate_hz / 4});
  try {
    inside_->sink = std::make_unique<SoundSink>(inside_->descriptor, place, sample_rate_hz, channels, word);
  } catch (...) {
    ::close(inside_->descriptor);
    ::unlink(place.c_str());
    throw;
  }
}

Recording::~Recording() {
  auto& i = *inside_;
  if (i.ended) return;
  const bool empty = i.sink->frames() == 0;
  if (i.sink->is_open()) (void)i.sink->close();
  if (empty) ::unlink(i.place.c_str());
  ::close(i.descriptor);
}

int64_t Recording::frames() const { return inside_->sink->frames(); }
const std::filesystem::path& Recording::file() const { return inside_->place; }

void Recording::write(std::span<const double> frames) {
  auto& i = *inside_;
  if (frames.empty()) return;
  i.check(i.sink->write(frames));
  if (i.header_at > 0 && i.sink->frames() - i.header_at < i.header_every) return;
  i.header_at = i.sink->frames();
  i.check(i.sink->refresh());
}

void Recording::finish() {
  auto& i = *inside_;
  i.check(i.sink->close());
  if (::fsync(i.descriptor) != 0) i.fail(errno);
  SF_INFO info{};
  SNDFILE* back = sf_open(i.place.c_str(), SFM_READ, &info);  // what is there is what was meant to be
  if (back) sf_close(back);
  if (!back || info.frames != i.sink->frames()) i.fail(EIO);
  if (i.place != i.to.file) {
    heathmist::check(i.to);
    if (::rename(i.place.c_str(), i.to.file.c_str()) != 0) i.fail(errno);
    i.place = i.to.file;
  }
  ::close(i.descriptor);
  i.ended = true;
}

}  // namespace heathmist
