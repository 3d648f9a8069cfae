// Which word length a return's samples keep to, beneath dither of the word they were written to afterwards too.
#include <array>
#include <cmath>
#include <numbers>

#include "core/compare/causes/of_pair.hpp"

namespace heathmist {

namespace {

constexpr int64_t block_frames = 1 << 16;
constexpr int longest_word = 24;

/// Exactly; nothing where it is longer than 24 bits.
std::optional<int> exact_word_length(const Clip& ret) {
  const auto reader = ret.reader();
  Planar block;
  int bits = 2;
  for (int64_t at = 0; at < ret.format().frames; at += block_frames) {
    reader->read(at, std::min(block_frames, ret.format().frames - at), block);
    for (int c = 0; c < block.channels(); ++c)
      for (const double x : block.channel(c))
        while (std::ldexp(x, bits - 1) != std::nearbyint(std::ldexp(x, bits - 1)))
          if (++bits > longest_word) return {};
  }
  return bits;
}

/// How near samples lie to the steps of a word length: 1 on them, 0 anywhere (the characteristic function of what lies
/// between them at one turn a step: Widrow, Kollar and Liu, IEEE Trans. Instrum. Meas. 45, 1996). By turns of 256
/// steps, each counting alike: what stands at one level for long says nothing.
class Steps {
 public:
  explicit Steps(int bits) : bits_(bits) {}
  void add(double x) {
    const double steps = std::ldexp(x, bits_ - 1);
    if (std::abs(steps) < least_steps) return;
    const double nearest = std::nearbyint(steps);
    Place& place = places_[size_t(int64_t(nearest)) % places_.size()];
    place.sum += std::cos(2 * std::numbers::pi * (steps - nearest)), place.count += 1;
  }
  bool keeps() const {
    constexpr double least_count = 16, near = 0.9;
    constexpr int several = 12;
    double sum = 0;
    int places = 0;
    for (const Place& p : places_)
      if (p.count >= least_count) sum += p.sum / p.count, ++places;
    return places >= several && sum > near * places;
  }

 private:
  static constexpr double least_steps = 3;
  struct Place {
    double sum = 0, count = 0;
  };
  int bits_;
  std::array<Place, 256> places_{};
};

}  // namespace

std::optional<int> word_length_beneath(const Clip& clip) {
  constexpr int shortest = 6, longest = 20;
  constexpr int64_t frames = 4096, blocks = 48;
  std::vector<Steps> words;
  for (int bits = shortest; bits <= longest; ++bits) words.emplace_back(bits);
  const auto reader = clip.reader();
  const int64_t hop = std::max(frames, clip.format().frames / blocks);
  Planar block;
  for (int64_t at = 0; at < clip.format().frames; at += hop) {
    reader->read(at, std::min(frames, clip.format().frames - at), block);
    for (int c = 0; c < block.channels(); ++c)
      for (const double x : block.channel(c))
        for (Steps& word : words) word.add(x);
  }
  for (int bits = shortest; bits <= longest; ++bits)
    if (words[size_t(bits - shortest)].keeps()) return bits;
  return {};
}

std::optional<int> word_length_of(const Clip& ret, const Levels& levels) {
  if (levels.bits_used)
    return *levels.bits_used > 0 && *levels.bits_used <= longest_word ? levels.bits_used : std::nullopt;
  if (ret.format().lossy || levels.sample_peak <= 0) return {};
  return exact_word_length(ret);
}

}  // namespace heathmist
