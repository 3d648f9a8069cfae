// EQ of the middle or of the sides alone: the filters between the channels' sum and difference, where they are not the
// same two.
#include <cmath>
#include <complex>
#include <memory>
#include <numeric>
#include <optional>
#include <span>
#include <vector>

#include "core/compare/causes/estimates.hpp"
#include "core/dsp/fft.hpp"
#include "core/dsp/median.hpp"

namespace heathmist::causes {

namespace {

/// Sum and difference of two channels, each halved; the way back is the same without the halves.
void to_mid_and_side(Planar& m, double scale) {
  const auto left = m.channel(0), right = m.channel(1);
  for (size_t n = 0; n < left.size(); ++n) {
    const double l = left[n], r = right[n];
    left[n] = scale * (l + r), right[n] = scale * (l - r);
  }
}
Planar mid_and_side(Planar m) {
  to_mid_and_side(m, 0.5);
  return m;
}

double power(std::span<const double> x) {
  double sum = 0;
  for (const double v : x) sum += v * v;
  return sum;
}
/// Both are there to be told of.
bool has_both(const Planar& mid_side) {
  constexpr double least = 1e-5;
  const double mid = power(mid_side.channel(0)), side = power(mid_side.channel(1));
  return side > least * mid && mid > least * side;
}

/// Mid or side as it went out against as it came back, of a few blocks: cross-spectrum and power by bin.
struct Way {
  std::vector<std::complex<double>> cross;
  std::vector<double> power;

  Way(std::span<const double> sent, std::span<const double> came) {
    constexpr size_t size = 4096, blocks = 64;
    dsp::RealFft<double> x(size), y(size);
    const auto window = dsp::hann(size);
    cross.resize(x.bins()), power.resize(x.bins());
    for (size_t at = 0; at + size <= sent.size(); at += std::max(size, sent.size() / blocks)) {
      for (size_t n = 0; n < size; ++n) x.time()[n] = window[n] * sent[at + n], y.time()[n] = window[n] * came[at + n];
      x.forward(), y.forward();
      for (size_t k = 0; k < x.bins(); ++k)
        cross[k] += y.spectrum()[k] * std::conj(x.spectrum()[k]), power[k] += std::norm(x.spectrum()[k]);
    }
  }
  /// Over bins [from, to); nothing where next to nothing of it lies there.
  std::optional<double> gain_db(size_t from, size_t to) const {
    constexpr double least = 1e-9;  // of all its power
    const auto sum = std::accumulate(cross.begin() + long(from), cross.begin() + long(to), std::complex<double>());
    const double there = std::reduce(power.begin() + long(from), power.begin() + long(to)),
                 all = std::reduce(power.begin(), power.end());
    if (!(there > least * all) || !(std::abs(sum) > 0)) return {};
    return 20 * std::log10(std::abs(sum) / there);
  }
};

/// By how much mid comes back louder than side, by third octaves in dB: the most against the median. Enough to see that
/// both were treated alike.
double apart_db(const Planar& sent, const Planar& came) {
  const Way mid(sent.channel(0), came.channel(0)), side(sent.channel(1), came.channel(1));
  const double third = std::cbrt(2.0);
  std::vector<double> louder;
  for (double low = 2; low * third < double(mid.power.size()); low *= third) {
    const auto from = size_t(low), to = size_t(std::max(low + 1, low * third));
    const auto of_mid = mid.gain_db(from, to), of_side = side.gain_db(from, to);
    if (of_mid && of_side) louder.push_back(*of_mid - *of_side);
  }
  if (louder.empty()) return 0;
  const double usual = dsp::median(louder);
  double most = 0;
  for (const double db : louder) most = std::max(most, std::abs(db - usual));
  return most;
}

/// The EQ of two channels, told as one of mid and side.
Json told_as_mid_and_side(Json values, const std::vector<int>& changed) {
  values["of"] = changed.size() != 1 ? "both" : changed.front() == 0 ? "mid" : "side";
  const Json flat = values["channel_flat_db"], each = values["by_channel"];
  values["flat_db"] = flat[0], values["side_flat_db"] = flat[1].get<double>() - flat[0].get<double>();
  values["mid"] = each[0], values["side"] = each[1];
  values.erase("channel_flat_db"), values.erase("by_channel");
  return values;
}

}  // namespace

std::optional<Found> estimate_mid_side(const Excerpt& e, const Planar& model) {
  if (e.pairs() != 2) return {};
  const auto sent = std::make_shared<const Planar>(mid_and_side(model));
  if (!has_both(*sent)) return {};
  Excerpt there = e;
  to_mid_and_side(there.ret, 0.5);
  there.master = sent;  // of which only the shape is asked
  constexpr double least_apart_db = 0.08;
  if (apart_db(*sent, there.ret) < least_apart_db) return {};
  auto found = estimate_filter(there, *sent);
  if (!found || found->cause.code != "eq" || !found->cause.values.contains("by_channel")) return {};
  Cause c{.code = "eq", .channels = {0, 1}};
  c.values = told_as_mid_and_side(std::move(found->cause.values), found->cause.channels);
  return Found{std::move(c),
               [put = std::move(found->take_out)](const Places& where, Planar& m) {
                 to_mid_and_side(m, 0.5);
                 put(where, m);
                 to_mid_and_side(m, 1);
               },
               found->reach_s};
}

}  // namespace heathmist::causes
