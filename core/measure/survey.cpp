#include "core/measure/survey.hpp"

#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <bit>
#include <cmath>
#include <sstream>

#include "core/audio/cache.hpp"
#include "core/audio/fingerprint.hpp"
#include "core/dsp/simd.hpp"

namespace heathmist {

namespace {

constexpr int64_t segment_frames = 1 << 19;  // a whole number of overview bins
constexpr int64_t block_frames = 1 << 13;
constexpr int64_t look_back = 3;  // a clipped run is counted at its third sample

struct Part {
  double peak = 0, square_sum = 0;
  std::vector<double> sums;
  int64_t runs = 0, first_run = -1;
  uint32_t bits = 0;
};

/// A run counts where x[n], x[n-1], x[n-2] are equal and at full scale and x[n-3] is not the same.
void count_runs(std::span<const double> x, int64_t from, double full, int64_t frame_of_x0, Part& part) {
  for (int64_t n = from; n < int64_t(x.size()); ++n) {
    const double v = x[size_t(n)];
    if (std::abs(v) < full || v != x[size_t(n - 1)] || v != x[size_t(n - 2)] || v == x[size_t(n - 3)]) continue;
    ++part.runs;
    const int64_t start = frame_of_x0 + n - 2;
    if (part.first_run < 0 || start < part.first_run) part.first_run = start;
  }
}

uint32_t bits_of(std::span<const double> x) {
  uint32_t bits = 0;
  for (const double v : x) bits |= uint32_t(int32_t(v * 2147483648.0));
  return bits;
}

[[noreturn]] void refuse_sample(const Clip& clip, std::span<const double> x, int channel, int64_t first) {
  for (size_t n = 0; n < x.size(); ++n)
    if (!std::isfinite(x[n]))
      throw InputError(clip.path(),
                       fmt::format("it holds a sample that is {} at {:.3f} s in channel {}; render it again without it",
                                   std::isnan(x[n]) ? "not a number (NaN)" : "infinite",
                                   double(first + int64_t(n)) / clip.format().sample_rate_hz, channel + 1));
  throw InputError(clip.path(), "it holds samples beyond any level; render it again");
}

struct Surveyor {
  const Clip& clip;
  std::vector<OutlineBin>& bins;
  std::unique_ptr<Reader> reader;
  Planar block{};
  double full = 0;        // at and above this a sample counts as full scale
  uint32_t all_bits = 0;  // when these are all seen there is nothing more to learn

  Surveyor(const Clip& c, std::vector<OutlineBin>& b) : clip(c), bins(b), reader(c.reader()) {
    const auto& f = c.format();
    const int bits = f.sample_format == SampleFormat::integer ? f.container_bits.value_or(16) : 16;
    full = 1 - std::ldexp(1.0, 1 - std::min(bits, 16));
    if (f.sample_format == SampleFormat::integer) all_bits = uint32_t(1) << (32 - bits);
  }

  /// Only where something reaches full scale: once more, with the samples before it.
  void runs(int64_t at, int64_t frames, Part& part) {
    reader->read(at - look_back, frames + look_back, block);
    for (int c = 0; c < block.channels(); ++c) count_runs(block.channel(c), look_back, full, at - look_back, part);
  }

  void outline(std::span<const double> x, int64_t first, int channel, Part& part, double& peak) {
    for (size_t at = 0; at < x.size(); at += Overview::bin_frames) {
      const auto piece = x.subspan(at, std::min<size_t>(Overview::bin_frames, x.size() - at));
      const auto s = dsp::simd::summarize(piece.data(), int64_t(piece.size()));
      if (!std::isfinite(s.square_sum)) refuse_sample(clip, piece, channel, first + int64_t(at));
      auto& bin = bins[size_t((first + int64_t(at)) / Overview::bin_frames)];
      bin.low = std::min(bin.low, float(s.low));
      bin.high = std::max(bin.high, float(s.high));
      bin.mean_square += float(s.square_sum / double(piece.size()) / clip.format().channels);
      part.sums[size_t(channel)] += s.sum;
      part.square_sum += s.square_sum;
      peak = std::max({peak, s.high, -s.low});
    }
  }

  void segment(int64_t first, Part& part) {
    const int64_t last = std::min(first + segment_frames, clip.format().frames);
    part.sums.assign(size_t(clip.format().channels), 0);
    for (int64_t at = first; at < last; at += block_frames) {
      const int64_t frames = std::min(block_frames, last - at);
      reader->read(at, frames, block);
      double peak = 0;
      for (int c = 0; c < block.channels(); ++c) {
        outline(block.channel(c), at, c, part, peak);
        if (all_bits && !(part.bits & all_bits)) part.bits |= bits_of(block.channel(c));
      }
      part.peak = std::max(part.peak, peak);
      if (peak >= full) runs(at, frames, part);
    }
  }
};

}  // namespace

Survey survey(const Clip& clip, const Job& job) {
  const auto& format = clip.format();
  std::vector<OutlineBin> bins(size_t((format.frames + Overview::bin_frames - 1) / Overview::bin_frames));
  std::vector<Part> parts(size_t((format.frames + segment_frames - 1) / segment_frames));
  for_each_segment(
      int64_t(parts.size()), job, [&] { return Surveyor(clip, bins); },
      [&](Surveyor& surveyor, int64_t i) { surveyor.segment(i * segment_frames, parts[size_t(i)]); });

  Levels levels;
  levels.dc_offset.assign(size_t(format.channels), 0);
  uint32_t bits = 0;
  for (const Part& part : parts) {
    levels.sample_peak = std::max(levels.sample_peak, part.peak);
    levels.mean_square += part.square_sum;
    levels.clipped_runs += part.runs;
    if (part.first_run >= 0 && !levels.first_run_s) levels.first_run_s = double(part.first_run) / format.sample_rate_hz;
    bits |= part.bits;
    for (size_t c = 0; c < part.sums.size(); ++c) levels.dc_offset[c] += part.sums[c] / double(format.frames);
  }
  levels.mean_square /= double(format.frames) * format.channels;
  if (format.sample_format == SampleFormat::integer && !format.lossy)
    levels.bits_used = bits ? 32 - std::countr_zero(bits) : 1;
  return {Overview(format.frames, std::move(bins)), std::move(levels)};
}

namespace {

constexpr uint64_t cache_magic = 0x31796576727553ULL;  // "Survey1"

template <class T>
void put(std::ostream& out, const T& value) {
  out.write(reinterpret_cast<const char*>(&value), sizeof value);
}
template <class T>
T get(std::istream& in) {
  T value{};
  in.read(reinterpret_cast<char*>(&value), sizeof value);
  return value;
}

std::string packed(const Survey& survey) {
  std::ostringstream out;
  const Levels& l = survey.levels;
  put(out, cache_magic);
  put(out, l.sample_peak);
  put(out, l.mean_square);
  put(out, l.clipped_runs);
  put(out, l.first_run_s.value_or(-1));
  put(out, int64_t(l.bits_used.value_or(-1)));
  put(out, int64_t(l.dc_offset.size()));
  for (const double dc : l.dc_offset) put(out, dc);
  survey.overview.write(out);
  return out.str();
}

std::optional<Survey> unpacked(std::istream& in, const ClipFormat& format) {
  if (!in || get<uint64_t>(in) != cache_magic) return {};
  Survey result;
  Levels& l = result.levels;
  l.sample_peak = get<double>(in);
  l.mean_square = get<double>(in);
  l.clipped_runs = get<int64_t>(in);
  if (const auto at = get<double>(in); at >= 0) l.first_run_s = at;
  if (const auto bits = get<int64_t>(in); bits > 0) l.bits_used = int(bits);
  if (get<int64_t>(in) != format.channels) return {};
  l.dc_offset.resize(size_t(format.channels));
  for (double& dc : l.dc_offset) dc = get<double>(in);
  result.overview = Overview::read(in);
  if (!in || result.overview.frames() != format.frames) return {};
  return result;
}

}  // namespace

Survey cached_survey(const Clip& clip, const Job& job) {
  const auto print = clip.is_made() ? std::string() : fingerprint(clip.path());
  if (print.empty()) return survey(clip, job);
  const auto name = fmt::format("{}-{}.survey", print, clip.format().sample_rate_hz);
  if (const auto bytes = read_cache(name)) {
    std::istringstream in(*bytes);
    if (auto kept = unpacked(in, clip.format())) return *kept;
  }
  auto fresh = survey(clip, job);
  if (fingerprint(clip.path()) == print) write_cache(name, packed(fresh));  // else it changed while it was read
  return fresh;
}

}  // namespace heathmist
