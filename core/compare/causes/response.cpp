#include "core/compare/causes/response.hpp"

#include <algorithm>
#include <cmath>
#include <numeric>

#include "core/dsp/fft.hpp"

namespace heathmist::causes {

namespace {

using Complex = std::complex<double>;
using ResponseBins = std::vector<Complex>;

constexpr double chance_margin = 4;  // times what chance explains
constexpr double most_raised = 30;   // an amplitude: more, of less than half, is what came where the model is silent

struct CrossSums {
  ResponseBins across;
  std::vector<double> model, left;
  std::vector<double> together;  // of both powers, block by block; more where one block holds most of the model's
  double blocks = 0;
};

/// a b, and conj(a) b: without a look for what is no number, that the operator takes.
Complex times(Complex a, Complex b) {
  return {a.real() * b.real() - a.imag() * b.imag(), a.real() * b.imag() + a.imag() * b.real()};
}
Complex across(Complex a, Complex b) { return times(std::conj(a), b); }

/// What a round adds to the path; nothing where chance might have made it.
ResponseBins found_in(const CrossSums& s) {
  const double chance = 1 / std::max(2.0, s.blocks * 0.947);
  ResponseBins d(s.across.size());
  for (size_t k = 0; k < d.size(); ++k) {
    if (!(s.model[k] > 0) || !(s.left[k] > 0)) continue;
    const double share = std::min(1.0, std::norm(s.across[k]) / (s.model[k] * s.left[k]));
    if (share < chance_margin * chance && share < 0.999) continue;
    const double keep = std::max(0.0, 1 - chance * (1 - share) / share / (1 - std::min(chance, 0.5)));
    d[k] = keep * s.across[k] / s.model[k];
    if (share < 0.5 && std::norm(d[k]) > most_raised * most_raised) d[k] = 0;
  }
  return d;
}

/// Of each bin of a path by what it leaves, against its own power. What is left may be loud where the model is, as the
/// noise of a coder, and is least where a block was fitted to alone: HC3 of MacKinnon and White, Journal of
/// Econometrics 29, 1985.
std::vector<double> variance_of(const ResponseBins& h, const CrossSums& s) {
  std::vector<double> variance(h.size());
  for (size_t k = 0; k < h.size(); ++k) {
    const double known = s.model[k] * s.model[k] * std::norm(h[k]);
    variance[k] = known > 0 ? s.together[k] / known : 1;
  }
  return variance;
}

void run(const ResponseBins& h, dsp::RealFft<double>& fft, std::span<const double> in, std::span<double> out) {
  const size_t size = fft.size(), hop = size / 2, lead = size / 4;
  const auto time = fft.time();
  const auto spectrum = fft.spectrum();
  for (size_t at = 0; at < out.size(); at += hop) {
    const size_t before = std::min(size, at < lead ? lead - at : 0), first = at + before - lead,
                 count = first < in.size() ? std::min(size - before, in.size() - first) : 0;
    std::fill_n(time.begin(), before, 0.0);
    std::copy_n(in.begin() + long(std::min(first, in.size())), count, time.begin() + long(before));
    std::fill(time.begin() + long(before + count), time.end(), 0.0);
    fft.forward();
    for (size_t k = 0; k < h.size(); ++k) spectrum[k] = times(spectrum[k], h[k]);
    fft.inverse();
    const double scale = 1 / double(size);
    for (size_t n = 0; n < std::min(hop, out.size() - at); ++n) out[at + n] = scale * time[lead + n];
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

namespace {

/// One pair's path, round by round: each finds what the path so far leaves.
struct Path {
  const Excerpt& e;
  std::span<const double> model, ret, window;
  dsp::RealFft<double> fft;
  std::vector<double> left;
  std::vector<int64_t> blocks;        // where all may be read
  std::vector<ResponseBins> spectra;  // of the model in them
  std::vector<double> model_power;    // their sum

  Path(const Excerpt& excerpt, const Planar& from, int pair, std::span<const double> hann)
      : e(excerpt),
        model(from.channel(pair)),
        ret(excerpt.ret.channel(pair)),
        window(hann),
        fft(hann.size()),
        left(size_t(excerpt.frames())) {
    const auto size = int64_t(hann.size());
    for (int64_t at = 0; at + size <= e.frames(); at += size / 2)
      if (e.tells_all(at, size)) blocks.push_back(at);
    for (const int64_t at : blocks) {
      transform(model, at);
      spectra.emplace_back(fft.spectrum().begin(), fft.spectrum().end());
    }
    model_power.assign(fft.bins(), 1e-300);
    for (const ResponseBins& x : spectra)
      for (size_t k = 0; k < x.size(); ++k) model_power[k] += std::norm(x[k]);
  }

  /// Squared part of what a block would leave if it had not been fitted to, by its share of the model's power.
  static double free_of(double share) {
    const double free = std::max(0.02, 1 - share);
    return free * free;
  }

  void transform(std::span<const double> x, int64_t at) {
    const auto time = fft.time();
    for (size_t n = 0; n < window.size(); ++n) time[n] = window[n] * x[size_t(at) + n];
    fft.forward();
  }

  void leave(const ResponseBins* h) {
    if (h) run(*h, fft, model, left);
    const std::span<const double> is = h ? std::span<const double>(left) : model;
    std::transform(ret.begin(), ret.end(), is.begin(), left.begin(), std::minus<>());
    leave_no_offset();
  }
  /// One that was added is none of the path's, and where the model holds next to nothing would seem to be.
  void leave_no_offset() {
    double sum = 0, count = 0;
    for (size_t n = 0; n < left.size(); ++n)
      if (e.told[n]) sum += left[n], count += 1;
    for (double& x : left) x -= sum / std::max(1.0, count);
  }

  /// Averaged cross-spectrum of the model and what is left.
  CrossSums sums() {
    const size_t bins = fft.bins();
    const std::vector<double> none(bins);
    CrossSums s{ResponseBins(bins), model_power, none, none, double(blocks.size())};
    for (size_t n = 0; n < blocks.size(); ++n) {
      transform(left, blocks[n]);
      const auto y = fft.spectrum();
      const ResponseBins& x = spectra[n];
      for (size_t k = 0; k < bins; ++k) {
        const double in_model = std::norm(x[k]), in_left = std::norm(y[k]);
        s.across[k] += across(x[k], y[k]);
        s.left[k] += in_left;
        s.together[k] += in_model * in_left / free_of(in_model / model_power[k]);
      }
    }
    return s;
  }

  /// The path, what was there before it, and how well it is known.
  struct Known {
    ResponseBins h;
    CrossSums first;
    std::vector<double> variance, left;
  };
  Known found(int rounds) {
    ResponseBins h(fft.bins(), 1);
    const std::vector<double> none(fft.bins());
    Known best{h, {}, none, none};  // the last round's may be worse
    double last = 1e300;
    for (int round = 0; round <= rounds; ++round) {
      leave(round == 0 ? nullptr : &h);
      CrossSums s = sums();
      if (s.blocks < 2) break;
      const double now = std::reduce(s.left.begin(), s.left.end());
      if (now < last) best.h = h, best.variance = variance_of(h, s), best.left = s.left;
      if (now > 0.98 * last || round == rounds) break;
      last = now;
      const ResponseBins d = found_in(s);
      for (size_t k = 0; k < h.size(); ++k) h[k] += d[k];
      dsp::shorten_response(h, fft);
      if (round == 0) best.first = std::move(s);
    }
    return best;
  }
};

}  // namespace

Response estimate_response(const Excerpt& e, const Planar& model, size_t size, int rounds) {
  const auto pairs = size_t(e.pairs());
  const std::vector<std::vector<double>> none(pairs);
  Response r{size,
             double(e.rate_hz) / double(size),
             std::vector<ResponseBins>(pairs),
             none,
             none,
             none,
             none,
             none,
             std::vector<double>(pairs, 1.0),
             e.threads};
  const auto window = dsp::hann(size);
  each_pair(e.threads, int(pairs), [&](int p) {
    auto [h, first, variance, left] = Path(e, model, p, window).found(rounds);
    r.variance[size_t(p)] = std::move(variance), r.left[size_t(p)] = std::move(left);
    std::vector<double> certainty(h.size(), 0);
    for (size_t k = 0; k < h.size() && first.blocks > 0; ++k) {  // of the path against what was apart at first
      const double tells = first.model[k] * std::norm(h[k]);
      certainty[k] = tells > 0 ? first.blocks * tells / (tells + first.left[k]) : 0;
    }
    r.averages[size_t(p)] = std::max(1.0, first.blocks);
    r.h[size_t(p)] = std::move(h), r.certainty[size_t(p)] = std::move(certainty);
    const std::vector<double> silent(size / 2 + 1, 0);
    r.power[size_t(p)] = first.blocks > 0 ? std::move(first.model) : silent;
    r.apart[size_t(p)] = first.blocks > 0 ? std::move(first.left) : silent;
  });
  return r;
}

void run(const Response& r, Planar& model) {
  each_pair(r.threads, model.channels(), [&](int p) {
    dsp::RealFft<double> fft(r.size);
    std::vector<double> out(size_t(model.frames()));
    run(r.h[size_t(p)], fft, model.channel(p), out);
    std::copy(out.begin(), out.end(), model.channel(p).begin());
  });
}

Response inverse(Response r) {
  constexpr double least = 0.05;
  dsp::RealFft<double> fft(r.size);
  for (auto& own : r.h) {
    for (auto& h : own) h = std::conj(h) / std::max(std::norm(h), least * least);
    dsp::shorten_response(own, fft);  // where little is known it would go on for long
  }
  return r;
}

}  // namespace heathmist::causes
