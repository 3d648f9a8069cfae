#include "core/dsp/fft.hpp"

#include <fftw3.h>

#include <cmath>
#include <mutex>
#include <numbers>
#include <vector>

#include "core/dsp/shared_tables.hpp"

namespace heathmist::dsp {

namespace {

std::mutex planner;  // FFTW's planner is not reentrant; its execution is
constexpr size_t most_plan_bytes = 32 << 20, most_window_bytes = 8 << 20;
constexpr double numbers_in_plans = 2.2;  // for each point: both plans' tables, measured from 4096 to 2^20 points

/// Memory as FFTW aligns it, so that a plan made on one piece runs on any other.
struct Free {
  void operator()(void* memory) const { fftw_free(memory); }
};
template <class T>
using Aligned = std::unique_ptr<T[], Free>;
template <class T>
Aligned<T> aligned(size_t size) {
  return Aligned<T>(static_cast<T*>(fftw_malloc(sizeof(T) * size)));
}

template <class T>
struct Fftw;

template <>
struct Fftw<double> {
  using Plan = fftw_plan;
  static Plan forward(int n, double* t, std::complex<double>* s) {
    return fftw_plan_dft_r2c_1d(n, t, reinterpret_cast<fftw_complex*>(s), FFTW_ESTIMATE | FFTW_PRESERVE_INPUT);
  }
  static Plan inverse(int n, std::complex<double>* s, double* t) {
    return fftw_plan_dft_c2r_1d(n, reinterpret_cast<fftw_complex*>(s), t, FFTW_ESTIMATE);
  }
  static void run(Plan p, double* t, std::complex<double>* s) {
    fftw_execute_dft_r2c(p, t, reinterpret_cast<fftw_complex*>(s));
  }
  static void run(Plan p, std::complex<double>* s, double* t) {
    fftw_execute_dft_c2r(p, reinterpret_cast<fftw_complex*>(s), t);
  }
  static void drop(Plan p) { fftw_destroy_plan(p); }
};

template <>
struct Fftw<float> {
  using Plan = fftwf_plan;
  static Plan forward(int n, float* t, std::complex<float>* s) {
    return fftwf_plan_dft_r2c_1d(n, t, reinterpret_cast<fftwf_complex*>(s), FFTW_ESTIMATE | FFTW_PRESERVE_INPUT);
  }
  static Plan inverse(int n, std::complex<float>* s, float* t) {
    return fftwf_plan_dft_c2r_1d(n, reinterpret_cast<fftwf_complex*>(s), t, FFTW_ESTIMATE);
  }
  static void run(Plan p, float* t, std::complex<float>* s) {
    fftwf_execute_dft_r2c(p, t, reinterpret_cast<fftwf_complex*>(s));
  }
  static void run(Plan p, std::complex<float>* s, float* t) {
    fftwf_execute_dft_c2r(p, reinterpret_cast<fftwf_complex*>(s), t);
  }
  static void drop(Plan p) { fftwf_destroy_plan(p); }
};

/// Both ways; made once for each size, since FFTW's estimate and its tables take as long as many transforms.
template <class T>
struct Plans {
  typename Fftw<T>::Plan forward, inverse;

  explicit Plans(size_t size) {
    std::scoped_lock held(planner);
    const auto time = aligned<T>(size);
    const auto spectrum = aligned<std::complex<T>>(size / 2 + 1);
    forward = Fftw<T>::forward(int(size), time.get(), spectrum.get());
    inverse = Fftw<T>::inverse(int(size), spectrum.get(), time.get());
  }
  ~Plans() {
    std::scoped_lock held(planner);
    Fftw<T>::drop(forward);
    Fftw<T>::drop(inverse);
  }
  Plans(const Plans&) = delete;
};

}  // namespace

template <class T>
struct RealFft<T>::State {
  Aligned<T> time;
  Aligned<std::complex<T>> spectrum;
  std::shared_ptr<const Plans<T>> plans;

  static std::shared_ptr<const Plans<T>> plans_of(size_t size) {
    static SharedTables<Plans<T>> known(most_plan_bytes);
    return known.get(std::to_string(size), size_t(numbers_in_plans * double(size * sizeof(T))),
                     [size] { return std::make_shared<const Plans<T>>(size); });
  }
  explicit State(size_t size)
      : time(aligned<T>(size)), spectrum(aligned<std::complex<T>>(size / 2 + 1)), plans(plans_of(size)) {
    std::fill_n(time.get(), size, T(0));
  }
};

template <class T>
RealFft<T>::RealFft(size_t size) : size_(size), state_(std::make_unique<State>(size)) {}
template <class T>
RealFft<T>::~RealFft() = default;
template <class T>
RealFft<T>::RealFft(RealFft&&) noexcept = default;
template <class T>
std::span<T> RealFft<T>::time() {
  return {state_->time.get(), size_};
}
template <class T>
std::span<std::complex<T>> RealFft<T>::spectrum() {
  return {state_->spectrum.get(), bins()};
}
template <class T>
void RealFft<T>::forward() {
  Fftw<T>::run(state_->plans->forward, state_->time.get(), state_->spectrum.get());
}
template <class T>
void RealFft<T>::inverse() {
  Fftw<T>::run(state_->plans->inverse, state_->spectrum.get(), state_->time.get());
}

template class RealFft<float>;
template class RealFft<double>;

namespace {

/// By one complex transform of half the size, turned before and after.
struct Turned {
  std::vector<std::complex<double>> turn;  // exp(-i pi (n + 1/8) / size)
  fftw_plan plan;

  explicit Turned(size_t size) {
    for (size_t n = 0; n < size / 2; ++n)
      turn.push_back(std::polar(1.0, -std::numbers::pi * (double(n) + 0.125) / double(size)));
    std::scoped_lock held(planner);
    const auto pairs = aligned<std::complex<double>>(size / 2);
    auto* z = reinterpret_cast<fftw_complex*>(pairs.get());
    plan = fftw_plan_dft_1d(int(size / 2), z, z, FFTW_FORWARD, FFTW_ESTIMATE);
  }
  ~Turned() {
    std::scoped_lock held(planner);
    fftw_destroy_plan(plan);
  }
  Turned(const Turned&) = delete;
};

}  // namespace

struct Dct4::State {
  std::vector<double> values;
  Aligned<std::complex<double>> pairs;
  std::shared_ptr<const Turned> by;

  static std::shared_ptr<const Turned> turned_of(size_t size) {
    static SharedTables<Turned> known(most_window_bytes);
    return known.get(std::to_string(size), 3 * size * sizeof(double),
                     [size] { return std::make_shared<const Turned>(size); });
  }
  explicit State(size_t size) : values(size), pairs(aligned<std::complex<double>>(size / 2)), by(turned_of(size)) {}
};

namespace {

/// Without the case for what is infinite.
std::complex<double> times(std::complex<double> a, std::complex<double> b) {
  return {a.real() * b.real() - a.imag() * b.imag(), a.real() * b.imag() + a.imag() * b.real()};
}

}  // namespace

Dct4::Dct4(size_t size) : size_(size), state_(std::make_unique<State>(size)) {}
Dct4::~Dct4() = default;
Dct4::Dct4(Dct4&&) noexcept = default;
std::span<double> Dct4::values() { return state_->values; }
void Dct4::run() {
  auto& x = state_->values;
  const auto& turn = state_->by->turn;
  std::complex<double>* z = state_->pairs.get();
  const size_t half = size_ / 2;
  for (size_t n = 0; n < half; ++n) z[n] = times({x[2 * n], x[size_ - 1 - 2 * n]}, turn[n]);
  auto* in_place = reinterpret_cast<fftw_complex*>(z);
  fftw_execute_dft(state_->by->plan, in_place, in_place);
  for (size_t k = 0; k < half; ++k) {
    const auto y = times(z[k], turn[k]);
    x[2 * k] = y.real(), x[size_ - 1 - 2 * k] = -y.imag();
  }
}

size_t good_fft_size(size_t n) {
  for (size_t candidate = std::max<size_t>(n, 2);; ++candidate) {
    size_t rest = candidate;
    for (size_t factor : {2, 3, 5})
      while (rest % factor == 0) rest /= factor;
    if (rest == 1 && candidate % 2 == 0) return candidate;
  }
}

static std::shared_ptr<const std::vector<double>> shared_sum(size_t size, std::span<const double> terms) {
  std::vector<double> window(size);
  for (size_t n = 0; n < size; ++n) {
    double sign = 1, sum = 0;
    for (size_t k = 0; k < terms.size(); ++k, sign = -sign)
      sum += sign * terms[k] * std::cos(2 * std::numbers::pi * double(k) * double(n) / double(size));
    window[n] = sum;
  }
  return std::make_shared<const std::vector<double>>(std::move(window));
}

std::vector<double> hann(size_t size) {
  static constexpr double terms[] = {0.5, 0.5};
  static SharedTables<std::vector<double>> known(most_window_bytes);
  return *known.get(std::to_string(size), size * sizeof(double), [size] { return shared_sum(size, terms); });
}

std::vector<double> blackman_harris(size_t size) {
  static constexpr double terms[] = {0.35875, 0.48829, 0.14128, 0.01168};
  static SharedTables<std::vector<double>> known(most_window_bytes);
  return *known.get(std::to_string(size), size * sizeof(double), [size] { return shared_sum(size, terms); });
}

void shorten_response(std::span<std::complex<double>> response, RealFft<double>& fft) {
  std::copy(response.begin(), response.end(), fft.spectrum().begin());
  fft.inverse();
  const size_t size = fft.size(), reach = size / 4, fade = reach / 4;
  for (size_t n = 0; n < size; ++n) {
    const size_t away = std::min(n, size - n);
    const double keep = away >= reach ? 0
                        : away <= reach - fade
                            ? 1
                            : 0.5 + 0.5 * std::cos(std::numbers::pi * double(away - (reach - fade)) / double(fade));
    fft.time()[n] *= keep / double(size);
  }
  fft.forward();
  std::copy(fft.spectrum().begin(), fft.spectrum().end(), response.begin());
}

}  // namespace heathmist::dsp
