#include "core/dsp/window.hpp"

#include <bit>
#include <cmath>
#include <cstdint>
#include <numbers>

#include "core/dsp/fft.hpp"
#include "core/dsp/shared_tables.hpp"

namespace heathmist::dsp {

static std::vector<double> make_kaiser(size_t size, double beta) {
  std::vector<double> window(size);
  const double whole = std::cyl_bessel_i(0.0, beta);
  for (size_t n = 0; n < size; ++n) {
    const double t = 2 * double(n) / double(size) - 1;
    window[n] = std::cyl_bessel_i(0.0, beta * std::sqrt(1 - t * t)) / whole;
  }
  return window;
}

std::vector<double> kaiser(size_t size, double beta) {
  static SharedTables<std::vector<double>> known(8 << 20);
  return *known.get(std::to_string(size) + " " + std::to_string(std::bit_cast<uint64_t>(beta)), size * sizeof(double),
                    [&] { return std::make_shared<const std::vector<double>>(make_kaiser(size, beta)); });
}

double kaiser_beta(double side_lobe_db) {
  return side_lobe_db < 60 ? 0.76609 * std::pow(side_lobe_db - 13.26, 0.4) + 0.09834 * (side_lobe_db - 13.26)
                           : 0.12438 * (side_lobe_db + 6.3);
}

std::vector<double> flat_top(size_t size) {
  constexpr double a[] = {1, -1.933, 1.286, -0.388, 0.0322};
  std::vector<double> window(size);
  for (size_t n = 0; n < size; ++n)
    for (int k = 0; k < 5; ++k) window[n] += a[k] * std::cos(2 * std::numbers::pi * k * double(n) / double(size));
  return window;
}

const char* name_of(Window window) {
  constexpr const char* names[] = {"hann", "blackman_harris", "flat_top", "kaiser"};
  return names[int(window)];
}

std::vector<double> window_of(Window window, size_t size, double side_lobe_db) {
  switch (window) {
    case Window::hann:
      return hann(size);
    case Window::blackman_harris:
      return blackman_harris(size);
    case Window::flat_top:
      return flat_top(size);
    case Window::kaiser:
      break;
  }
  return kaiser(size, kaiser_beta(side_lobe_db));
}

}  // namespace heathmist::dsp
