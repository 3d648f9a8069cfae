#include "core/compare/path.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>
#include <numeric>

#include "core/compare/segments.hpp"
#include "core/dsp/fft.hpp"

namespace heathmist {

namespace {

using Complex = std::complex<double>;
using Bins = std::vector<Complex>;

constexpr double window_s = 0.6;         // at least four turns of 20 Hz in the flat of the window
constexpr int most_path_rounds = 3;      // of estimating and taking out
constexpr double worth_a_round = 0.003;  // of what is left, explained by the round before
constexpr double chance_margin = 4;      // times what chance alone explains: less is not taken for a path
constexpr double crossing_margin = 9;    // the same for what comes across from the other channel
constexpr double least_apart = 0.03;  // 1 - coherence of the master's channels, under which they cannot be told apart
constexpr double least_told = 0.05;   // of the master's power that must lie where crosstalk can be told
constexpr int64_t path_segment_blocks = 24, most_segments = 9;  // of a long one, some one and a half minutes in all
constexpr double overlapped = 0.947;  // averages in a Hann window's block that half overlaps the next

/// Cross-spectra of the master's channels (inputs) and what is left of the residual (outputs).
struct Averages {
  std::vector<Bins> inputs;               // inputs x inputs, conj(first) * second
  std::vector<Bins> across;               // outputs x inputs, conj(input) * output
  std::vector<std::vector<double>> left;  // outputs
  double blocks = 0, squares = 0;         // sums of the blocks' weights, and of their squares

  Averages(size_t pairs, bool crossing, size_t bins)
      : inputs(crossing ? pairs * pairs : pairs, Bins(bins)),
        across(inputs.size(), Bins(bins)),
        left(pairs, std::vector<double>(bins)) {}
  void add(const Averages& other, double weight) {
    for (size_t n = 0; n < inputs.size(); ++n)
      for (size_t k = 0; k < inputs[n].size(); ++k)
        inputs[n][k] += weight * other.inputs[n][k], across[n][k] += weight * other.across[n][k];
    for (size_t p = 0; p < left.size(); ++p)
      for (size_t k = 0; k < left[p].size(); ++k) left[p][k] += weight * other.left[p][k];
    blocks += weight * other.blocks, squares += weight * weight * other.blocks;
  }
  /// How many averages of one weight say as much (Kish 1965).
  double independent() const { return overlapped * (squares > 0 ? blocks * blocks / squares : 0); }
};

struct Plan {
  const Clip& master;
  const Clip& ret;
  const Fit& fit;
  size_t size, pairs;
  bool crossing;  // the path goes across the channels as well
  int64_t blocks;
  std::vector<double> window;
  std::vector<Segment> segments{};          // that are read
  const std::vector<Bins>* path = nullptr;  // what is taken out already: outputs x inputs

  size_t place(size_t output, size_t input) const { return crossing ? output * pairs + input : output; }
  bool meets(size_t output, size_t input) const { return crossing || output == input; }
};

/// One worker: predicts the linear part by overlap and save, takes it out, and adds up what is left.
class Sifter {
 public:
  explicit Sifter(const Plan& plan)
      : p_(plan), residual_(plan.master, plan.ret, plan.fit), reader_(plan.master.reader()), fft_(plan.size) {}

  void segment(int64_t index, Averages& out) {
    const int64_t from = index * path_segment_blocks, to = std::min(p_.blocks, from + path_segment_blocks);
    half_.assign(p_.pairs, std::vector<double>(p_.size / 2));
    if (p_.path) predict(from, half_);
    for (int64_t t = from; t < to; ++t) block(t, out);
  }

 private:
  int64_t hop() const { return int64_t(p_.size) / 2; }

  void transform(std::span<const double> in, bool windowed, Bins& out) {
    if (windowed)
      std::transform(in.begin(), in.end(), p_.window.begin(), fft_.time().begin(), std::multiplies<>());
    else
      std::copy(in.begin(), in.end(), fft_.time().begin());
    fft_.forward();
    out.assign(fft_.spectrum().begin(), fft_.spectrum().end());
  }

  /// The linear part for frames [first + t hop + size/4, + hop) of the overlap.
  void predict(int64_t t, std::vector<std::vector<double>>& out) {
    reader_->read(p_.fit.first + t * hop(), int64_t(p_.size), wide_);
    spectra_.resize(p_.pairs);
    for (size_t i = 0; i < p_.pairs; ++i) transform(wide_.channel(p_.fit.pairs[i].master), false, spectra_[i]);
    for (size_t o = 0; o < p_.pairs; ++o) {
      std::fill(fft_.spectrum().begin(), fft_.spectrum().end(), Complex{});
      for (size_t i = 0; i < p_.pairs; ++i) {
        if (!p_.meets(o, i)) continue;
        const Bins& path = (*p_.path)[p_.place(o, i)];
        for (size_t k = 0; k < path.size(); ++k) fft_.spectrum()[k] += path[k] * spectra_[i][k];
      }
      fft_.inverse();
      for (int64_t n = 0; n < hop(); ++n) out[o][size_t(n)] = fft_.time()[p_.size / 4 + size_t(n)] / double(p_.size);
    }
  }

  void block(int64_t t, Averages& out) {
    const int64_t at = p_.fit.first + t * hop() + int64_t(p_.size) / 4;
    reader_->read(at, int64_t(p_.size), m_);
    residual_.read(at, int64_t(p_.size), e_);
    if (p_.path) {
      next_.resize(p_.pairs, std::vector<double>(p_.size / 2));
      predict(t + 1, next_);
      for (size_t o = 0; o < p_.pairs; ++o)
        for (size_t n = 0; n < p_.size / 2; ++n) {
          e_.channel(int(o))[n] -= half_[o][n];
          e_.channel(int(o))[n + p_.size / 2] -= next_[o][n];
        }
      std::swap(half_, next_);
    }
    inputs_.resize(p_.pairs);
    for (size_t i = 0; i < p_.pairs; ++i) transform(m_.channel(p_.fit.pairs[i].master), true, inputs_[i]);
    for (size_t o = 0; o < p_.pairs; ++o) {
      transform(e_.channel(int(o)), true, output_);
      for (size_t k = 0; k < output_.size(); ++k) out.left[o][k] += std::norm(output_[k]);
      for (size_t i = 0; i < p_.pairs; ++i) {
        if (!p_.meets(o, i)) continue;
        Bins &across = out.across[p_.place(o, i)], &both = out.inputs[p_.place(o, i)];
        for (size_t k = 0; k < output_.size(); ++k) {
          across[k] += std::conj(inputs_[i][k]) * output_[k];
          both[k] += std::conj(inputs_[i][k]) * inputs_[o][k];  // place (o, i): conj(i) * o
        }
      }
    }
    out.blocks += 1;
  }

  const Plan& p_;
  ResidualReader residual_;
  std::unique_ptr<Reader> reader_;
  dsp::RealFft<double> fft_;
  Planar m_, e_, wide_;
  std::vector<Bins> spectra_, inputs_;
  Bins output_;
  std::vector<std::vector<double>> half_, next_;
};

Averages averages_of(const Plan& plan, const Job& job) {
  const size_t bins = plan.size / 2 + 1;
  const auto segments = std::ssize(plan.segments);
  Averages all(plan.pairs, plan.crossing, bins);
  // Segments are added in order, a few at a time: the result depends on no thread count, the memory not on the length.
  constexpr int64_t batch = 8;
  for (int64_t from = 0; from < segments; from += batch) {
    const int64_t count = std::min(batch, segments - from);
    std::vector<Averages> parts(size_t(count), Averages(plan.pairs, plan.crossing, bins));
    for_each_segment(
        count, job.part(double(from) / double(segments), double(from + count) / double(segments)),
        [&] { return Sifter(plan); },
        [&](Sifter& sifter, int64_t n) { sifter.segment(plan.segments[size_t(from + n)].index, parts[size_t(n)]); });
    for (int64_t n = 0; n < count; ++n) all.add(parts[size_t(n)], plan.segments[size_t(from + n)].weight);
  }
  return all;
}

/// What a round found: the path of every bin, and how much of what was left it explains.
struct Found {
  std::vector<Bins> path;                      // outputs x inputs
  std::vector<std::vector<double>> explained;  // outputs
};

/// Least squares in every bin; a path that chance might have made is left out, the rest shrunk by its share of chance.
Found solve(const Plan& plan, const Averages& a) {
  const size_t bins = plan.size / 2 + 1;
  Found found{std::vector<Bins>(a.across.size(), Bins(bins)), {plan.pairs, std::vector<double>(bins)}};
  const bool two = plan.crossing && plan.pairs == 2;
  const double averages = std::max(2.0, a.independent()), chance = (two ? 2 : 1) / averages;
  for (size_t k = 0; k < bins; ++k)
    for (size_t o = 0; o < plan.pairs; ++o) {
      const double left = a.left[o][k];
      if (!(left > 0)) continue;
      const double own = a.inputs[plan.place(o, o)][k].real();
      Complex d[2]{};
      double explained = 0;
      bool solved = false;
      if (two) {
        const double s0 = a.inputs[plan.place(0, 0)][k].real(), s1 = a.inputs[plan.place(1, 1)][k].real();
        const Complex s01 = a.inputs[plan.place(1, 0)][k];  // conj(0) * 1
        const double determinant = s0 * s1 - std::norm(s01);
        if (determinant > least_apart * s0 * s1 && s0 > 0 && s1 > 0) {
          const Complex c0 = a.across[plan.place(o, 0)][k], c1 = a.across[plan.place(o, 1)][k];
          d[0] = (c0 * s1 - c1 * s01) / determinant;  // [s0 s01; conj(s01) s1] d = c
          d[1] = (c1 * s0 - c0 * std::conj(s01)) / determinant;
          explained = (std::conj(d[0]) * c0 + std::conj(d[1]) * c1).real();
          // The other channel counts only where it explains more than chance does beyond the own one (F test).
          const double alone = std::norm(o == 0 ? c0 : c1) / own;
          solved = explained - alone > crossing_margin / averages * std::max(0.0, left - explained);
        }
      }
      if (!solved) {
        if (!(own > 0)) continue;
        const Complex c = a.across[plan.place(o, o)][k];
        d[two ? o : 0] = c / own;
        explained = std::norm(c) / own;
      }
      const double share = std::min(1.0, explained / left);
      if (share < chance_margin * chance) continue;
      const double keep = std::max(0.0, 1 - chance * (1 - share) / share / (1 - std::min(chance, 0.5)));
      found.explained[o][k] = explained * keep;
      for (size_t i = 0; i < plan.pairs; ++i)
        if (plan.meets(o, i)) found.path[plan.place(o, i)][k] = keep * d[two ? i : 0];
    }
  return found;
}

double total(const std::vector<std::vector<double>>& powers) {
  double sum = 0;
  for (const auto& p : powers) sum = std::reduce(p.begin(), p.end(), sum);
  return sum;
}

/// Mean over pairs as a spectrum whose bins sum to the mean square.
Spectrum spectrum_of(const std::vector<std::vector<double>>& powers, double bin_hz, double scale) {
  Spectrum result{bin_hz, std::vector<double>(powers.front().size())};
  for (const auto& p : powers)
    for (size_t k = 0; k < p.size(); ++k) result.power[k] += scale * p[k];
  return result;
}

/// Power that a path makes of the master, in every bin of every output.
std::vector<std::vector<double>> made_by(const Plan& plan, const std::vector<Bins>& path, const Averages& a) {
  std::vector<std::vector<double>> power(plan.pairs, std::vector<double>(plan.size / 2 + 1));
  for (size_t o = 0; o < plan.pairs; ++o)
    for (size_t k = 0; k < power[o].size(); ++k) {
      Complex sum = 0;
      for (size_t i = 0; i < plan.pairs; ++i)
        for (size_t j = 0; j < plan.pairs; ++j)
          if (plan.meets(o, i) && plan.meets(o, j) && plan.meets(j, i))
            sum += std::conj(path[plan.place(o, i)][k]) * a.inputs[plan.place(j, i)][k] * path[plan.place(o, j)][k];
      power[o][k] = std::max(0.0, sum.real());
    }
  return power;
}

size_t window_size(int64_t frames, int rate) {
  size_t size = 1024;
  while (double(size) < window_s * rate) size *= 2;
  while (size > 512 && int64_t(size) * 6 > frames) size /= 2;
  return size;
}

}  // namespace

Split split_residual(const Clip& master, const Clip& ret, const Fit& fit, const ResidualSums& sums, const Job& job) {
  Split split;
  const int64_t frames = fit.last - fit.first;
  if (frames < 2048 || sums.residual <= 0 || sums.master <= 0) return split;
  const int rate = master.format().sample_rate_hz;
  Plan plan{master, ret, fit, window_size(frames, rate), fit.pairs.size(), fit.pairs.size() == 2, 0, {}};
  plan.crossing = plan.crossing && fit.pairs[0].master != fit.pairs[1].master;
  plan.blocks = std::max<int64_t>(1, (frames - int64_t(plan.size) * 5 / 4) / int64_t(plan.size / 2) + 1);
  plan.window = dsp::hann(plan.size);
  plan.segments = segments_of(sums, fit, rate, (plan.blocks + path_segment_blocks - 1) / path_segment_blocks,
                              path_segment_blocks * int64_t(plan.size / 2), most_segments);

  dsp::RealFft<double> fft(plan.size);
  Averages first = averages_of(plan, job.part(0, 0.2)), left = first;
  Found found = solve(plan, first);
  std::vector<Bins> path = found.path;
  for (int round = 1; round < most_path_rounds; ++round) {
    if (total(found.explained) < worth_a_round * total(left.left)) break;
    for (Bins& p : path) dsp::shorten_response(p, fft);
    plan.path = &path;
    Averages next = averages_of(plan, job.part(0.2 + 0.4 * (round - 1), 0.2 + 0.4 * round));
    if (total(next.left) > total(left.left)) break;  // what chance made is not worth running
    left = std::move(next);
    found = solve(plan, left);
    for (size_t n = 0; n < path.size(); ++n)
      for (size_t k = 0; k < path[n].size(); ++k) path[n][k] += found.path[n][k];
  }

  const size_t bins = plan.size / 2 + 1;
  split.path.bin_hz = double(rate) / double(plan.size);
  split.path.blocks = first.independent();
  for (size_t o = 0; o < plan.pairs; ++o) {
    split.path.difference.emplace_back(plan.pairs, Bins(bins));
    for (size_t i = 0; i < plan.pairs; ++i)
      if (plan.meets(o, i)) split.path.difference[o][i] = path[plan.place(o, i)];
    std::vector<double> coherence(bins), power(bins);
    for (size_t k = 0; k < bins; ++k) {
      const double mm = first.inputs[plan.place(o, o)][k].real();
      const Complex mr = mm + first.across[plan.place(o, o)][k];
      const double rr = mm + 2 * first.across[plan.place(o, o)][k].real() + first.left[o][k];
      power[k] = mm;
      coherence[k] = mm > 0 && rr > 0 ? std::min(1.0, std::norm(mr) / (mm * rr)) : 0;
    }
    split.path.coherence.push_back(std::move(coherence));
    split.path.master_power.push_back(std::move(power));
  }
  auto remainder = left.left;
  for (size_t o = 0; o < plan.pairs; ++o)
    for (size_t k = 0; k < bins; ++k) remainder[o][k] = std::max(0.0, remainder[o][k] - found.explained[o][k]);
  const auto linear = made_by(plan, path, first);
  const double window_power = std::inner_product(plan.window.begin(), plan.window.end(), plan.window.begin(), 0.0);
  const double scale = 2 / (window_power * double(plan.size) * first.blocks * double(plan.pairs));
  split.master = spectrum_of(split.path.master_power, split.path.bin_hz, scale);
  split.residual = spectrum_of(first.left, split.path.bin_hz, scale);
  split.linear = spectrum_of(linear, split.path.bin_hz, scale);
  split.remainder = spectrum_of(remainder, split.path.bin_hz, scale);
  // Windows weigh the ends less: the powers are scaled to what the whole overlap holds.
  const double whole = total(first.left) > 0 ? sums.residual / total(first.left) : 0;
  split.linear_power = whole * total(linear);
  split.remainder_power = std::min(sums.residual, whole * total(remainder));
  return split;
}

std::vector<PathBand> path_bands(const Split& split, int fraction) {
  std::vector<PathBand> bands;
  if (split.empty()) return bands;
  const LinearPath& path = split.path;
  const size_t bins = split.master.power.size();
  const double half = std::pow(2.0, 0.5 / fraction), top = path.bin_hz * double(bins - 1);
  for (int n = -6 * fraction; n <= 8 * fraction; ++n) {
    const double centre = 1000 * std::pow(2.0, double(n) / fraction);
    if (centre < 19.5 || centre / half >= top) continue;
    PathBand band;
    band.low_hz = centre / half, band.high_hz = std::min(top, centre * half);
    const auto from = size_t(std::ceil(band.low_hz / path.bin_hz)),
               to = std::min(bins - 1, size_t(std::floor(band.high_hz / path.bin_hz)));
    Complex mean = 0, slope = 0;
    double weight = 0, coherent = 0;
    for (size_t k = from; k <= to; ++k) {
      band.master += split.master.power[k], band.residual += split.residual.power[k];
      band.linear += split.linear.power[k], band.remainder += split.remainder.power[k];
      for (size_t p = 0; p < path.difference.size(); ++p) {
        const double power = path.master_power[p][k];
        mean += power * path.response(p, k);
        coherent += power * path.coherence[p][k];
        weight += power;
        if (k > 0) slope += power * path.response(p, k) * std::conj(path.response(p, k - 1));
      }
    }
    if (to < from || !(weight > 0)) continue;
    band.coherence = coherent / weight;
    band.magnitude_db = 20 * std::log10(std::max(1e-10, std::abs(mean) / weight));
    band.phase_deg = std::arg(mean) * 180 / std::numbers::pi;
    band.delay_ms = -1000 * std::arg(slope) / (2 * std::numbers::pi * path.bin_hz);
    const double averages = std::max(1.0, path.blocks * double((to - from + 1) * path.difference.size()));
    const double error =
        std::sqrt((1 - std::min(band.coherence, 1 - 1e-15)) / std::max(band.coherence, 1e-9) / (2 * averages));
    band.magnitude_error_db = 20 / std::numbers::ln10 * error;
    band.phase_error_deg = std::min(180.0, error * 180 / std::numbers::pi);
    bands.push_back(band);
  }
  return bands;
}

std::optional<double> crosstalk_db(const Split& split, size_t from, size_t to) {
  if (split.empty() || from == to || from >= split.path.difference.size() || to >= split.path.difference.size())
    return {};
  double reached = 0, sent = 0, all = 0;
  for (size_t k = 0; k < split.master.power.size(); ++k) {
    const double hz = double(k) * split.path.bin_hz;
    if (hz < 100 || hz > 10000) continue;
    all += split.path.master_power[from][k];
    if (split.path.difference[to][from][k] == 0.0) continue;  // not told from the own channel, or none
    reached += std::norm(split.path.difference[to][from][k]) * split.path.master_power[from][k];
    sent += split.path.master_power[from][k];
  }
  if (!(reached > 0) || sent < least_told * all) return {};
  return 10 * std::log10(reached / sent);
}

}  // namespace heathmist
