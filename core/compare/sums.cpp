#include "core/compare/sums.hpp"

#include <algorithm>
#include <cmath>
#include <numeric>

#include "core/dsp/fft.hpp"
#include "core/dsp/simd.hpp"

namespace heathmist {

std::optional<double> power_db(double power, double against) {
  if (!(power > 0) || !(against > 0)) return {};
  return 10 * std::log10(power / against);
}

std::vector<float> depth_db(const DepthCells& cells) {
  std::vector<float> db(cells.master.size());
  for (size_t n = 0; n < db.size(); ++n) {
    const float m = cells.master[n], e = cells.residual[n];
    db[n] = m <= 0 && e <= 0 ? NAN
            : e <= 0         ? -200.0f
            : m <= 0         ? 200.0f
                             : std::clamp(10 * std::log10(e / m), -200.0f, 200.0f);
  }
  return db;
}

std::optional<double> PairSums::residual_relative_db() const { return power_db(residual, master); }
std::optional<double> ResidualSums::residual_relative_db() const { return power_db(residual, master); }
int64_t short_piece_frames(int sample_rate_hz) {
  return std::max<int64_t>(1, loudness_piece_frames(sample_rate_hz) / 5);
}

std::optional<double> ResidualSums::remainder_relative_db() const { return power_db(remainder, master); }

namespace {

constexpr int64_t block_frames = 49100;  // what two transforms of the longer FullBand block read, drift and all
constexpr int most_map_columns = 4096;

std::vector<double> sixth_octave_edges(double sample_rate_hz) {
  std::vector<double> edges;
  for (double hz = 25; hz < sample_rate_hz / 2 * 0.97; hz *= std::pow(2.0, 1.0 / 6)) edges.push_back(hz);
  edges.push_back(sample_rate_hz / 2);
  return edges;
}

/// What every worker knows of the job, fixed before the pass begins.
struct Layout {
  const Clip& master;
  const Clip& ret;
  const Fit& fit;
  SumsOptions options;
  int64_t first = 0, last = 0, frames = 0;
  int64_t piece = 1, short_piece = 1, segment = 1, hop = 1, transforms = 1, per_column = 1;
  double gain = 1;
  std::vector<double> window{}, master_weights{}, return_weights{}, residual_weights{};
  std::vector<size_t> band_bins{};  // first bin of each band, and the end
};

struct PairPart {
  double mm = 0, ee = 0, rr = 0;
  std::vector<double> m, r, e;  // power spectra
  std::vector<std::complex<double>> cross;
};

struct Part {
  std::vector<PairPart> pairs;
  double peak = 0;
  int64_t peak_at = 0, transforms = 0, first_column = -1;
  ByLevel by_level;
  std::vector<float> depth_master, depth_residual;  // whole columns from first_column on
};

/// What all segments write to, each in its own places.
struct Shared {
  std::vector<OutlineBin> outline;
  LoudnessPieces m, r, e;
  ShortPieces shorts;
};

class Worker {
 public:
  Worker(const Layout& layout, Shared& shared)
      : l_(layout),
        shared_(shared),
        master_(layout.master, layout.fit),
        laid_(layout.ret, layout.fit),
        a_(layout.options.fft_size),
        b_(layout.options.fft_size) {}

  void segment(int64_t index, Part& part) {
    const size_t pairs = l_.fit.pairs.size();
    const int64_t from = l_.first + index * l_.segment, to = std::min(l_.last, from + l_.segment);
    part.pairs.resize(pairs);
    for (auto& p : part.pairs) {
      p.m.assign(a_.bins(), 0);
      p.r = p.e = p.m;
      p.cross.assign(a_.bins(), 0);
    }
    weighting_.assign(pairs * 3, KWeighting(l_.master.format().sample_rate_hz));
    warm_up(from);
    const auto tail = int64_t(a_.size());
    for (int64_t at = from; at < to; at += block_frames) {
      const int64_t frames = std::min(block_frames, to - at);
      load(at, frames + tail, at == from ? 0 : tail);
      for (size_t p = 0; p < pairs; ++p) {
        levels(p, at, frames, part);
        loudness(p, at, frames);
        spectra(p, at, frames, part);
      }
    }
  }

 private:
  /// Master, laid return and residual of every pair from frame `at`; zero outside the range. The last `held` frames
  /// that were loaded are the first now.
  void load(int64_t at, int64_t frames, int64_t held = 0) {
    const auto go_on = [&](auto& reader, Planar& samples) {
      reader.read(at + held, frames - held, fresh_);
      if (!held) return std::swap(samples, fresh_);
      const int64_t before = samples.frames();
      next_.resize(fresh_.channels(), frames);
      for (int c = 0; c < next_.channels(); ++c) {
        std::copy_n(samples.channel(c).begin() + long(before - held), held, next_.channel(c).begin());
        std::copy(fresh_.channel(c).begin(), fresh_.channel(c).end(), next_.channel(c).begin() + long(held));
      }
      std::swap(samples, next_);
    };
    go_on(master_, m_), go_on(laid_, r_);
    const auto inside = size_t(std::clamp<int64_t>(l_.last - at, 0, frames));
    e_.resize(int(l_.fit.pairs.size()), frames);
    for (int c = 0; c < m_.channels(); ++c) std::fill(m_.channel(c).begin() + long(inside), m_.channel(c).end(), 0.0);
    for (int c = 0; c < r_.channels(); ++c) std::fill(r_.channel(c).begin() + long(inside), r_.channel(c).end(), 0.0);
    for (size_t p = 0; p < l_.fit.pairs.size(); ++p) {
      const auto& pair = l_.fit.pairs[p];
      take_residual(m_.channel(pair.master), r_.channel(pair.ret), pair, l_.gain, e_.channel(int(p)));
    }
  }

  /// Lets the K weighting settle on what comes before the segment.
  void warm_up(int64_t from) {
    const int64_t start = std::max(l_.first, from - l_.master.format().sample_rate_hz / 2);
    if (start >= from) return;
    load(start, from - start);
    for (size_t p = 0; p < l_.fit.pairs.size(); ++p)
      for (int stream = 0; stream < 3; ++stream) weighting_[p * 3 + size_t(stream)].energy(samples(p, stream));
  }

  std::span<const double> samples(size_t pair, int stream) const {
    const auto& p = l_.fit.pairs[pair];
    return stream == 0 ? m_.channel(p.master) : stream == 1 ? r_.channel(p.ret) : e_.channel(int(pair));
  }

  void levels(size_t p, int64_t at, int64_t frames, Part& part) {
    const auto m = samples(p, 0), r = samples(p, 1);
    PairPart& sums = part.pairs[p];
    const double sign = l_.fit.pairs[p].inverted ? -1 : 1;
    const double to_step = ByLevel::steps / std::max(l_.options.master_peak, 1e-12);
    for (int64_t n = 0; n < frames;) {  // in pieces of 20 ms
      const int64_t place = at - l_.first + n, piece = place / l_.short_piece;
      const int64_t end = std::min(frames, n + (piece + 1) * l_.short_piece - place);
      double mm = 0, mr = 0, rr = 0;
      for (int64_t k = n; k < end; ++k) {
        const double x = m[size_t(k)], y = r[size_t(k)];
        mm += x * x;
        mr += x * y;
        rr += y * y;
      }
      sums.mm += mm;
      sums.rr += rr;
      shared_.shorts.mm[size_t(piece)] += float(mm);
      shared_.shorts.mr[size_t(piece)] += float(sign * mr);
      shared_.shorts.rr[size_t(piece)] += float(rr);
      n = end;
    }
    outline(p, at, frames, part);
    if (part.peak == 0) return;  // nothing has changed so far
    for (int64_t n = 0; n < frames; ++n) {
      const double x = m[size_t(n)], y = r[size_t(n)];
      const auto step = size_t(std::min(ByLevel::steps - 1, int(std::abs(x) * to_step)));
      part.by_level.mm[step] += x * x;
      part.by_level.mr[step] += sign * x * y;
      part.by_level.rr[step] += y * y;
    }
  }

  void outline(size_t p, int64_t at, int64_t frames, Part& part) {
    const auto e = samples(p, 2);
    for (int64_t n = 0; n < frames;) {
      const int64_t place = at - l_.first + n, bin = place / Overview::bin_frames;
      const int64_t end = std::min(frames, n + (bin + 1) * Overview::bin_frames - place);
      const auto s = dsp::simd::summarize(e.data() + n, end - n);
      OutlineBin& o = shared_.outline[size_t(bin)];
      o.low = std::min(o.low, float(s.low));
      o.high = std::max(o.high, float(s.high));
      o.mean_square += float(s.square_sum / double(Overview::bin_frames) / double(l_.fit.pairs.size()));
      part.pairs[p].ee += s.square_sum;
      if (const double peak = std::max(s.high, -s.low); peak > part.peak) {
        part.peak = peak;
        for (int64_t k = n; k < end; ++k)
          if (std::abs(e[size_t(k)]) == peak) part.peak_at = at + k;
      }
      n = end;
    }
  }

  void loudness(size_t p, int64_t at, int64_t frames) {
    const std::array<double, 3> weights{l_.master_weights[p], l_.return_weights[p], l_.residual_weights[p]};
    const std::array<LoudnessPieces*, 3> pieces{&shared_.m, &shared_.r, &shared_.e};
    for (int stream = 0; stream < 3; ++stream) {
      if (weights[size_t(stream)] == 0) continue;
      const auto x = samples(p, stream);
      for (int64_t n = 0; n < frames;) {
        const int64_t place = at - l_.first + n, piece = place / l_.piece;
        const int64_t end = std::min(frames, n + (piece + 1) * l_.piece - place);
        const double energy = weighting_[p * 3 + size_t(stream)].energy(x.subspan(size_t(n), size_t(end - n)));
        (*pieces[size_t(stream)])[size_t(piece)] += weights[size_t(stream)] * energy / double(l_.piece);
        n = end;
      }
    }
  }

  void spectra(size_t p, int64_t at, int64_t frames, Part& part) {
    const auto m = samples(p, 0), r = samples(p, 1);
    const double scale = (l_.fit.pairs[p].inverted ? -1 : 1) / l_.gain;
    const int64_t place = at - l_.first;
    PairPart& sums = part.pairs[p];
    for (int64_t t = (place + l_.hop - 1) / l_.hop; t < l_.transforms && t * l_.hop < place + frames; ++t) {
      const auto offset = size_t(t * l_.hop - place);
      std::transform(l_.window.begin(), l_.window.end(), m.begin() + long(offset), a_.time().begin(),
                     std::multiplies<>());
      std::transform(l_.window.begin(), l_.window.end(), r.begin() + long(offset), b_.time().begin(),
                     std::multiplies<>());
      a_.forward();
      b_.forward();
      size_t band = 0;
      float *cell_m = nullptr, *cell_e = nullptr;
      cells(t, part, cell_m, cell_e);
      for (size_t k = 0; k < a_.bins(); ++k) {
        const auto x = a_.spectrum()[k], y = b_.spectrum()[k];
        const double re = scale * y.real() - x.real(), im = scale * y.imag() - x.imag();
        const double mm = x.real() * x.real() + x.imag() * x.imag(), ee = re * re + im * im;
        sums.m[k] += mm;
        sums.e[k] += ee;
        sums.r[k] += y.real() * y.real() + y.imag() * y.imag();
        sums.cross[k] +=
            std::complex<double>(x.real() * y.real() + x.imag() * y.imag(), x.real() * y.imag() - x.imag() * y.real());
        while (band + 2 < l_.band_bins.size() && k >= l_.band_bins[band + 1]) ++band;
        if (k >= l_.band_bins[0]) cell_m[band] += float(mm), cell_e[band] += float(ee);
      }
      if (p == 0) ++part.transforms;
    }
  }

  void cells(int64_t transform, Part& part, float*& m, float*& e) {
    const int64_t column = transform / l_.per_column, bands = int64_t(l_.band_bins.size()) - 1;
    if (part.first_column < 0) part.first_column = column;
    const auto end = size_t((column - part.first_column + 1) * bands);
    if (part.depth_master.size() < end) part.depth_master.resize(end, 0), part.depth_residual.resize(end, 0);
    m = part.depth_master.data() + end - size_t(bands);
    e = part.depth_residual.data() + end - size_t(bands);
  }

  const Layout& l_;
  Shared& shared_;
  AlignedMaster master_;
  AlignedReturn laid_;
  dsp::RealFft<double> a_, b_;
  Planar m_, r_, e_, fresh_, next_;
  std::vector<KWeighting> weighting_;
};

/// Loudness weight of every pair on one side: that of its channel, counted once.
std::vector<double> side_weights(const std::vector<ChannelPair>& pairs, int ChannelPair::*side, int channels) {
  const auto weights = channel_weights(channels);
  std::vector<double> result;
  std::vector<bool> seen(size_t(channels), false);
  for (const auto& pair : pairs) {
    const auto c = size_t(pair.*side);
    result.push_back(seen[c] ? 0 : weights[c]);
    seen[c] = true;
  }
  return result;
}

Layout lay_out(const Clip& master, const Clip& ret, const Fit& fit, const SumsOptions& options) {
  Layout l{.master = master, .ret = ret, .fit = fit, .options = options};
  const int rate = master.format().sample_rate_hz;
  l.first = std::max(fit.first, options.first);
  l.last = std::max(l.first, options.last < 0 ? fit.last : std::min(fit.last, options.last));
  l.frames = l.last - l.first;
  l.short_piece = short_piece_frames(rate);
  l.piece = l.short_piece * 5;
  const int64_t unit = std::lcm(l.piece, Overview::bin_frames);
  const int64_t wanted = std::max<int64_t>(1 << 19, l.frames / 64);
  l.segment = (wanted + unit - 1) / unit * unit;
  while (int64_t(l.options.fft_size) > 256 && int64_t(l.options.fft_size) > l.frames) l.options.fft_size /= 2;
  l.hop = int64_t(l.options.fft_size) / 2;
  l.transforms = std::max<int64_t>(1, (l.frames - l.hop) / l.hop);
  l.per_column = l.transforms / most_map_columns + 1;
  l.gain = fit.gain();
  l.window = dsp::hann(l.options.fft_size);
  l.master_weights = side_weights(fit.pairs, &ChannelPair::master, master.format().channels);
  l.return_weights = side_weights(fit.pairs, &ChannelPair::ret, ret.format().channels);
  l.residual_weights = channel_weights(int(fit.pairs.size()));
  const double bin_hz = double(rate) / double(l.options.fft_size);
  for (const double hz : sixth_octave_edges(rate)) {
    const auto bin = std::min(size_t(std::llround(hz / bin_hz)), l.options.fft_size / 2 + 1);
    l.band_bins.push_back(l.band_bins.empty() ? bin : std::max(bin, l.band_bins.back() + 1));
  }
  return l;
}

/// Power that is left of the return when the best linear filter has been taken out, at the master's level:
/// sum over bins of Syy (1 - coherence) (Bendat and Piersol, "Random Data", 6.1), its bias by the finite average taken
/// off.
std::vector<double> remainder_of(const std::vector<PairPart>& pairs, double gain, double transforms, double scale) {
  const double blocks = std::max(1.0, transforms * 0.75), unbiased = blocks > 1 ? 1 / (1 - 1 / blocks) : 1;
  std::vector<double> power(pairs.front().m.size(), 0);
  for (const auto& p : pairs)
    for (size_t k = 0; k < p.m.size(); ++k) {
      const double explained = p.m[k] > 0 ? std::norm(p.cross[k]) / p.m[k] : 0;
      power[k] += std::max(0.0, p.r[k] - explained) * unbiased * scale / (gain * gain);
    }
  return power;
}

void finish(const Layout& l, std::vector<Part>& parts, Shared& shared, ResidualSums& out) {
  std::vector<PairPart> pairs(l.fit.pairs.size());
  const size_t bins = l.options.fft_size / 2 + 1;
  for (auto& p : pairs) {
    p.m.assign(bins, 0);
    p.r = p.e = p.m;
    p.cross.assign(bins, 0);
  }
  const int bands = int(l.band_bins.size()) - 1;
  const auto columns = size_t((l.transforms + l.per_column - 1) / l.per_column);
  out.depth.master.assign(columns * size_t(bands), 0);
  out.depth.residual = out.depth.master;
  double transforms = 0;
  for (const Part& part : parts) {
    for (size_t p = 0; p < pairs.size(); ++p) {
      const PairPart& from = part.pairs[p];
      pairs[p].mm += from.mm, pairs[p].ee += from.ee, pairs[p].rr += from.rr;
      for (size_t k = 0; k < bins; ++k) {
        pairs[p].m[k] += from.m[k], pairs[p].r[k] += from.r[k], pairs[p].e[k] += from.e[k];
        pairs[p].cross[k] += from.cross[k];
      }
    }
    transforms += double(part.transforms);
    if (part.peak > out.residual_peak) out.residual_peak = part.peak, out.residual_peak_at = part.peak_at;
    for (size_t s = 0; s < size_t(ByLevel::steps); ++s) {
      out.by_level.mm[s] += part.by_level.mm[s];
      out.by_level.mr[s] += part.by_level.mr[s];
      out.by_level.rr[s] += part.by_level.rr[s];
    }
    if (part.first_column >= 0)
      for (size_t k = 0; k < part.depth_master.size(); ++k) {
        const size_t place = size_t(part.first_column) * size_t(bands) + k;
        out.depth.master[place] += part.depth_master[k];
        out.depth.residual[place] += part.depth_residual[k];
      }
  }
  const double count = double(l.frames) * double(pairs.size());
  const double window_power = std::inner_product(l.window.begin(), l.window.end(), l.window.begin(), 0.0);
  const double scale =
      2 / (window_power * double(l.options.fft_size) * std::max(1.0, transforms) * double(pairs.size()));
  const double bin_hz = double(l.master.format().sample_rate_hz) / double(l.options.fft_size);
  out.master_spectrum = out.return_spectrum = out.residual_spectrum = {bin_hz, std::vector<double>(bins, 0)};
  for (const auto& p : pairs) {
    out.master += p.mm / count, out.ret += p.rr / count, out.residual += p.ee / count;
    out.pairs.push_back({p.mm / double(l.frames), p.ee / double(l.frames)});
    for (size_t k = 0; k < bins; ++k) {
      out.master_spectrum.power[k] += p.m[k] * scale;
      out.return_spectrum.power[k] += p.r[k] * scale;
      out.residual_spectrum.power[k] += p.e[k] * scale;
    }
  }
  out.remainder_spectrum = {bin_hz, remainder_of(pairs, l.gain, transforms, scale)};
  const auto& left = out.remainder_spectrum.power;
  out.remainder = std::min(out.residual, std::reduce(left.begin(), left.end()));
  const double sample_rate = l.master.format().sample_rate_hz;
  out.depth.first_s = double(l.first) / sample_rate;
  out.depth.column_s = double(l.per_column * l.hop) / sample_rate;
  for (const size_t bin : l.band_bins) out.depth.band_edges_hz.push_back(double(bin) * bin_hz);
  out.residual_overview = Overview(l.frames, std::move(shared.outline));
  out.master_pieces = std::move(shared.m);
  out.return_pieces = std::move(shared.r);
  out.residual_pieces = std::move(shared.e);
  out.short_pieces = std::move(shared.shorts);
}

}  // namespace

ResidualSums residual_sums(const Clip& master, const Clip& ret, const Fit& fit, const SumsOptions& options,
                           const Job& job) {
  const Layout l = lay_out(master, ret, fit, options);
  ResidualSums out;
  out.first = l.first;
  out.last = l.last;
  out.seconds = double(l.frames) / master.format().sample_rate_hz;
  if (l.frames <= 0) return out;
  Shared shared;
  shared.outline.resize(size_t((l.frames + Overview::bin_frames - 1) / Overview::bin_frames));
  shared.m.resize(size_t((l.frames + l.piece - 1) / l.piece));
  shared.r = shared.e = shared.m;
  shared.shorts.mm.resize(size_t((l.frames + l.short_piece - 1) / l.short_piece));
  shared.shorts.mr = shared.shorts.rr = shared.shorts.mm;
  std::vector<Part> parts(size_t((l.frames + l.segment - 1) / l.segment));
  for_each_segment(
      int64_t(parts.size()), job, [&] { return Worker(l, shared); },
      [&](Worker& worker, int64_t i) { worker.segment(i, parts[size_t(i)]); });
  finish(l, parts, shared, out);
  return out;
}

}  // namespace heathmist
