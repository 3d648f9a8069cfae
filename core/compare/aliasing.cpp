#include "core/compare/aliasing.hpp"

#include <algorithm>
#include <cmath>
#include <complex>
#include <numbers>
#include <numeric>

#include "core/dsp/fft.hpp"
#include "core/measure/fold.hpp"

namespace heathmist {

namespace {

using Complex = std::complex<double>;

constexpr int64_t wanted_size = 16384, most_blocks = 160, groups = 4;
constexpr int images[] = {-1, 1, -2, 2};
constexpr double stretch_hz = 500;      // bands of the master are judged in pieces of this width
constexpr double beyond_chance = 12;    // spreads of what chance explains
constexpr double bins_alike = 32;       // neighbours that a short event fills together
constexpr size_t aside = 9;             // bins: clear of a Hann window's main lobe
constexpr double beyond_beside = 3;     // times what is explained that far beside the landing
constexpr double beyond_own = 2;        // times what the master has of its own image
constexpr double most_gain = 2;         // an alias that is louder than its source is none
constexpr double least_share = 1e-8;    // of the residual there: under that a window's own error may be
constexpr double least_source = 1e-12;  // of the strongest bin: under that a window's side lobes are
constexpr double arithmetic_db = -120;  // against the source: deeper is a window at work, no converter
constexpr double line_share = 0.9;      // of a stretch's power within a line's own bins
constexpr int64_t line_bins = 2;        // either way: a Hann window's main lobe
constexpr double nothing = 1e-20;       // mean square in a bin, under which a master holds nothing

/// A bin of the upper half looks below itself, one of the lower half above.
size_t bin_beside(size_t bin) { return bin > 3 * aside ? bin - aside : bin + aside; }

/// Where a bin of the master lands.
struct BinLanding {
  int64_t out = 0;
  bool mirrored = false;
};

/// The rate in bins of a transform that fits it exactly.
struct Grid {
  int64_t size = 0, rate_bins = 0;
  double bin_hz = 0;
  int64_t bins() const { return size / 2 + 1; }
  std::optional<BinLanding> land(int image, int64_t in) const {
    const int64_t out = image * rate_bins + in;
    if (std::abs(out) < 2 || std::abs(out) >= bins() - 2) return {};
    return BinLanding{std::abs(out), out < 0};
  }
};

Grid grid_for(int master_hz, double rate_hz) {
  const auto rate = std::llround(rate_hz);
  const int64_t unit = master_hz / std::gcd<int64_t>(master_hz, rate);
  const int64_t size = 2 * unit * std::max<int64_t>(1, (wanted_size + unit) / (2 * unit));
  return {size, rate * size / master_hz, double(master_hz) / double(size)};
}

template <class T>
void plus(std::vector<T>& a, const std::vector<T>& b) {
  std::transform(a.begin(), a.end(), b.begin(), a.begin(), std::plus<>());
}

/// m master, e residual, x the master's bin brought to where it lands. First what the master does in place, of one
/// pair.
struct InPlace {
  std::vector<double> mm;                   // by bin
  std::vector<Complex> em;                  // e conj(m)
  std::vector<std::vector<Complex>> xm;     // by image, by bin of the master: x conj(m at the landing)
  std::vector<std::vector<double>> chance;  // |x m|^2
  explicit InPlace(size_t bins) : mm(bins), em(bins), xm(std::size(images), em), chance(std::size(images), mm) {}
  void add(const InPlace& o) {
    plus(mm, o.mm), plus(em, o.em);
    for (size_t k = 0; k < xm.size(); ++k) plus(xm[k], o.xm[k]), plus(chance[k], o.chance[k]);
  }
  /// How far the master keeps company with its own image, as drums and what was converted before do: whatever is done
  /// to it, what it becomes then does too. A power, of the master at the landing.
  double alike(size_t k, size_t in) const {
    return mm[in] > nothing ? (std::norm(xm[k][in]) - chance[k][in]) / mm[in] : 0;
  }
};

/// Then, with that taken out of both e and x, what is left of them, over all pairs.
struct Elsewhere {
  std::vector<double> mm, all, left;            // by bin: master; e before and after
  std::vector<std::vector<Complex>> ex;         // by image, by bin of the master: e conj(x)
  double strongest = 0;                         // of mm
  std::vector<std::vector<double>> xx, chance;  // |x|^2, and |e x|^2: explained where no phase is kept
  std::vector<std::vector<double>> alike;       // of the master at the landing, what its image there explains of it
  std::vector<std::vector<Complex>> beside;     // e conj(x) some bins beside the landing, where no alias is
  explicit Elsewhere(size_t bins)
      : mm(bins),
        all(bins),
        left(bins),
        ex(std::size(images), std::vector<Complex>(bins)),
        xx(std::size(images), mm),
        chance(xx),
        alike(xx),
        beside(ex) {}
  void add(const Elsewhere& o) {
    plus(mm, o.mm), plus(all, o.all), plus(left, o.left);
    for (size_t k = 0; k < ex.size(); ++k)
      plus(ex[k], o.ex[k]), plus(xx[k], o.xx[k]), plus(chance[k], o.chance[k]), plus(beside[k], o.beside[k]);
  }
};

class Walker {
 public:
  Walker(const Clip& master, const Clip& compared, const Clip& ret, const Fit& fit, const Grid& grid, double rate_hz)
      : fit_(fit),
        grid_(grid),
        turns_(rate_hz * fit.ratio() / master.format().sample_rate_hz),
        reader_(master.reader()),
        residual_(compared, ret, fit),
        fft_(size_t(grid.size)),
        window_(dsp::hann(size_t(grid.size))) {}

  void add(int64_t at, std::vector<InPlace>& pairs) {
    go_to(at);
    for (size_t p = 0; p < pairs.size(); ++p) {
      transform(p);
      InPlace& sums = pairs[p];
      for (size_t k = 0; k < master_.size(); ++k)
        sums.mm[k] += std::norm(master_[k]), sums.em[k] += error_[k] * std::conj(master_[k]);
      for (size_t k = 0; k < std::size(images); ++k)
        each_landing(k, [&](size_t in, size_t out, Complex x) {
          sums.xm[k][in] += x * std::conj(master_[out]);
          sums.chance[k][in] += std::norm(x) * std::norm(master_[out]);
        });
    }
  }
  void add(int64_t at, const std::vector<InPlace>& pairs, Elsewhere& sums) {
    go_to(at);
    for (size_t p = 0; p < pairs.size(); ++p) {
      transform(p);
      const InPlace& known = pairs[p];
      for (size_t k = 0; k < master_.size(); ++k) {
        sums.mm[k] += std::norm(master_[k]), sums.all[k] += std::norm(error_[k]);
        if (known.mm[k] > nothing) error_[k] -= known.em[k] / known.mm[k] * master_[k];
        sums.left[k] += std::norm(error_[k]);
      }
      for (size_t k = 0; k < std::size(images); ++k)
        each_landing(k, [&](size_t in, size_t out, Complex x) {
          if (known.mm[out] > nothing) x -= known.xm[k][in] / known.mm[out] * master_[out];
          sums.ex[k][in] += error_[out] * std::conj(x);
          sums.xx[k][in] += std::norm(x);
          sums.chance[k][in] += std::norm(error_[out]) * std::norm(x);
          sums.beside[k][in] += error_[bin_beside(out)] * std::conj(x);
        });
    }
  }

 private:
  void go_to(int64_t at) {
    at_ = at;
    reader_->read(at, grid_.size, m_);
    residual_.read(at, grid_.size, e_);
  }
  void transform(size_t pair) {
    auto run = [&](std::span<const double> x, std::vector<Complex>& out) {
      std::transform(x.begin(), x.end(), window_.begin(), fft_.time().begin(), std::multiplies<>());
      fft_.forward();
      out.assign(fft_.spectrum().begin(), fft_.spectrum().end());
    };
    run(m_.channel(fit_.pairs[pair].master), master_);
    run(e_.channel(int(pair)), error_);
  }
  template <class Visit>
  void each_landing(size_t k, Visit visit) {
    const double cycles = std::remainder(images[k] * std::remainder(turns_ * double(at_), 1.0), 1.0);
    const Complex turn = std::polar(1.0, 2 * std::numbers::pi * cycles);
    for (int64_t in = 2; in < grid_.bins() - 2; ++in)
      if (const auto landing = grid_.land(images[k], in)) {
        const Complex moved = turn * master_[size_t(in)];
        visit(size_t(in), size_t(landing->out), landing->mirrored ? std::conj(moved) : moved);
      }
  }
  const Fit& fit_;
  const Grid& grid_;
  double turns_;
  std::unique_ptr<Reader> reader_;
  ResidualReader residual_;
  dsp::RealFft<double> fft_;
  std::vector<double> window_;
  Planar m_, e_;
  int64_t at_ = 0;
  std::vector<Complex> master_, error_;
};

/// What one bin of the master explains of where it lands.
struct Share {
  double explained = 0, left = 0, source = 0, all = 0;  ///< all: of the residual, before anything was taken out
  double chance = 0;  ///< of that explained, were there no phase to be kept; sparse moments make it large
  double beside = 0;  ///< explained in the same way where no alias can be: in a loop all bins keep company
  double own = 0;     ///< explained if the residual were but the master again
};

Share share_of(const Elsewhere& s, size_t k, int64_t in, int64_t out) {
  Share share{0, s.left[size_t(out)], s.mm[size_t(in)], s.all[size_t(out)]};
  const double xx = s.xx[k][size_t(in)];
  if (xx <= nothing || xx < 1e-3 * share.source || share.source < least_source * s.strongest) return share;
  share.explained = std::min(share.left, std::norm(s.ex[k][size_t(in)]) / xx);
  share.chance = s.chance[k][size_t(in)] / xx;
  share.beside = std::min(share.left, std::norm(s.beside[k][size_t(in)]) / xx);  // a line's skirt sees the line there
  share.own = s.mm[size_t(out)] > nothing ? share.left * s.alike[k][size_t(in)] / s.mm[size_t(out)] : 0;
  return share;
}

/// A stretch of the master's bins under one image.
struct Stretch {
  int64_t first = 0, last = 0;
  double explained = 0, chance = 0, chance_squares = 0, beside = 0, own = 0, left = 0, source = 0, all = 0, top = 0;
  int64_t top_bin = 0;
  void add(int64_t in, const Share& s) {
    last = in;
    explained += s.explained, chance += s.chance, chance_squares += s.chance * s.chance, beside += s.beside,
        own += s.own;
    left += s.left, source += s.source, all += s.all;
    if (s.explained > top) top = s.explained, top_bin = in;
  }
  /// Beyond what chance explains of anything.
  bool stands() const {
    if (!(chance > 0)) return false;
    const double count = std::max(1.0, chance * chance / chance_squares / bins_alike);
    return explained > std::max(chance, beside) * (1 + beyond_chance / std::sqrt(count)) &&
           explained > beyond_beside * beside && explained - chance > beyond_own * own &&
           explained < most_gain * source && explained > least_share * all;
  }
};

class Judge {
 public:
  Judge(const Elsewhere& sums, const Grid& grid, double scale) : sums_(sums), grid_(grid), scale_(scale) {}

  void run(std::vector<FoldedBand>& bands) const {
    for (size_t k = 0; k < std::size(images); ++k) {
      std::vector<Stretch> open;  // neighbours that stand
      bool mirrored = false;
      auto close = [&] {
        if (!open.empty()) bands.push_back(band_of(k, open, mirrored));
        open.clear();
      };
      const auto width = std::max<int64_t>(8, std::llround(stretch_hz / grid_.bin_hz));
      for (int64_t from = 2; from < grid_.bins() - 2; from += width) {
        Stretch s{from, from};
        bool one_way = false;
        for (int64_t in = from; in < std::min(grid_.bins() - 2, from + width); ++in)
          if (const auto landing = grid_.land(images[k], in)) {
            s.add(in, share_of(sums_, k, in, landing->out));
            one_way = landing->mirrored;
          }
        if (!s.stands() || (!open.empty() && one_way != mirrored)) close();
        if (s.stands()) open.push_back(s), mirrored = one_way;
      }
      close();
    }
  }

 private:
  FoldedBand band_of(size_t k, const std::vector<Stretch>& open, bool mirrored) const {
    FoldedBand band{images[k], mirrored};
    Stretch top = open.front();
    double left = 0, explained = 0, chance = 0, source = 0;
    for (const Stretch& s : open) {
      left += s.left, explained += s.explained, chance += s.chance, source += s.source;
      if (s.top > top.top) top = s;
    }
    const double fair = std::max(0.0, explained - chance) / std::max(0.1, 1 - chance / left);
    band.coherence = std::clamp(fair / left, 0.0, 1.0);
    band.power = fair * scale_, band.source = source * scale_;
    double place = 0, within = 0;
    for (int64_t in = top.top_bin - line_bins; in <= top.top_bin + line_bins; ++in)
      if (const auto landing = grid_.land(images[k], in)) {
        const double own = share_of(sums_, k, in, landing->out).explained;
        within += own, place += own * double(in);
      }
    band.is_line = within > line_share * explained;
    band.in_low_hz = grid_.bin_hz * (band.is_line ? place / within : double(open.front().first));
    band.in_high_hz = grid_.bin_hz * (band.is_line ? place / within : double(open.back().last));
    const double move = images[k] * double(grid_.rate_bins) * grid_.bin_hz;
    band.out_low_hz = std::abs(move + band.in_low_hz), band.out_high_hz = std::abs(move + band.in_high_hz);
    if (band.out_low_hz > band.out_high_hz) std::swap(band.out_low_hz, band.out_high_hz);
    return band;
  }
  const Elsewhere& sums_;
  const Grid& grid_;
  double scale_;
};

}  // namespace

double FoldedBand::level_db() const { return 10 * std::log10(std::max(1e-30, power / std::max(1e-30, source))); }

double Aliasing::power() const {
  return std::accumulate(bands.begin(), bands.end(), 0.0, [](double sum, const auto& b) { return sum + b.power; });
}

bool comes_of(const std::vector<Aliasing>& aliasing, double master_rate_hz, double tone_hz, double within_hz) {
  constexpr int far_images = 40;
  for (const Aliasing& a : aliasing)
    for (const FoldedBand& b : a.bands)
      if (b.is_line)
        for (const auto& l : landings(b.in_low_hz, master_rate_hz, a.rate_hz, far_images))
          if (std::abs(l.out_hz - tone_hz) < within_hz) return true;
  return false;
}

std::vector<double> likely_rates(int master_hz, int return_hz) {
  if (return_hz < master_hz) return {double(return_hz)};
  std::vector<double> rates;
  if (return_hz > master_hz) return rates;
  for (const double hz : {22050., 24000., 32000., 44100., 48000., 88200., 96000., 176400., 192000.})
    if (hz < master_hz && hz > 0.4 * master_hz) rates.push_back(hz);
  return rates;
}

Aliasing find_aliases(const Clip& master, const Clip& compared, const Clip& ret, const Fit& fit, double rate_hz,
                      const Job& job) {
  const Grid grid = grid_for(master.format().sample_rate_hz, rate_hz);
  Aliasing found{rate_hz, 0, {}};
  const int64_t span = fit.last - fit.first - grid.size;
  if (span < 8 * grid.size || fit.pairs.empty()) return found;
  const int64_t blocks = found.blocks = std::min(most_blocks, 2 * span / grid.size + 1);
  const auto bins = size_t(grid.bins());
  auto walk = [&](auto visit) {
    for_each_segment(
        groups, job, [&] { return std::make_unique<Walker>(master, compared, ret, fit, grid, rate_hz); },
        [&](auto& walker, int64_t g) {
          for (int64_t b = g * blocks / groups; b < (g + 1) * blocks / groups; ++b) {
            job.check();
            visit(*walker, size_t(g), fit.first + b * span / std::max<int64_t>(1, blocks - 1));
          }
        });
  };
  std::vector<std::vector<InPlace>> known(groups, std::vector<InPlace>(fit.pairs.size(), InPlace(bins)));
  walk([&](Walker& walker, size_t g, int64_t at) { walker.add(at, known[g]); });
  for (size_t g = 1; g < known.size(); ++g)
    for (size_t p = 0; p < fit.pairs.size(); ++p) known.front()[p].add(known[g][p]);
  std::vector<Elsewhere> parts(groups, Elsewhere(bins));
  walk([&](Walker& walker, size_t g, int64_t at) { walker.add(at, known.front(), parts[g]); });
  for (size_t g = 1; g < parts.size(); ++g) parts.front().add(parts[g]);
  for (const InPlace& pair : known.front())
    for (size_t k = 0; k < std::size(images); ++k)
      for (int64_t in = 2; in < grid.bins() - 2; ++in) parts.front().alike[k][size_t(in)] += pair.alike(k, size_t(in));
  parts.front().strongest = *std::max_element(parts.front().mm.begin(), parts.front().mm.end());
  // one-sided, a Hann window's power is 3/8; mean over blocks and pairs
  const double scale = 2 / (0.375 * double(grid.size) * double(grid.size) * double(blocks) * double(fit.pairs.size()));
  Judge(parts.front(), grid, scale).run(found.bands);
  std::erase_if(found.bands, [](const FoldedBand& b) { return b.level_db() < arithmetic_db; });
  std::sort(found.bands.begin(), found.bands.end(), [](const auto& a, const auto& b) { return a.power > b.power; });
  return found;
}

std::optional<ShapedNoise> find_shaped_noise(const ResidualSums& sums, double top_hz,
                                             const std::vector<double>& line_hz) {
  const Spectrum &all = sums.residual_spectrum, &rest = sums.remainder_spectrum;
  const auto bins = std::min<size_t>(all.power.size(), size_t(top_hz / std::max(1e-9, all.bin_hz)));
  constexpr size_t pieces = 40;
  if (bins < 20 * pieces || rest.power.size() < bins) return {};
  std::vector<double> density(pieces), residual(pieces);
  for (size_t k = 0; k < pieces * (bins / pieces); ++k)
    density[k / (bins / pieces)] += rest.power[k], residual[k / (bins / pieces)] += all.power[k];
  const double floor = *std::min_element(density.begin() + 1, density.end());
  const double top = *std::max_element(density.begin() + pieces / 2, density.end());
  ShapedNoise noise{0, 10 * std::log10(top / std::max(1e-40, floor))};
  size_t from = pieces;
  while (from > 1 && density[from - 1] > 4 * floor) --from;
  if (noise.rise_db < 9 || from < pieces / 8 || from == pieces) return {};
  for (size_t p = from; p < pieces; ++p)
    if (density[p] < 0.7 * residual[p]) return {};  // it keeps company with the programme
  noise.from_hz = double(from) * top_hz / pieces;
  if (std::any_of(line_hz.begin(), line_hz.end(), [&](double hz) { return hz > noise.from_hz && hz < top_hz; }))
    return {};
  const DepthCells& cells = sums.depth;
  std::vector<double> moments(size_t(cells.columns()), 0);
  for (int c = 0; c < cells.columns(); ++c)
    for (int b = 0; b < cells.bands(); ++b)
      if (cells.band_edges_hz[size_t(b)] >= noise.from_hz && cells.band_edges_hz[size_t(b) + 1] <= top_hz)
        moments[size_t(c)] += double(cells.residual[size_t(c * cells.bands() + b)]);
  std::sort(moments.begin(), moments.end());
  if (moments.size() < 10 || moments[moments.size() * 9 / 10] > 2 * moments[moments.size() / 10]) return {};
  return noise;
}

}  // namespace heathmist
