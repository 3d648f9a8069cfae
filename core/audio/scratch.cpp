#include "core/audio/scratch.hpp"

#include <fcntl.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstdlib>
#include <cstring>
#include <utility>

#include "core/audio/temporary.hpp"

namespace heathmist {

namespace {

class OpenFile {
 public:
  explicit OpenFile(int file) : file_(file) {}
  ~OpenFile() { ::close(file_); }
  OpenFile(const OpenFile&) = delete;
  OpenFile& operator=(const OpenFile&) = delete;
  int number() const { return file_; }

 private:
  int file_;
};

template <class T>
void spread(const char* bytes, int64_t frames, Planar& out, int64_t at) {
  const int channels = out.channels();
  for (int c = 0; c < channels; ++c) {
    auto to = out.channel(c).subspan(size_t(at));
    for (int64_t n = 0; n < frames; ++n) {
      T sample;
      std::memcpy(&sample, bytes + size_t(n * channels + c) * sizeof(T), sizeof(T));
      to[size_t(n)] = double(sample);
    }
  }
}

class ScratchReader : public Reader {
 public:
  ScratchReader(const ClipFormat& format, std::shared_ptr<OpenFile> file, bool wide, std::filesystem::path origin)
      : Reader(format), file_(std::move(file)), wide_(wide), origin_(std::move(origin)) {}

 private:
  void fetch(int64_t first, int64_t frames, Planar& out, int64_t at) override {
    const int64_t frame_bytes = format_.channels * (wide_ ? 8 : 4);
    bytes_.resize(size_t(frames * frame_bytes));
    size_t got = 0;
    while (got < bytes_.size()) {
      const ssize_t n =
          ::pread(file_->number(), bytes_.data() + got, bytes_.size() - got, off_t(first * frame_bytes) + off_t(got));
      if (n <= 0)
        throw InputError(origin_, "its decoded samples cannot be read back; check the disk and open it again");
      got += size_t(n);
    }
    if (wide_)
      spread<double>(bytes_.data(), frames, out, at);
    else
      spread<float>(bytes_.data(), frames, out, at);
  }

  std::shared_ptr<OpenFile> file_;
  bool wide_;
  std::filesystem::path origin_;
  std::vector<char> bytes_;
};

class ScratchClip : public Clip {
 public:
  ScratchClip(std::filesystem::path origin, ClipFormat format, int file, bool wide, bool made)
      : Clip(std::move(origin), std::move(format)), file_(std::make_shared<OpenFile>(file)), wide_(wide), made_(made) {}
  bool is_made() const override { return made_; }
  int64_t scratch_bytes() const override { return format_.frames * format_.channels * (wide_ ? 8 : 4); }
  std::unique_ptr<Reader> reader() const override {
    return std::make_unique<ScratchReader>(format_, file_, wide_, path_);
  }

 private:
  std::shared_ptr<OpenFile> file_;
  bool wide_, made_;
};

int nameless_file(const std::filesystem::path& folder) {
  const int file = ::open(folder.c_str(), O_TMPFILE | O_RDWR | O_CLOEXEC, 0600);
  if (file >= 0) return file;
  std::string name = (folder / passing_name("-XXXXXX")).string();
  const int named = ::mkostemp(name.data(), O_CLOEXEC);
  if (named >= 0) ::unlink(name.c_str());
  return named;
}

template <class T>
void gather(const Planar& block, int64_t frames, std::vector<char>& bytes) {
  const int channels = block.channels();
  bytes.resize(size_t(frames * channels) * sizeof(T));
  for (int c = 0; c < channels; ++c) {
    const auto from = block.channel(c);
    for (int64_t n = 0; n < frames; ++n) {
      const T sample = T(from[size_t(n)]);
      std::memcpy(bytes.data() + size_t(n * channels + c) * sizeof(T), &sample, sizeof(T));
    }
  }
}

}  // namespace

ScratchWriter::ScratchWriter(const std::filesystem::path& origin, int channels, bool wide, int64_t expected_frames)
    : origin_(origin),
      channels_(channels),
      wide_(wide),
      folder_(temporary_folder()),
      expected_frames_(expected_frames),
      file_(nameless_file(folder_)) {
  if (file_ < 0)
    throw InputError(origin, "no temporary file can be made to decode it to: " +
                                 why_not_written(errno, folder_, 0, "free space or point TMPDIR elsewhere"));
}

ScratchWriter::~ScratchWriter() {
  if (file_ >= 0) ::close(file_);
}

void ScratchWriter::write(const Planar& block, int64_t frames) {
  if (wide_)
    gather<double>(block, frames, bytes_);
  else
    gather<float>(block, frames, bytes_);
  for (size_t done = 0; done < bytes_.size();) {
    const ssize_t n = ::write(file_, bytes_.data() + done, bytes_.size() - done);
    if (n < 0 && errno == EINTR) continue;
    if (n <= 0)
      throw InputError(origin_, why_not_written(n < 0 ? errno : ENOSPC, folder_,
                                                std::max(frames_, expected_frames_) * channels_ * (wide_ ? 8 : 4),
                                                "free space or point TMPDIR to a larger disk"));
    done += size_t(n);
  }
  frames_ += frames;
}

std::shared_ptr<const Clip> ScratchWriter::finish(ClipFormat format, bool made) {
  format.frames = frames_;
  return std::make_shared<ScratchClip>(origin_, std::move(format), std::exchange(file_, -1), wide_, made);
}

std::shared_ptr<const Clip> made_clip(const Planar& sound, int sample_rate_hz, const std::string& name) {
  ScratchWriter out(name, sound.channels(), true, sound.frames());
  out.write(sound, sound.frames());
  ClipFormat format;
  format.codec = "pcm";
  format.sample_rate_hz = sample_rate_hz;
  format.channels = sound.channels();
  format.container_bits = 64;
  return out.finish(format, true);
}

}  // namespace heathmist
