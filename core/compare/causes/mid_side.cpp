// EQ of the middle or of the sides alone: the filters between the channels' sum and difference, where they are not the
// same two.
#include <memory>

#include "core/compare/causes/estimates.hpp"

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
