#include "core/devices/audio_history.hpp"

#include <fcntl.h>
#include <stdlib.h>
#include <unistd.h>

#include <algorithm>
#include <cmath>

#include "core/audio/clip.hpp"
#include "core/audio/temporary.hpp"

namespace heathmist {

namespace {

constexpr int64_t frame_bytes = 6;
constexpr int64_t slack = 48000;  // frames that are being written over just now are not read

int nameless_file(const std::filesystem::path& folder) {
  const int file = ::open(folder.c_str(), O_TMPFILE | O_RDWR | O_CLOEXEC, 0600);
  if (file >= 0) return file;
  std::string name = (folder / "heathmist-history-XXXXXX").string();  // a file system that knows none without a name
  const int named = ::mkostemp(name.data(), O_CLOEXEC);
  if (named >= 0) ::unlink(name.c_str());
  return named;
}

bool write_all(int file, const unsigned char* bytes, size_t count, off_t at) {
  while (count > 0) {
    const ssize_t n = ::pwrite(file, bytes, count, at);
    if (n <= 0) return false;
    bytes += n, count -= size_t(n), at += n;
  }
  return true;
}

}  // namespace

AudioHistory::AudioHistory(int sample_rate_hz, double seconds)
    : rate_(sample_rate_hz), most_(int64_t(seconds * sample_rate_hz)), file_(nameless_file(temporary_folder())) {
  if (file_ < 0)
    throw InputError(temporary_folder(), "no history can be kept there; free space or set TMPDIR to another folder");
}

AudioHistory::~AudioHistory() { ::close(file_); }

int64_t AudioHistory::end() const {
  const std::scoped_lock held(lock_);
  return end_;
}

int64_t AudioHistory::begin() const { return std::max<int64_t>(0, end() - most_); }

bool AudioHistory::add(std::span<const double> stereo) {
  if (full_) return false;
  bytes_.resize(stereo.size() * 3);
  for (size_t n = 0; n < stereo.size(); ++n) {
    const auto word = int32_t(std::clamp(std::nearbyint(stereo[n] * 8388608.0), -8388608.0, 8388607.0));
    for (int b = 0; b < 3; ++b) bytes_[3 * n + size_t(b)] = static_cast<unsigned char>(uint32_t(word) >> (8 * b));
  }
  const int64_t ring = most_ + slack;
  for (int64_t done = 0, frames = int64_t(stereo.size() / 2), at = end(); done < frames;) {
    const int64_t place = (at + done) % ring, count = std::min(frames - done, ring - place);
    if (!write_all(file_, bytes_.data() + done * frame_bytes, size_t(count * frame_bytes),
                   off_t(place * frame_bytes))) {
      full_ = true;
      return false;
    }
    done += count;
  }
  const std::scoped_lock held(lock_);
  end_ += int64_t(stereo.size() / 2);
  return true;
}

bool AudioHistory::read(int64_t first, std::span<double> out) const {
  const auto frames = int64_t(out.size() / 2);
  const int64_t ring = most_ + slack;
  std::vector<unsigned char> bytes(out.size() * 3);
  if (first < begin() || first + frames > end()) return false;
  for (int64_t done = 0; done < frames;) {
    const int64_t place = (first + done) % ring, count = std::min(frames - done, ring - place);
    if (::pread(file_, bytes.data() + done * frame_bytes, size_t(count * frame_bytes), off_t(place * frame_bytes)) !=
        count * frame_bytes)
      return false;
    done += count;
  }
  for (size_t n = 0; n < out.size(); ++n) {
    const auto word = uint32_t(bytes[3 * n]) << 8 | uint32_t(bytes[3 * n + 1]) << 16 | uint32_t(bytes[3 * n + 2]) << 24;
    out[n] = double(int32_t(word) >> 8) / 8388608.0;
  }
  return first >= end() - ring + slack / 2;  // nothing of it was written over meanwhile
}

void AudioHistory::write(int64_t first, int64_t last, const Destination& to, const Job& job) const {
  first = std::max(first, begin()), last = std::min(last, end());
  if (last <= first) throw InputError(to.file, "nothing of that time is kept any more; choose a later one");
  ClipWriter out(to, rate_, 2, WordFormat::pcm24);
  out.expect(last - first);
  std::vector<double> samples;
  Planar block;
  for (int64_t at = first; at < last; at += block.frames()) {
    job.check();
    const int64_t count = std::min<int64_t>(1 << 16, last - at);
    samples.resize(size_t(count) * 2);
    if (!read(at, samples))
      throw InputError(to.file, "what was to be kept has been recorded over meanwhile; keep less of it");
    block.resize(2, count);
    for (size_t n = 0; n < size_t(count); ++n)
      for (size_t c = 0; c < 2; ++c) block.channel(int(c))[n] = samples[2 * n + c];
    out.write(block);
    job.report(double(at - first) / double(last - first));
  }
  out.finish();
}

}  // namespace heathmist
