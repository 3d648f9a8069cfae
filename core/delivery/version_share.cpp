#include "core/delivery/version_share.hpp"

#include <algorithm>
#include <cmath>

#include "core/dsp/fft.hpp"

namespace heathmist {

namespace {

constexpr int64_t size = 4096;
constexpr double coherent = 0.98;
constexpr int64_t least_frames = 8;  // of the spectrum: fewer have no coherence

using Fft = dsp::RealFft<double>;
using Spectrum = std::vector<std::complex<double>>;

/// Of one channel of a block.
Spectrum spectrum_of(std::span<const double> x, const std::vector<double>& window, Fft& fft) {
  for (size_t n = 0; n < x.size(); ++n) fft.time()[n] = x[n] * window[n];
  fft.forward();
  return {fft.spectrum().begin(), fft.spectrum().end()};
}

struct ShareSums {
  explicit ShareSums(size_t bins) : mm(bins), ff(bins), rr(bins), dd(bins), rd(bins), mf(bins) {}
  void add(const Spectrum& m, const Spectrum& r, const Spectrum& d) {
    for (size_t k = 0; k < m.size(); ++k) {
      const auto f = m[k] + r[k];  // the file
      mm[k] += std::norm(m[k]), ff[k] += std::norm(f), rr[k] += std::norm(r[k]), dd[k] += std::norm(d[k]);
      rd[k] += std::real(r[k] * std::conj(d[k])), mf[k] += m[k] * std::conj(f);
    }
    ++count;
  }
  std::vector<double> mm, ff, rr, dd, rd;
  Spectrum mf;
  int64_t count = 0;
};

VersionShare share_of(const std::vector<ShareSums>& channels) {
  double rd = 0, dd = 0, noise = 0;
  for (const ShareSums& s : channels)
    for (size_t k = 1; k < s.mm.size(); ++k) {
      if (!(std::norm(s.mf[k]) >= coherent * s.mm[k] * s.ff[k]) || !(s.ff[k] > 0)) continue;
      rd += s.rd[k], dd += s.dd[k];
      noise += s.rr[k] * s.dd[k] / double(s.count);
    }
  if (!(dd > 0)) return {};
  return {rd / dd, std::sqrt(noise) / dd};
}

}  // namespace

VersionShare version_share(const Clip& master, const Clip& residual, const Clip& difference, const Job& job) {
  const auto m = master.reader(), r = residual.reader(), d = difference.reader();
  const int64_t frames = std::min({master.format().frames, residual.format().frames, difference.format().frames});
  const int channels = std::min({master.format().channels, residual.format().channels, difference.format().channels});
  const auto window = dsp::hann(size_t(size));
  Fft fft{size_t(size)};
  std::vector<ShareSums> sums(size_t(channels), ShareSums(fft.bins()));
  Planar x, y, z;
  for (int64_t n = 0; n + size <= frames; n += size) {
    job.check();
    m->read(n, size, x), r->read(n, size, y), d->read(n, size, z);
    for (int c = 0; c < channels; ++c)
      sums[size_t(c)].add(spectrum_of(x.channel(c), window, fft), spectrum_of(y.channel(c), window, fft),
                          spectrum_of(z.channel(c), window, fft));
    job.report(double(n) / double(frames));
  }
  return frames / size < least_frames ? VersionShare{} : share_of(sums);
}

}  // namespace heathmist
