// EQ of the middle or of the sides alone: the filters between the channels' sum and difference, where they are not the
// same two.
#include <cmath>
#include <complex>
#include <memory>
#include <numeric>
#include <optional>
#include <vector>

#include "core/compare/causes/estimates.hpp"
#include "core/compare/causes/response.hpp"
#include "core/dsp/median.hpp"
#include "core/dsp/simd.hpp"

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

/// Both are there to be told of.
bool has_both(const Planar& mid_side) {
  constexpr double least = 1e-5;
  const double mid = dsp::simd::mean_square(mid_side.channel(0)), side = dsp::simd::mean_square(mid_side.channel(1));
  return side > least * mid && mid > least * side;
}

/// Of one of the two over bins [from, to); nothing where next to nothing of it lies there.
std::optional<double> gain_db(const Response& r, size_t part, size_t from, size_t to) {
  constexpr double least = 1e-9;  // of all its power
  const auto& power = r.power[part];
  std::complex<double> across = 0;
  double there = 0;
  for (size_t k = from; k < to; ++k) across += r.h[part][k] * power[k], there += power[k];
  if (!(there > least * std::reduce(power.begin(), power.end())) || !(std::abs(across) > 0)) return {};
  return 20 * std::log10(std::abs(across) / there);
}

/// By how much mid comes back louder than side, by third octaves in dB: the most against the median. By a coarse
/// response, which is enough to see that both were treated alike.
double apart_db(const Excerpt& there, const Planar& sent) {
  constexpr size_t coarse = 4096;
  if (there.frames() < int64_t(4 * coarse)) return 1e9;  // too short to see that
  const Response r = estimate_response(there, sent, coarse, 1);
  const double third = std::cbrt(2.0);
  std::vector<double> louder;
  for (double low = 2; low * third < double(r.h[0].size()); low *= third) {
    const auto from = size_t(low), to = size_t(std::max(low + 1, low * third));
    const auto mid = gain_db(r, 0, from, to), side = gain_db(r, 1, from, to);
    if (mid && side) louder.push_back(*mid - *side);
  }
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
  if (apart_db(there, *sent) < least_apart_db) return {};
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
