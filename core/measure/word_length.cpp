#include "core/measure/word_length.hpp"

#include <algorithm>
#include <bit>
#include <cmath>
#include <functional>
#include <numeric>

#include "core/dsp/simd.hpp"

namespace heathmist {

namespace {

constexpr int64_t word_segment_frames = 1 << 18;
constexpr int64_t most_columns = 1200;
constexpr int64_t seen_enough = 40;  // times a code should have come up before its absence says anything

/// How often each bit changed, the sign first.
using Flips = std::array<int32_t, 32>;

struct WordPart {
  std::vector<Flips> flips;  // by channel
  std::vector<std::array<int32_t, 256>> codes;
  std::vector<uint32_t> bits;
  int64_t quiet = 0, zero = 0;
};

uint8_t length_of(uint32_t bits) { return bits == 0 ? 0 : uint8_t(32 - std::countr_zero(bits)); }

/// The bits of a byte as eight bytes of 0 or 1, the upper one in the lowest place.
constexpr uint64_t spread(uint32_t byte) { return (byte * 0x8040201008040201ULL >> 7) & 0x0101010101010101ULL; }

/// Counts the changes of one channel's words, of their upper `bytes`, eight bits at a time in counters of a byte each;
/// `last` is the word before them and is moved on.
template <size_t bytes>
void count_flips(std::span<const uint32_t> words, uint32_t& last, Flips& flips) {
  constexpr size_t until_full = 255;
  while (!words.empty()) {
    const auto some = words.first(std::min(until_full, words.size()));
    std::array<uint64_t, bytes> counts{};
    for (const uint32_t word : some) {
      const uint32_t changed = word ^ last;
      for (size_t byte = 0; byte < bytes; ++byte) counts[byte] += spread((changed >> (24 - 8 * byte)) & 255);
      last = word;
    }
    for (size_t byte = 0; byte < bytes; ++byte)
      for (size_t n = 0; n < 8; ++n) flips[8 * byte + n] += int32_t((counts[byte] >> (8 * n)) & 255);
    words = words.subspan(some.size());
  }
}

uint32_t word_of_sample(double x) { return uint32_t(int32_t(x * 2147483648.0)); }

/// Codes that should occur: a smooth histogram holds at least `seen_enough` in both neighbourhoods of an empty one.
double empty_share_of(const std::array<int64_t, 256>& codes) {
  int asked = 0, empty = 0;
  for (int n = 4; n < 252; ++n) {
    int64_t around = 0;
    for (int k = -4; k <= 4; ++k) around += codes[size_t(n + k)];
    if (around < 9 * seen_enough) continue;
    ++asked;
    empty += codes[size_t(n)] == 0;
  }
  return asked < 16 ? 0 : double(empty) / asked;
}

}  // namespace

std::optional<WordStudy> study_words(const Clip& clip, int bits_used, const Job& job) {
  const auto& f = clip.format();
  if (f.sample_format != SampleFormat::integer || f.lossy || !f.container_bits || bits_used < 1) return {};
  WordStudy study{*f.container_bits, bits_used, std::vector<ChannelWords>(size_t(f.channels)), 0, {}, 0, 0};
  const int64_t piece = std::max(1, f.sample_rate_hz / 100);
  int64_t column = piece * 10;
  while (f.frames / column >= most_columns) column *= 2;
  const int64_t segment = (word_segment_frames + column - 1) / column * column;
  study.column_s = double(column) / f.sample_rate_hz;
  std::vector<uint32_t> columns(size_t((f.frames + column - 1) / column), 0);
  std::vector<WordPart> parts(size_t((f.frames + segment - 1) / segment));
  const double steps = std::ldexp(1.0, bits_used - 1);
  const auto count = study.container_bits <= 16   ? count_flips<2>
                     : study.container_bits <= 24 ? count_flips<3>
                                                  : count_flips<4>;
  for_each_segment(
      int64_t(parts.size()), job,
      [&] {
        return std::pair{clip.reader(), Planar()};
      },
      [&](auto& state, int64_t s) {
        auto& [reader, block] = state;
        WordPart& part = parts[size_t(s)];
        std::vector<uint32_t> words;
        part.flips.assign(size_t(f.channels), Flips{});
        part.codes.resize(size_t(f.channels));
        part.bits.assign(size_t(f.channels), 0);
        std::vector<uint32_t> last(size_t(f.channels), 0);
        reader->read(s * segment - 1, 1, block);
        for (int c = 0; c < f.channels; ++c) last[size_t(c)] = word_of_sample(block.channel(c)[0]);
        for (int64_t at = s * segment; at < std::min(f.frames, (s + 1) * segment); at += piece) {
          const int64_t frames = std::min(piece, f.frames - at);
          reader->read(at, frames, block);
          double peak = 0;
          for (int c = 0; c < f.channels; ++c) {
            const auto x = block.channel(c);
            words.resize(x.size());
            std::transform(x.begin(), x.end(), words.begin(), word_of_sample);
            const uint32_t bits = std::accumulate(words.begin(), words.end(), uint32_t(0), std::bit_or<>());
            const auto range = dsp::simd::summarize(x.data(), frames);
            peak = std::max({peak, range.high, -range.low});
            for (const uint32_t word : words)
              if (const auto code = uint32_t((int32_t(word) >> (32 - bits_used)) + 128); code < 256)
                ++part.codes[size_t(c)][code];
            part.bits[size_t(c)] |= bits;
            columns[size_t(at / column)] |= bits;
            count(words, last[size_t(c)], part.flips[size_t(c)]);
          }
          part.quiet += peak * steps <= 1;
          part.zero += peak == 0;
        }
      });
  for (size_t c = 0; c < study.channels.size(); ++c) {
    ChannelWords& words = study.channels[c];
    uint32_t bits = 0;
    words.activity.assign(size_t(study.container_bits), 0);
    for (const WordPart& part : parts) {
      bits |= part.bits[c];
      for (size_t n = 0; n < words.activity.size(); ++n)
        words.activity[n] += double(part.flips[c][n]) / double(f.frames);
      for (size_t n = 0; n < words.codes.size(); ++n) words.codes[n] += part.codes[c][n];
    }
    words.bits_used = length_of(bits);
    words.empty_share = empty_share_of(words.codes);
  }
  for (const WordPart& part : parts) study.quiet_pieces += part.quiet, study.zero_pieces += part.zero;
  for (const uint32_t bits : columns) study.bits_over_time.push_back(length_of(bits));
  return study;
}

}  // namespace heathmist
