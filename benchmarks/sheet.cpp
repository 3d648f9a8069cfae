#include "benchmarks/sheet.hpp"

#include <fmt/format.h>

#include <chrono>
#include <vector>

#include "core/audio/write.hpp"
#include "core/delivery/sheet.hpp"
#include "core/dsp/noise.hpp"

namespace heathmist::bench {

namespace {

constexpr int files = 200;
constexpr double seconds = 8;

double seconds_of(const auto& work) {
  const auto from = std::chrono::steady_clock::now();
  work();
  return std::chrono::duration<double>(std::chrono::steady_clock::now() - from).count();
}

/// Stretches of a clip, each with a hiss of its own: nothing is known of any of them.
std::vector<std::filesystem::path> cut(const Clip& clip, const std::filesystem::path& folder, const char* name) {
  dsp::Noise chance(uint64_t(std::chrono::system_clock::now().time_since_epoch().count()));
  const auto& f = clip.format();
  const auto frames = std::min(f.frames, int64_t(seconds * f.sample_rate_hz));
  const auto reader = clip.reader();
  std::vector<std::filesystem::path> all;
  Planar block;
  for (int n = 0; n < files; ++n) {
    reader->read((f.frames - frames) * n / files, frames, block);
    for (double& x : block.channel(0)) x = 0.9 * x + 1e-4 * chance.between(-1, 1);
    ClipWriter out(all.emplace_back(folder / fmt::format("{} {}.wav", name, n)), f.sample_rate_hz, f.channels,
                   WordFormat::pcm24);
    out.write(block, frames);
    out.finish();
  }
  return all;
}

constexpr const char* levels = R"({"name": "levels", "integrated_lufs": {"max": -9}, "true_peak_dbtp": {"max": -1},
  "loudness_range_lu": {"max": 20}, "short_term_max_lufs": {"max": -6}, "clipped_runs": {"max": 0}})";
constexpr const char* everything =
    R"({"name": "everything", "integrated_lufs": {"max": -9}, "true_peak_dbtp": {"max": -1},
  "clicks": {"max": 0}, "dropouts": {"max": 0}, "flat_tops": {"max": 0}, "least_correlation": {"min": -0.3},
  "channel_delay_samples": {"max": 1}, "head_silence_s": {"max": 1}, "lossy_origin": false, "upsampled": false})";

}  // namespace

SheetCost sheet_cost(const std::filesystem::path& file, const std::filesystem::path& folder) {
  SheetCost cost;
  const auto clip = Clip::open(file);
  const auto check_all = [](const std::vector<std::filesystem::path>& all, const char* rules) {
    const Rules asked = rules_from_json(json_from(rules));
    return seconds_of([&] {
      for (const auto& one : all) check_file(one, asked);
    });
  };
  const auto first = cut(*clip, folder, "first"), second = cut(*clip, folder, "second");
  cost.meter_s = seconds_of([&] {
    for (const auto& one : first) measure(*Clip::open(one));
  });
  cost.levels_s = check_all(first, levels);
  cost.all_s = check_all(second, everything);
  for (const auto* all : {&first, &second})
    for (const auto& one : *all) std::filesystem::remove(one);
  return cost;
}

}  // namespace heathmist::bench
