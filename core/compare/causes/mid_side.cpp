// EQ of the middle or of the sides alone: the filters between the channels' sum and difference, where they are not the
// same two.
#include <algorithm>
#include <cmath>
#include <complex>
#include <memory>
#include <optional>
#include <vector>

#include "core/compare/causes/estimates.hpp"
#include "core/compare/causes/response.hpp"
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

/// Power that was left in a bin before the response was known.
double left_by(const Response& r, size_t part, size_t k) {
  const double tells = r.power[part][k] * std::norm(r.h[part][k]), certain = r.certainty[part][k];
  return certain > 0 ? tells * std::max(0.0, r.averages[part] / certain - 1) : 0;
}

/// The share that responses of their own take out of what one for both leaves, beyond a gain between them: by a coarse
/// response, in third octaves.
double share_of_their_own(const Excerpt& there, const Planar& sent) {
  constexpr size_t coarse = 4096;
  if (there.frames() < int64_t(4 * coarse)) return 1;  // too short to see that
  const Response r = estimate_response(there, sent, coarse, 1);
  const auto &mid = r.power[0], &side = r.power[1];
  struct Third {
    std::complex<double> apart;
    double weight = 0;
  };
  std::vector<Third> thirds;
  double left = 0;
  const double third = std::cbrt(2.0);
  for (double low = 1; low < double(mid.size()); low *= third) {
    Third t;
    for (auto k = size_t(std::ceil(low)); k < std::min(mid.size(), size_t(std::ceil(low * third))); ++k) {
      const double both = mid[k] + side[k], weight = both > 0 ? mid[k] * side[k] / both : 0;
      t.apart += weight * (r.h[0][k] - r.h[1][k]), t.weight += weight;
      left += left_by(r, 0, k) + left_by(r, 1, k);
      if (both > 0) left -= std::norm((r.h[0][k] - 1.0) * mid[k] + (r.h[1][k] - 1.0) * side[k]) / both;
    }
    if (t.weight > 0) thirds.push_back({t.apart / t.weight, t.weight});
  }
  Third all;
  for (const Third& t : thirds) all.apart += t.weight * t.apart, all.weight += t.weight;
  double taken = 0;
  for (const Third& t : thirds) taken += t.weight * std::norm(t.apart - all.apart / all.weight);
  return taken > 0 ? taken / std::max(taken, left) : 0;
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

std::optional<Found> estimate_mid_side(const Excerpt& e, const Model& model) {
  if (e.pairs() != 2) return {};
  const auto sent = std::make_shared<const Planar>(mid_and_side(model));
  if (!has_both(*sent)) return {};
  Excerpt there = e;
  to_mid_and_side(there.ret, 0.5);
  there.master = sent;  // of which only the shape is asked
  constexpr double least_share = 0.05;
  if (share_of_their_own(there, *sent) < least_share) return {};
  Model of_both(*sent);
  of_both.moved = model.moved;
  auto found = estimate_filter(there, of_both);
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
