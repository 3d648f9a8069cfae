#include "core/compare/causes/tap_fit.hpp"

#include <Eigen/Cholesky>
#include <algorithm>
#include <complex>
#include <numeric>

#include "core/dsp/fft.hpp"

namespace heathmist::causes {

namespace {

constexpr double ridge = 1e-10;  // of the model's energy: neighbouring delays of a narrow band are nearly one

}  // namespace

/// Sums over n from `first` of x(n) model(n - d), for every d up to `first`: by Fourier transforms of all of it.
class TapFit::Sums {
 public:
  Sums(dsp::RealFft<double>& fft, const std::vector<std::complex<double>>& of_model, std::span<const double> from_first,
       int64_t first) {
    const auto time = fft.time();
    std::fill(time.begin(), time.end(), 0.0);
    std::copy(from_first.begin(), from_first.end(), time.begin() + first);
    fft.forward();
    const auto x = fft.spectrum();
    for (size_t k = 0; k < x.size(); ++k) x[k] *= std::conj(of_model[k]) / double(fft.size());
    fft.inverse();
    sums_.assign(time.begin(), time.begin() + first + 1);
  }
  double operator[](int64_t delay) const { return sums_[size_t(delay)]; }

 private:
  std::vector<double> sums_;
};

TapFit::TapFit(std::span<const double> model, std::span<const double> left, const std::vector<int64_t>& places,
               int64_t from) {
  for (const int64_t place : places) {
    starts_.push_back(delays_.size());
    for (int64_t d = std::max<int64_t>(1, place - around); d <= place + around; ++d) delays_.push_back(d);
  }
  starts_.push_back(delays_.size());
  const int64_t first = std::max(from, *std::max_element(delays_.begin(), delays_.end()));
  const auto behind = left.subspan(size_t(first));
  energy_ = std::inner_product(behind.begin(), behind.end(), behind.begin(), 0.0);
  products_.resize(delays_.size() * delays_.size()), with_left_.resize(delays_.size());
  dsp::RealFft<double> fft(2 * dsp::good_fft_size((model.size() + 1) / 2));
  std::fill(std::copy(model.begin(), model.end(), fft.time().begin()), fft.time().end(), 0.0);
  fft.forward();
  const std::vector<std::complex<double>> of_model(fft.spectrum().begin(), fft.spectrum().end());
  const Sums with_left(fft, of_model, behind, first);
  for (size_t n = 0; n < delays_.size(); ++n) with_left_[n] = with_left[delays_[n]];
  std::vector<Sums> of_blocks;  // the first delay of each
  for (size_t block = 0; block + 1 < starts_.size(); ++block)
    of_blocks.emplace_back(fft, of_model,
                           model.subspan(size_t(first - delays_[starts_[block]]), model.size() - size_t(first)), first);
  for (size_t rows = 0; rows < of_blocks.size(); ++rows)
    for (size_t columns = rows; columns < of_blocks.size(); ++columns)
      cross(rows, columns, model, first, of_blocks[rows], of_blocks[columns]);
}

/// Products of two blocks: the first row and the first column are known, the others follow along the diagonals.
void TapFit::cross(size_t rows, size_t columns, std::span<const double> model, int64_t first, const Sums& along,
                   const Sums& down) {
  const size_t row = starts_[rows], last_row = starts_[rows + 1], column = starts_[columns],
               last_column = starts_[columns + 1], count = delays_.size();
  const auto put = [&](size_t i, size_t j, double v) { products_[i * count + j] = products_[j * count + i] = v; };
  for (size_t j = column; j < last_column; ++j) put(row, j, along[delays_[j]]);
  for (size_t i = row; i < last_row; ++i) put(i, column, down[delays_[i]]);
  const auto at = [&](int64_t n) { return model[size_t(n)]; };
  for (size_t i = row + 1; i < last_row; ++i)
    for (size_t j = column + 1; j < last_column; ++j)
      put(i, j,
          products_[(i - 1) * count + j - 1] + at(first - delays_[i]) * at(first - delays_[j]) -
              at(std::ssize(model) - delays_[i]) * at(std::ssize(model) - delays_[j]));
}

std::vector<int> TapFit::of_place(size_t place) const {
  std::vector<int> all(starts_[place + 2] - starts_[place + 1]);
  std::iota(all.begin(), all.end(), int(starts_[place + 1]));
  return all;
}

TapFit::Gains TapFit::of(const std::vector<int>& unknowns) const {
  const auto size = std::ssize(unknowns), count = std::ssize(delays_);
  const Eigen::Map<const Eigen::MatrixXd> products(products_.data(), count, count);
  const Eigen::MatrixXd own = products(unknowns, unknowns);
  const Eigen::VectorXd with_left = Eigen::Map<const Eigen::VectorXd>(with_left_.data(), count)(unknowns);
  const double more = ridge * products_.front();
  const Eigen::VectorXd gains = (own + more * Eigen::MatrixXd::Identity(size, size)).ldlt().solve(with_left);
  return {{gains.begin(), gains.end()}, 2 * with_left.dot(gains) - gains.dot(own * gains)};
}

}  // namespace heathmist::causes
