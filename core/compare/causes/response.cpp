#include "core/compare/causes/response.hpp"

#include <algorithm>
#include <cmath>
#include <numeric>

#include "core/dsp/fft.hpp"

namespace heathmist::causes {

namespace {

using Complex = std::complex<double>;
using Bins = std::vector<Complex>;

constexpr double chance_margin = 4;  // times what chance explains

struct Sums {
  Bins across;
  std::vector<double> model, left;
  double blocks = 0;
};

/// Averaged cross-spectrum of the model and what is left of one pair.
Sums sums_of(const Excerpt& e, std::span<const double> model, std::span<const double> left, dsp::RealFft<double>& fft,
             std::span<const double> window) {
  const size_t size = fft.size(), bins = size / 2 + 1;
  Sums s{Bins(bins), std::vector<double>(bins), std::vector<double>(bins), 0};
  Bins x(bins);
  for (int64_t at = 0; at + int64_t(size) <= e.frames(); at += int64_t(size) / 2) {
    if (!std::all_of(e.told.begin() + at, e.told.begin() + at + long(size), [](uint8_t t) { return t; })) continue;
    for (size_t n = 0; n < size; ++n) fft.time()[n] = window[n] * model[size_t(at) + n];
    fft.forward();
    std::copy(fft.spectrum().begin(), fft.spectrum().end(), x.begin());
    for (size_t n = 0; n < size; ++n) fft.time()[n] = window[n] * left[size_t(at) + n];
    fft.forward();
    for (size_t k = 0; k < bins; ++k) {
      const Complex y = fft.spectrum()[k];
      s.across[k] += std::conj(x[k]) * y;
      s.model[k] += std::norm(x[k]);
      s.left[k] += std::norm(y);
    }
    s.blocks += 1;
  }
  return s;
}

/// What a round adds to the path; nothing where chance might have made it.
Bins found_in(const Sums& s) {
  const double chance = 1 / std::max(2.0, s.blocks * 0.947);
  Bins d(s.across.size());
  for (size_t k = 0; k < d.size(); ++k) {
    if (!(s.model[k] > 0) || !(s.left[k] > 0)) continue;
    const double share = std::min(1.0, std::norm(s.across[k]) / (s.model[k] * s.left[k]));
    if (share < chance_margin * chance && share < 0.999) continue;
    const double keep = std::max(0.0, 1 - chance * (1 - share) / share / (1 - std::min(chance, 0.5)));
    d[k] = keep * s.across[k] / s.model[k];
  }
  return d;
}

void run(const Bins& h, dsp::RealFft<double>& fft, std::span<const double> in, std::span<double> out) {
  const size_t size = fft.size(), hop = size / 2, lead = size / 4;
  for (size_t at = 0; at < out.size(); at += hop) {
    for (size_t n = 0; n < size; ++n) {
      const auto place = int64_t(at + n) - int64_t(lead);
      fft.time()[n] = place >= 0 && place < int64_t(in.size()) ? in[size_t(place)] : 0;
    }
    fft.forward();
    for (size_t k = 0; k < h.size(); ++k) fft.spectrum()[k] *= h[k];
    fft.inverse();
    for (size_t n = 0; n < hop && at + n < out.size(); ++n) out[at + n] = fft.time()[lead + n] / double(size);
  }
}

}  // namespace

std::vector<double> Response::impulse(size_t pair) const {
  dsp::RealFft<double> fft(size);
  std::copy(h[pair].begin(), h[pair].end(), fft.spectrum().begin());
  fft.inverse();
  std::vector<double> out(fft.time().begin(), fft.time().end());
  for (double& v : out) v /= double(size);
  return out;
}

Response estimate_response(const Excerpt& e, const Planar& model, size_t size, int rounds) {
  Response r{size, double(e.rate_hz) / double(size), {}, {}, {}};
  dsp::RealFft<double> fft(size);
  const auto window = dsp::hann(size);
  std::vector<double> left(size_t(e.frames()));
  for (int p = 0; p < e.pairs(); ++p) {
    const auto x = model.channel(p), y = e.ret.channel(p);
    Bins h(size / 2 + 1, 1), best = h;  // the last round's may be worse
    Sums first;
    double last = 1e300;
    for (int round = 0; round <= rounds; ++round) {
      if (round == 0)
        std::transform(y.begin(), y.end(), x.begin(), left.begin(), std::minus<>());
      else {
        run(h, fft, x, left);
        for (size_t n = 0; n < left.size(); ++n) left[n] = y[n] - left[n];
      }
      Sums s = sums_of(e, x, left, fft, window);
      if (s.blocks < 2) break;
      const double now = std::reduce(s.left.begin(), s.left.end());
      if (now < last) best = h;
      if (now > 0.98 * last) break;
      last = now;
      if (round == rounds) break;
      const Bins d = found_in(s);
      for (size_t k = 0; k < h.size(); ++k) h[k] += d[k];
      dsp::shorten_response(h, fft);
      if (round == 0) first = std::move(s);
    }
    h = std::move(best);
    std::vector<double> certainty(h.size(), 0);
    for (size_t k = 0; k < h.size() && first.blocks > 0; ++k) {  // of the last round's path against what it left
      const double tells = first.model[k] * std::norm(h[k]);
      certainty[k] = tells > 0 ? first.blocks * tells / (tells + first.left[k]) : 0;
    }
    r.h.push_back(std::move(h));
    r.certainty.push_back(std::move(certainty));
    r.power.push_back(first.blocks > 0 ? std::move(first.model) : std::vector<double>(size / 2 + 1, 0));
  }
  return r;
}

void run(const Response& r, Planar& model) {
  dsp::RealFft<double> fft(r.size);
  std::vector<double> out(size_t(model.frames()));
  for (int p = 0; p < model.channels(); ++p) {
    run(r.h[size_t(p)], fft, model.channel(p), out);
    std::copy(out.begin(), out.end(), model.channel(p).begin());
  }
}

}  // namespace heathmist::causes
