#include "core/probes/sweep_responses.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>
#include <thread>

#include "core/audio/scratch.hpp"
#include "core/dsp/fft.hpp"
#include "core/probes/probe_body.hpp"

namespace heathmist {

namespace {

using Complex = std::complex<double>;
constexpr double pi = std::numbers::pi;
constexpr double pad_s = 0.15;  // before and after the body; the marks lie farther off
/// Either way, of a gate: flat up to one, from there down to nothing at the other.
struct Gate {
  double flat_s, end_s;
};
constexpr Gate wide{0.015, 0.04}, narrow{0.006, 0.02};  // what lets images pass is short, and they are many that cross
constexpr double loud = 1e-5;                           // an image that asks for the narrow one
constexpr double least_ramp_hz = 4;                     // at either end of the sweep's band
constexpr double silent = 3e-8;  // -150 dB: nothing is taken out for a component that is not there

size_t even_fft_size(double frames) { return 2 * dsp::good_fft_size(size_t(std::ceil(frames / 2))); }

/// What a response comes to where it is strong: more than over nine tenths of its band.
double size_of(const std::vector<Complex>& value, size_t low, size_t high) {
  std::vector<double> some;
  for (size_t j = low; j < high; j += 1 + (high - low) / 4000) some.push_back(std::abs(value[j]));
  if (some.empty()) return 0;
  const auto at = some.begin() + long(some.size() * 9 / 10);
  std::nth_element(some.begin(), at, some.end());
  return *at;
}

template <class One, class Other>
void side_by_side(One one, Other other) {
  std::jthread beside(other);
  one();
}

/// The return's body, from which components are taken.
class Division {
 public:
  Division(const Clip& ret, const ProbeScore& score, const ProbeFit& fit, int channel)
      : score_(score),
        fit_(fit),
        rate_(ret.format().sample_rate_hz),
        first_(int64_t(std::floor((fit.return_s(score.body_s) - pad_s) * rate_))),
        start_s_(double(first_) / rate_ - fit.return_s(score.body_s)),
        span_s_(score.body_seconds * fit.stretch + 2 * pad_s),
        real_(even_fft_size(span_s_ * rate_)),
        imaginary_(real_.size()),
        seconds_(double(real_.size()) / rate_),
        source_(even_fft_size(seconds_ * score.rate_hz / fit.stretch * 1.02)) {
    Planar body;
    ret.reader()->read(first_, int64_t(span_s_ * rate_), body);
    body_.assign(body.channel(channel).begin(), body.channel(channel).end());
    body_.resize(real_.size(), 0);
    fill_sweep();
  }

  double bin_hz() const { return fit_.stretch / seconds_; }
  int64_t first() const { return first_; }

  /// The response of a component is asked for anew, with what is left of the return, and that is left without it.
  void improve(SweepResponse& of) {
    const auto before = of.value;
    turn_back(shift_of(of.image));
    auto into = source_.spectrum();
    const size_t size = real_.size();
    for (size_t j = 0; j < into.size(); ++j)
      into[j] = weight(j) > 0 ? spectrum_at(j % size) / sweep_[j] * (source_rate() / rate_) : 0;
    const auto [below, above] = before.empty() ? ends() : std::pair<Complex, Complex>();
    for (size_t j = 0; j < into.size(); ++j) {
      const double w = weight(j);
      const Complex known = !before.empty() ? before[j] : (1 - w) * (j < low_ ? below : above);
      into[j] = known + w * into[j];
    }
    gate();
    of.value.assign(source_.spectrum().begin(), source_.spectrum().end());
    of.size = size_of(of.value, low_, high_);
    auto change = of.value;
    for (size_t j = 0; j < before.size(); ++j) change[j] -= before[j];
    take(change, of.image, 1);
  }

  /// Begins again.
  void take_up(const Gate& by) { gate_ = by, rest_ = body_, middle_ = -1; }
  void put_back(const SweepResponse& of) { take(of.value, of.image, -1); }
  std::vector<double> rest() const { return {rest_.begin(), rest_.begin() + int64_t(span_s_ * rate_)}; }

 private:
  double source_rate() const { return double(source_.size()) / seconds_; }
  double shift_of(int image) const { return std::remainder(image * score_.rate_hz / fit_.stretch, rate_); }

  void fill_sweep() {
    for (size_t n = 0; n < source_.size(); ++n)
      source_.time()[n] = sweep_at(score_, (start_s_ + double(n) / source_rate()) / fit_.stretch);
    source_.forward();
    sweep_.assign(source_.spectrum().begin(), source_.spectrum().end());
    const SweepLaw& law = *score_.sweep;
    const double from = law.hz(probe_fade_s / 2), until = law.hz(law.seconds - probe_fade_s / 2);
    const double into = std::max(least_ramp_hz, law.hz(3 * probe_fade_s / 2) - from),
                 out = std::max(least_ramp_hz, until - law.hz(law.seconds - 3 * probe_fade_s / 2));
    const auto bin = [&](double hz) { return std::min(size_t(hz / bin_hz()), sweep_.size() - 1); };
    first_ramp_ = bin(from), low_ = bin(from + into), high_ = bin(until - out), last_ramp_ = bin(until);
  }

  /// cos and sin of a shift at a frame of the return.
  Complex carrier(double shift_hz, size_t n) const {
    return std::polar(1.0, 2 * pi * std::remainder(shift_hz * (start_s_ + double(n) / rate_), 1.0));
  }

  void turn_back(double shift_hz) {
    Complex c, step = std::polar(1.0, 2 * pi * std::remainder(shift_hz / rate_, 1.0));
    for (size_t n = 0; n < rest_.size(); ++n, c *= step) {
      if (n % 256 == 0) c = carrier(shift_hz, n);
      real_.time()[n] = rest_[n] * c.real(), imaginary_.time()[n] = -rest_[n] * c.imag();
    }
    side_by_side([this] { real_.forward(); }, [this] { imaginary_.forward(); });
  }

  /// Of what turn_back() made, at any bin from 0 to its size.
  Complex spectrum_at(size_t m) const {
    const size_t size = real_.size(), k = m <= size / 2 ? m : size - m;
    const auto r = const_cast<dsp::RealFft<double>&>(real_).spectrum()[k],
               i = const_cast<dsp::RealFft<double>&>(imaginary_).spectrum()[k];
    const Complex j(0, 1);
    return m <= size / 2 ? r + j * i : std::conj(r) + j * std::conj(i);
  }

  /// Outside the sweep's band a response is at first taken to go on as it ends, where it stands still there.
  std::pair<Complex, Complex> ends() {
    const auto h = source_.spectrum();
    const auto some = std::max<size_t>(1, size_t(6 / bin_hz()));
    const auto mean = [&](size_t from) {
      Complex sum = 0;
      double power = 0;
      for (size_t j = from; j < from + some; ++j) sum += h[j], power += std::norm(h[j]);
      return std::norm(sum) > 0.5 * double(some) * power ? sum / double(some) : 0.0;
    };
    return {mean(low_), mean(high_ + 1 - some)};
  }

  /// 1 within the sweep's band, softly down to 0 at its ends: a hard end would ring through the gate.
  double weight(size_t j) const {
    if (j <= first_ramp_ || j >= last_ramp_) return 0;
    const double in = j < low_    ? double(j - first_ramp_) / double(low_ - first_ramp_)
                      : j > high_ ? double(last_ramp_ - j) / double(last_ramp_ - high_)
                                  : 1;
    return 0.5 - 0.5 * std::cos(pi * in);
  }

  void gate() {
    source_.inverse();
    auto d = source_.time();
    const double scale = 1 / double(d.size());
    if (middle_ < 0) {
      const auto at =
          std::max_element(d.begin(), d.end(), [](double a, double b) { return std::abs(a) < std::abs(b); });
      middle_ = at - d.begin();
    }
    const double per_frame = 1 / source_rate();
    for (size_t n = 0; n < d.size(); ++n) {
      auto away = std::abs(int64_t(n) - middle_);
      away = std::min(away, int64_t(d.size()) - away);
      const double s = double(away) * per_frame;
      const double fade = std::clamp((s - gate_.flat_s) / (gate_.end_s - gate_.flat_s), 0.0, 1.0);
      d[n] *= fade >= 1 ? 0 : scale * (0.5 + 0.5 * std::cos(pi * fade));
    }
    source_.forward();
  }

  /// Takes what a response makes of the sweep out of the return, or puts it back.
  void take(const std::vector<Complex>& value, int image, double sign) {
    const size_t size = real_.size();
    std::vector<Complex> folded(size, 0);
    const double scale = sign * 2 * rate_ / source_rate() / double(size);
    for (size_t j = 0; j < value.size(); ++j)
      folded[j % size] += value[j] * sweep_[j] * (j == 0 ? scale / 2 : scale);  // what stands still has no mirror
    for (size_t m = 0; m <= size / 2; ++m) {
      const Complex a = folded[m], b = std::conj(folded[m == 0 ? 0 : size - m]);
      real_.spectrum()[m] = (a + b) / 2.0, imaginary_.spectrum()[m] = (a - b) / Complex(0, 2);
    }
    side_by_side([this] { real_.inverse(); }, [this] { imaginary_.inverse(); });
    const double shift_hz = shift_of(image);
    Complex c, step = std::polar(1.0, 2 * pi * std::remainder(shift_hz / rate_, 1.0));
    for (size_t n = 0; n < rest_.size(); ++n, c *= step) {
      if (n % 256 == 0) c = carrier(shift_hz, n);
      rest_[n] -= real_.time()[n] * c.real() - imaginary_.time()[n] * c.imag();
    }
  }

  const ProbeScore& score_;
  const ProbeFit& fit_;
  double rate_;
  int64_t first_;
  double start_s_, span_s_;
  mutable dsp::RealFft<double> real_, imaginary_;
  double seconds_;
  dsp::RealFft<double> source_;
  std::vector<double> body_, rest_;
  Gate gate_ = wide;
  std::vector<Complex> sweep_;
  size_t first_ramp_ = 0, low_ = 0, high_ = 0, last_ramp_ = 0;
  int64_t middle_ = -1;  // of the wanted line's response: the gate is laid around it for all
};

}  // namespace

SweepResponses sweep_responses(const Clip& ret, const ProbeScore& score, const ProbeFit& fit, int channel,
                               const std::vector<int>& images, const Job& job) {
  Division division(ret, score, fit, channel);
  SweepResponses all;
  all.bin_hz = division.bin_hz();
  auto begin = [&](const Gate& gate) {
    all.told.clear(), all.gate_s = gate.end_s;
    division.take_up(gate);
    for (const int k : images) all.told.push_back({k, {}, 0, true});
    division.improve(all.told.front());
  };
  auto improve_all = [&](const Job& part) {
    for (size_t k = 0; k < all.told.size(); ++k) {
      job.check();
      part.report(double(k) / double(all.told.size()));
      SweepResponse& one = all.told[k];
      if (!one.there) continue;
      division.improve(one);
      one.there = k == 0 || one.size > silent;
      if (!one.there) division.put_back(one);
    }
  };
  begin(wide);
  improve_all(job.part(0, 0.4));
  if (std::any_of(all.told.begin() + 1, all.told.end(), [](const auto& r) { return r.size > loud; })) {
    begin(narrow);
    improve_all(job.part(0.4, 0.7));
  }
  improve_all(job.part(0.7, 1));  // what stood in another's place the first time
  const auto rest = division.rest();
  Planar body(1, int64_t(rest.size()));
  std::copy(rest.begin(), rest.end(), body.channel(0).begin());
  all.rest = made_clip(body, ret.format().sample_rate_hz, "rest of a sweep");
  all.rest_at_s = double(division.first()) / ret.format().sample_rate_hz;
  return all;
}

}  // namespace heathmist
