#include "core/measure/coders.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <numbers>

#include "core/dsp/fft.hpp"

namespace heathmist {

namespace {

constexpr double pi = std::numbers::pi;

/// MDCT of 2 M samples, X[k] = sum x[n] w[n] cos(pi / M (n + 1/2 + M/2) (k + 1/2)): the four quarters a, b, c, d of
/// what the window leaves are folded to -c' - d and a - b' (' is backwards), whose transform of the fourth kind it is
/// (Wang, IEEE ASSP 32, 1984; Malvar, *Signal Processing with Lapped Transforms*, 1992).
class Mdct : public CoderTransform {
 public:
  Mdct(std::string name, std::vector<double> window) : window_(std::move(window)), dct_(window_.size() / 2) {
    family = std::move(name), reach = window_.size(), hop = size = reach / 2;
  }
  void forward(size_t at, std::span<double> out) override {
    const double* x = samples_.subspan(at, reach).data();
    const double* w = window_.data();
    const auto folded = dct_.values();
    const size_t m = hop, half = m / 2;
    for (size_t n = 0; n < half; ++n) {
      const size_t c = 3 * half - 1 - n, d = 3 * half + n, a = n, b = m - 1 - n;
      folded[n] = -x[c] * w[c] - x[d] * w[d];
      folded[half + n] = x[a] * w[a] - x[b] * w[b];
    }
    dct_.run();
    std::copy(folded.begin(), folded.end(), out.begin());
  }

 private:
  std::vector<double> window_;
  dsp::Dct4 dct_;
};

std::vector<double> sine_window(size_t size) {
  std::vector<double> w;
  for (size_t n = 0; n < size; ++n) w.push_back(std::sin(pi * (double(n) + 0.5) / double(size)));
  return w;
}

std::vector<double> vorbis_window(size_t size) {
  auto w = sine_window(size);
  for (double& v : w) v = std::sin(pi / 2 * v * v);
  return w;
}

std::vector<double> kaiser_bessel_window(size_t size, double alpha) {
  const size_t half = size / 2;
  std::vector<double> sum{0};
  for (size_t n = 0; n <= half; ++n) {
    const double edge = 2.0 * double(n) / double(half) - 1;
    sum.push_back(sum.back() + std::cyl_bessel_i(0.0, pi * alpha * std::sqrt(std::max(0.0, 1 - edge * edge))));
  }
  std::vector<double> w(size);
  for (size_t n = 0; n < half; ++n) w[n] = w[size - 1 - n] = std::sqrt(sum[n + 1] / sum[half + 1]);
  return w;
}

/// CELT's frames of 20 ms overlap by 2.5 ms only (RFC 6716, 4.3.7).
std::vector<double> celt_window() {
  const auto ramp = vorbis_window(240);
  std::vector<double> w(1920, 0);
  for (size_t n = 0; n < 960; ++n) w[n] = w[1919 - n] = n < 420 ? 0 : n < 540 ? ramp[n - 420] : 1;
  return w;
}

/// The first half and the middle of the synthesis window (ISO/IEC 11172-3, table B.3), in steps of 2^-16.
constexpr std::array<int, 257> synthesis_window{
    0,      -1,     -1,     -1,     -1,     -1,     -1,     -2,     -2,     -2,     -2,     -3,     -3,     -4,
    -4,     -5,     -5,     -6,     -7,     -7,     -8,     -9,     -10,    -11,    -13,    -14,    -16,    -17,
    -19,    -21,    -24,    -26,    -29,    -31,    -35,    -38,    -41,    -45,    -49,    -53,    -58,    -63,
    -68,    -73,    -79,    -85,    -91,    -97,    -104,   -111,   -117,   -125,   -132,   -139,   -147,   -154,
    -161,   -169,   -176,   -183,   -190,   -196,   -202,   -208,   213,    218,    222,    225,    227,    228,
    228,    227,    224,    221,    215,    208,    200,    189,    177,    163,    146,    127,    106,    83,
    57,     29,     -2,     -36,    -72,    -111,   -153,   -197,   -244,   -294,   -347,   -401,   -459,   -519,
    -581,   -645,   -711,   -779,   -848,   -919,   -991,   -1064,  -1137,  -1210,  -1283,  -1356,  -1428,  -1498,
    -1567,  -1634,  -1698,  -1759,  -1817,  -1870,  -1919,  -1962,  -2001,  -2032,  -2057,  -2075,  -2085,  -2087,
    -2080,  -2063,  2037,   2000,   1952,   1893,   1822,   1739,   1644,   1535,   1414,   1280,   1131,   970,
    794,    605,    402,    185,    -45,    -288,   -545,   -814,   -1095,  -1388,  -1692,  -2006,  -2330,  -2663,
    -3004,  -3351,  -3705,  -4063,  -4425,  -4788,  -5153,  -5517,  -5879,  -6237,  -6589,  -6935,  -7271,  -7597,
    -7910,  -8209,  -8491,  -8755,  -8998,  -9219,  -9416,  -9585,  -9727,  -9838,  -9916,  -9959,  -9966,  -9935,
    -9863,  -9750,  -9592,  -9389,  -9139,  -8840,  -8492,  -8092,  -7640,  -7134,  6574,   5959,   5288,   4561,
    3776,   2935,   2037,   1082,   70,     -998,   -2122,  -3300,  -4533,  -5818,  -7154,  -8540,  -9975,  -11455,
    -12980, -14548, -16155, -17799, -19478, -21189, -22929, -24694, -26482, -28289, -30112, -31947, -33791, -35640,
    -37489, -39336, -41176, -43006, -44821, -46617, -48390, -50137, -51853, -53534, -55178, -56778, -58333, -59838,
    -61289, -62684, -64019, -65290, -66494, -67629, -68692, -69679, -70590, -71420, -72169, -72835, -73415, -73908,
    -74313, -74630, -74856, -74992, 75038};

/// The prototype low pass of the polyphase bank, 512 taps.
const std::vector<double>& prototype() {
  static const auto taps = [] {
    std::vector<double> p(512, 0);
    for (size_t n = 0; n <= 256; ++n) p[n] = (n / 64 % 2 ? -1 : 1) * double(synthesis_window[n]) / 65536 / 32;
    for (size_t n = 257; n < 512; ++n) p[n] = p[512 - n];
    return p;
  }();
  return taps;
}

/// The polyphase filter bank of layers I to III (ISO/IEC 11172-3, C.1.3): 32 bands, one value each every 32 samples.
class PolyphaseBank {
 public:
  static constexpr size_t bands = 32, taps = 512;
  using Slot = std::array<double, bands>;

  PolyphaseBank() {
    for (int k = 0; k < 64; ++k)
      for (int i = 0; i < 32; ++i) matrix_.push_back(std::cos((2 * i + 1) * (k - 16) * pi / 64));
  }
  void take(std::span<const double> samples) {
    samples_ = samples;
    slots_.assign(samples.size(), {});
    known_.assign(samples.size(), false);
  }
  /// The bands of the 512 samples from a place; neighbouring blocks share most of theirs.
  const Slot& slot_at(size_t at) {
    if (known_[at]) return slots_[at];
    const auto& p = prototype();
    std::array<double, 64> y{};
    const double* newest = samples_.data() + at + taps - 1;
    for (size_t j = 0; j < 8; ++j)  // the window's sign turns every 64 taps: the cosines do so too
      for (size_t k = 0; k < 64; ++k) y[k] += (j % 2 ? -1 : 1) * p[k + 64 * j] * newest[-long(k + 64 * j)];
    Slot slot{};
    for (size_t k = 0; k < 64; ++k)
      for (size_t i = 0; i < bands; ++i) slot[i] += y[k] * matrix_[k * bands + i];
    slots_[at] = slot;
    known_[at] = true;
    return slots_[at];
  }

 private:
  std::span<const double> samples_;
  std::vector<double> matrix_;
  std::vector<Slot> slots_;
  std::vector<bool> known_;
};

/// One granule: 36 slots of 32 samples through the bank, MDCT of 36 in each band, alias reduction.
class Mp3Hybrid : public CoderTransform {
 public:
  Mp3Hybrid() {
    family = "mp3", hop = size = 576, reach = 35 * 32 + PolyphaseBank::taps;
    for (int n = 0; n < 36; ++n)
      for (int k = 0; k < 18; ++k)
        mdct_.push_back(std::sin(pi / 36 * (n + 0.5)) * std::cos(pi / 72 * (2 * n + 1 + 18) * (2 * k + 1)) / 9);
    for (const double c : {-0.6, -0.535, -0.33, -0.185, -0.095, -0.041, -0.0142, -0.0037})
      cs_.push_back(1 / std::sqrt(1 + c * c)), ca_.push_back(c / std::sqrt(1 + c * c));
  }
  void take(std::span<const double> samples) override { bank_.take(samples); }
  void forward(size_t at, std::span<double> out) override {
    std::array<double, 36 * 32> bands{};
    for (size_t slot = 0; slot < 36; ++slot) {
      const auto& values = bank_.slot_at(at + slot * 32);
      for (size_t i = 0; i < 32; ++i) bands[i * 36 + slot] = i % 2 && slot % 2 ? -values[i] : values[i];
    }
    for (size_t i = 0; i < 32; ++i) {
      std::array<double, 18> lines{};
      for (size_t n = 0; n < 36; ++n)
        for (size_t k = 0; k < 18; ++k) lines[k] += bands[i * 36 + n] * mdct_[n * 18 + k];
      std::copy(lines.begin(), lines.end(), out.begin() + long(i * 18));
    }
    for (size_t i = 1; i < 32; ++i)
      for (size_t b = 0; b < 8; ++b) {
        double &low = out[i * 18 - 1 - b], &high = out[i * 18 + b];
        const double l = low, h = high;
        low = l * cs_[b] + h * ca_[b], high = h * cs_[b] - l * ca_[b];
      }
  }

 private:
  PolyphaseBank bank_;
  std::vector<double> mdct_, cs_, ca_;
};

/// A part of layer II: 12 slots of the bank, which share a scale factor in each band.
class LayerTwo : public CoderTransform {
 public:
  static constexpr size_t slots = 12;
  LayerTwo() {
    family = "mp2", hop = PolyphaseBank::bands, size = slots * PolyphaseBank::bands;
    reach = (slots - 1) * hop + PolyphaseBank::taps;
    mid_side = false;
  }
  void take(std::span<const double> samples) override { bank_.take(samples); }
  void forward(size_t at, std::span<double> out) override {
    for (size_t slot = 0; slot < slots; ++slot) {
      const auto& values = bank_.slot_at(at + slot * hop);
      for (size_t i = 0; i < PolyphaseBank::bands; ++i) out[i * slots + slot] = values[i];
    }
  }
  /// By the steps between the values of each band; allocation and scale factors take about 8 bits a band and part.
  std::optional<double> bits_of(std::span<const double> block) const override {
    double bits = 0;
    for (size_t i = 0; i < PolyphaseBank::bands; ++i) {
      std::array<double, slots + 1> sizes{};
      for (size_t n = 0; n < slots; ++n) sizes[n] = std::abs(block[i * slots + n]);
      std::sort(sizes.begin(), sizes.end());
      const double most = sizes.back(), same = 0.02 * most;
      if (most < 1e-4) continue;
      double step = most;
      for (size_t n = 1; n <= slots; ++n)
        if (const double apart = sizes[n] - sizes[n - 1]; apart > same) step = std::min(step, apart);
      bits += 8 + double(slots) * std::log2(2 * std::round(most / step) + 1);
    }
    return bits;
  }

 private:
  PolyphaseBank bank_;
};

}  // namespace

std::vector<std::unique_ptr<CoderTransform>> coder_transforms() {
  std::vector<std::unique_ptr<CoderTransform>> all;
  all.push_back(std::make_unique<Mdct>("aac", sine_window(2048)));
  all.push_back(std::make_unique<Mdct>("aac", kaiser_bessel_window(2048, 4)));
  all.push_back(std::make_unique<Mdct>("vorbis", vorbis_window(2048)));
  all.push_back(std::make_unique<Mdct>("opus", celt_window()));
  all.push_back(std::make_unique<Mp3Hybrid>());
  all.push_back(std::make_unique<LayerTwo>());
  // Vorbis: the centres of two blocks lie a quarter of each apart, and short ones have 256 samples; its channels' own
  // residues are whole numbers, coupled or not.
  for (auto& t : all) {
    const bool vorbis = t->family == "vorbis";
    t->grid = vorbis ? 64 : t->hop;
    if (vorbis) t->mid_side = false;
  }
  return all;
}

}  // namespace heathmist
