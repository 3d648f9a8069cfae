#include "core/audio/clip.hpp"

#include <fmt/format.h>
#include <soxr.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cmath>
#include <fstream>
#include <numeric>

#include "core/audio/scratch.hpp"
#include "core/audio/sound_name.hpp"
#include "core/printable.hpp"

namespace heathmist {

InputError::InputError(const std::filesystem::path& file, const std::string& wrong_and_remedy)
    : std::runtime_error(printable(file) + ": " + wrong_and_remedy) {}

void refuse_unless_plain(const std::filesystem::path& name) {
  const std::filesystem::path file = file_behind(name);
  std::error_code trouble;
  const auto status = std::filesystem::status(file, trouble);
  if (!std::filesystem::exists(status)) throw InputError(file, "there is no such file; check the name and the folder");
  if (std::filesystem::is_directory(status)) throw InputError(file, "this is a folder; name a file inside it");
  if (!std::filesystem::is_regular_file(status))
    throw InputError(file, "this is no plain file but a pipe or a device; name a file");
  if (::access(file.c_str(), R_OK) != 0) throw InputError(file, "it may not be read; check its permissions");
  if (std::filesystem::file_size(file, trouble) == 0)
    throw InputError(file, "the file is empty; export or copy it again");
}

namespace {

[[noreturn]] void refuse_sample(const std::filesystem::path& file, double sample, int channel, double at_s) {
  const std::string what = std::isnan(sample) ? "not a number (NaN)"
                           : std::isinf(sample)
                               ? "infinite"
                               : fmt::format("at {:+.0f} dBFS, which is damage", 20 * std::log10(std::abs(sample)));
  throw InputError(
      file, fmt::format("it holds a sample that is {} at {:.3f} s in channel {}; render it again without it", what,
                        at_s, channel + 1));
}

}  // namespace

void refuse_damage(const std::filesystem::path& file, const ClipFormat& format, const Planar& block, int64_t at,
                   int64_t frames, int64_t first) {
  for (int c = 0; c < block.channels(); ++c) {
    const auto x = block.channel(c).subspan(size_t(at), size_t(frames));
    bool good = true;
    for (const double v : x) good &= std::abs(v) <= most_level;
    if (good) continue;
    const auto bad = std::find_if(x.begin(), x.end(), [](double v) { return !(std::abs(v) <= most_level); });
    refuse_sample(file, *bad, c, double(first + (bad - x.begin())) / format.sample_rate_hz);
  }
}

void refuse_out_of_range(const std::filesystem::path& file, int64_t sample_rate_hz, int64_t channels) {
  if (sample_rate_hz < least_rate_hz || sample_rate_hz > most_rate_hz)
    throw InputError(
        file,
        fmt::format("its header says {} Hz, which no audio has (1 kHz to 1.536 MHz); export it again", sample_rate_hz));
  if (channels < 1 || channels > most_channels)
    throw InputError(file, fmt::format("its header says {} channels, and 1 to {} are taken; export it with fewer",
                                       channels, most_channels));
}

void Reader::read(int64_t first, int64_t frames, Planar& out) {
  out.resize(format_.channels, frames);
  const int64_t from = std::clamp<int64_t>(first, 0, format_.frames);
  const int64_t to = std::clamp<int64_t>(first + frames, from, format_.frames);
  for (int c = 0; c < out.channels(); ++c) {
    auto samples = out.channel(c);
    const auto zero_to = std::clamp<int64_t>(from - first, 0, frames),
               zero_from = std::clamp<int64_t>(to - first, 0, frames);
    std::fill(samples.begin(), samples.begin() + zero_to, 0.0);
    std::fill(samples.begin() + std::max(zero_to, zero_from), samples.end(), 0.0);
  }
  if (to > from) fetch(from, to - from, out, from - first);
}

std::shared_ptr<const Clip> Clip::open(const std::filesystem::path& file, const Job& job) {
  refuse_unless_plain(file);
  auto clip = sound_name(file).number > 0 ? nullptr : open_with_sndfile(file);
  if (!clip) clip = decode_with_ffmpeg(file, job);
  if (clip->format().frames == 0) throw InputError(file, "it holds no audio, its length is zero; export it again");
  return clip;
}

namespace {

void convert(Reader& reader, const ClipFormat& from, int to_hz, ScratchWriter& out, const Job& job) {
  soxr_quality_spec_t quality = soxr_quality_spec(SOXR_VHQ, 0);
  quality.passband_end = 0.98;
  const soxr_io_spec_t io = soxr_io_spec(SOXR_FLOAT64_S, SOXR_FLOAT64_S);
  soxr_error_t error = nullptr;
  const std::unique_ptr<soxr, decltype(&soxr_delete)> converter(
      soxr_create(from.sample_rate_hz, to_hz, unsigned(from.channels), &error, &io, &quality, nullptr), &soxr_delete);
  if (error) throw std::runtime_error(fmt::format("libsoxr: {}", error));

  constexpr int64_t block = 1 << 16;
  const double ratio = double(to_hz) / from.sample_rate_hz;
  const auto wanted = int64_t(std::llround(double(from.frames) * ratio));
  Planar in, made(from.channels, int64_t(double(block) * ratio) + 64);
  std::vector<const double*> ins(size_t(from.channels));
  std::vector<double*> outs(size_t(from.channels));
  for (int64_t first = 0; out.frames() < wanted;) {
    job.check();
    const int64_t frames = std::min(block, from.frames - first);
    if (frames > 0) reader.read(first, frames, in);
    for (int c = 0; c < from.channels; ++c) {
      ins[size_t(c)] = frames > 0 ? in.channel(c).data() : nullptr;
      outs[size_t(c)] = made.channel(c).data();
    }
    size_t used = 0, got = 0;
    error = soxr_process(converter.get(), frames > 0 ? ins.data() : nullptr, size_t(std::max<int64_t>(frames, 0)),
                         &used, outs.data(), size_t(made.frames()), &got);
    if (error) throw std::runtime_error(fmt::format("libsoxr: {}", error));
    if (frames <= 0 && got == 0) break;
    first += int64_t(used);
    out.write(made, std::min<int64_t>(int64_t(got), wanted - out.frames()));
    job.report(double(first) / double(from.frames));
  }
}

}  // namespace

std::shared_ptr<const Clip> Clip::at_rate(std::shared_ptr<const Clip> clip, int sample_rate_hz, const Job& job) {
  if (clip->format().sample_rate_hz == sample_rate_hz) return clip;
  const auto& f = clip->format();
  ScratchWriter out(clip->path(), f.channels, true, int64_t(f.duration_s() * sample_rate_hz));
  convert(*clip->reader(), clip->format(), sample_rate_hz, out, job);
  ClipFormat format = clip->format();
  format.sample_rate_hz = sample_rate_hz;
  return out.finish(format, true);
}

}  // namespace heathmist
