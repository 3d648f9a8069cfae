#include "core/probes/sweep_responses.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>
#include <span>
#include <thread>
#include <utility>

#include "core/audio/scratch.hpp"
#include "core/dsp/fft.hpp"
#include "core/probes/probe_body.hpp"

namespace heathmist {

namespace {

using Complex = std::complex<double>;
using std::numbers::pi;
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

/// A component on its way: its filter's impulse response within the gate, at the rate of the division.
struct Component {
  int image = 0;
  std::vector<double> impulse{};  ///< around the gate's middle; empty: not asked for yet
  double size = 0;                ///< as SweepResponse
  bool there = true;
};

/// What a response comes to where it is strong: more than over nine tenths of its band.
double size_of(std::span<const Complex> value, size_t low, size_t high) {
  std::vector<double> some;
  for (size_t j = low; j < high; j += 1 + (high - low) / 4000) some.push_back(std::abs(value[j]));
  if (some.empty()) return 0;
  const auto at = some.begin() + long(some.size() * 9 / 10);
  std::nth_element(some.begin(), at, some.end());
  return *at;
}

/// The return's body, from which components are taken.
class Division {
 public:
  Division(const Clip& ret, const ProbeScore& score, const ProbeFit& fit, int channel, bool two_cores)
      : score_(score),
        fit_(fit),
        two_cores_(two_cores),
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

  int64_t first() const { return first_; }

  /// The response of a component is asked for anew, with what is left of the return, and that is left without it.
  void improve(Component& of) {
    turn_back(shift_of(of.image));
    auto into = source_.spectrum();
    const size_t size = real_.size();
    for (size_t j = 0; j < into.size(); ++j)
      into[j] = weight(j) > 0 ? spectrum_at(j % size) / sweep_[j] * (source_rate() / rate_) : 0;
    const auto [below, above] = of.impulse.empty() ? ends() : std::pair<Complex, Complex>();
    for (size_t j = 0; j < into.size(); ++j) {
      const double w = weight(j);
      into[j] = w * into[j] + (1 - w) * (j < low_ ? below : above);
    }
    const bool first = of.impulse.empty();
    const auto change = gated(of.impulse);
    put(change);
    if (first) of.size = size_of(source_.spectrum(), low_, high_);
    take(of.image, 1);
  }

  /// Begins again.
  void take_up(const Gate& by) { gate_ = by, rest_ = body_, middle_ = -1; }
  void put_back(const Component& of) { put(of.impulse), take(of.image, -1); }
  std::vector<double> rest() const { return {rest_.begin(), rest_.begin() + int64_t(span_s_ * rate_)}; }

  /// What no image took.
  SweepBody wanted(const Component& of) {
    auto rest = rest_;
    put_back(of);
    const auto whole = int64_t(source_.size());
    const double middle_s = double(middle_ > whole / 2 ? middle_ - whole : middle_) / source_rate();
    SweepBody body{{}, rate_ * fit_.stretch, start_s_ / fit_.stretch, middle_s / fit_.stretch};
    body.samples = std::exchange(rest_, std::move(rest));
    return body;
  }

  /// Responses in lines of a quarter of a hertz, which ringing of 40 ms cannot tell from finer ones.
  void tell(const std::vector<Component>& parts, SweepResponses& all) const {
    dsp::RealFft<double> fft(even_fft_size(4 * source_rate()));
    all.gate_s = gate_.end_s;
    all.bin_hz = source_rate() / double(fft.size()) * fit_.stretch;
    for (const Component& c : parts) {
      place(c.impulse, fft.time());
      fft.forward();
      all.told.push_back({c.image, {fft.spectrum().begin(), fft.spectrum().end()}, c.size, c.there});
    }
  }

 private:
  double source_rate() const { return double(source_.size()) / seconds_; }
  double bin_hz() const { return fit_.stretch / seconds_; }
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
    side_by_side(&dsp::RealFft<double>::forward);
  }

  void side_by_side(void (dsp::RealFft<double>::*way)()) {
    if (!two_cores_) return (real_.*way)(), (imaginary_.*way)();
    std::atomic<int> next{0};
    on_pool(1, [&] {
      for (int n; (n = next++) < 2;) ((n ? imaginary_ : real_).*way)();
    });
  }

  /// Of what turn_back() made, at any bin from 0 to its size.
  Complex spectrum_at(size_t m) {
    const size_t size = real_.size(), k = m <= size / 2 ? m : size - m;
    const Complex r = real_.spectrum()[k], i = imaginary_.spectrum()[k], j(0, 1);
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

  /// What the spectrum at hand adds to a response within the gate; the response is then that.
  std::vector<double> gated(std::vector<double>& impulse) {
    source_.inverse();
    const auto d = source_.time();
    const auto size = int64_t(d.size()), reach = int64_t(gate_.end_s * source_rate());
    if (middle_ < 0)
      middle_ = std::max_element(d.begin(), d.end(), [](double a, double b) { return std::abs(a) < std::abs(b); }) -
                d.begin();
    impulse.resize(size_t(2 * reach + 1), 0);
    std::vector<double> change(impulse.size());
    for (int64_t i = -reach; i <= reach; ++i) {
      const double away_s = double(std::abs(i)) / source_rate();
      const double fade = std::clamp((away_s - gate_.flat_s) / (gate_.end_s - gate_.flat_s), 0.0, 1.0);
      double& own = impulse[size_t(i + reach)];
      const double found = d[size_t((middle_ + i + size) % size)] / double(size);
      change[size_t(i + reach)] = (0.5 + 0.5 * std::cos(pi * fade)) * (own + found) - own;
      own += change[size_t(i + reach)];
    }
    return change;
  }

  /// A response at its place in time, in a block that goes round.
  void place(const std::vector<double>& impulse, std::span<double> block) const {
    std::fill(block.begin(), block.end(), 0);
    const auto size = int64_t(block.size()), whole = int64_t(source_.size());
    const int64_t first = (middle_ > whole / 2 ? middle_ - whole : middle_) - int64_t(impulse.size() / 2);
    for (size_t i = 0; i < impulse.size(); ++i) block[size_t(((first + int64_t(i)) % size + size) % size)] = impulse[i];
  }
  void put(const std::vector<double>& impulse) {
    place(impulse, source_.time());
    source_.forward();
  }

  /// Takes what the response at hand makes of the sweep out of the return, or puts it back.
  void take(int image, double sign) {
    const auto value = source_.spectrum();
    const size_t size = real_.size();
    std::vector<Complex> folded(size, 0);
    const double scale = sign * 2 * rate_ / source_rate() / double(size);
    for (size_t j = 0; j < value.size(); ++j)
      folded[j % size] += value[j] * sweep_[j] * (j == 0 ? scale / 2 : scale);  // what stands still has no mirror
    for (size_t m = 0; m <= size / 2; ++m) {
      const Complex a = folded[m], b = std::conj(folded[m == 0 ? 0 : size - m]);
      real_.spectrum()[m] = (a + b) / 2.0, imaginary_.spectrum()[m] = (a - b) / Complex(0, 2);
    }
    side_by_side(&dsp::RealFft<double>::inverse);
    const double shift_hz = shift_of(image);
    Complex c, step = std::polar(1.0, 2 * pi * std::remainder(shift_hz / rate_, 1.0));
    for (size_t n = 0; n < rest_.size(); ++n, c *= step) {
      if (n % 256 == 0) c = carrier(shift_hz, n);
      rest_[n] -= real_.time()[n] * c.real() - imaginary_.time()[n] * c.imag();
    }
  }

  const ProbeScore& score_;
  const ProbeFit& fit_;
  bool two_cores_;
  double rate_;
  int64_t first_;
  double start_s_, span_s_;
  dsp::RealFft<double> real_, imaginary_;
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
  Division division(ret, score, fit, channel, job.workers() > 1);
  std::vector<Component> parts;
  auto begin = [&](const Gate& gate) {
    parts.clear();
    division.take_up(gate);
    for (const int k : images) parts.push_back({k});
    division.improve(parts.front());
  };
  auto improve_all = [&](const Job& part) {
    for (size_t k = 0; k < parts.size(); ++k) {
      job.check();
      part.report(double(k) / double(parts.size()));
      if (!parts[k].there) continue;
      division.improve(parts[k]);
      parts[k].there = k == 0 || parts[k].size > silent;
      if (!parts[k].there) division.put_back(parts[k]);
    }
  };
  begin(wide);
  improve_all(job.part(0, 0.4));
  if (std::any_of(parts.begin() + 1, parts.end(), [](const Component& c) { return c.size > loud; })) {
    begin(narrow);
    improve_all(job.part(0.4, 0.7));
  }
  improve_all(job.part(0.7, 1));  // what stood in another's place the first time
  SweepResponses all;
  division.tell(parts, all);
  all.wanted = division.wanted(parts.front());
  const auto rest = division.rest();
  Planar body(1, int64_t(rest.size()));
  std::copy(rest.begin(), rest.end(), body.channel(0).begin());
  all.rest = made_clip(body, ret.format().sample_rate_hz, "rest of a sweep");
  all.rest_at_s = double(division.first()) / ret.format().sample_rate_hz;
  return all;
}

}  // namespace heathmist
