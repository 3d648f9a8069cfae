// What mixes the two channels of a pair, the same at all frequencies: width, a mono fold, one side in both, crosstalk,
// a channel's own gain.
#include <algorithm>
#include <array>
#include <cmath>

#include "core/compare/causes/estimates.hpp"
#include "core/dsp/median.hpp"

namespace heathmist::causes {

namespace {

using Matrix = std::array<std::array<double, 2>, 2>;  // [output][input]

constexpr double least_apart = 1e-6;      // of the inputs' power product: nearer than that they are one
constexpr double as_good = 1.02;          // a simpler matrix may leave that much more
constexpr double much_left = 1e-7;        // of the return: from here on what mixes stands beside others
constexpr double least_mixing_db = 0.02;  // between the channels
constexpr double least_crosstalk_db = -90;
constexpr double least_width_db = -30;  // of one channel in the other: so little is no width that anybody sets
constexpr double gone_share = 0.003;    // of the side, under which nothing is left of the mid
constexpr int robust_rounds = 3;  // reweighted least squares: Holland and Welsch, Communications in Statistics A6, 1977

/// Sums that any matrix' squared error follows from.
struct Moments {
  double xx[2][2]{}, xy[2][2]{}, yy[2]{};  // xy[input][output]
  double left(const Matrix& a) const {
    double sum = 0;
    for (int o = 0; o < 2; ++o) {
      sum += yy[o];
      for (int i = 0; i < 2; ++i) {
        sum -= 2 * a[size_t(o)][size_t(i)] * xy[i][o];
        for (int j = 0; j < 2; ++j) sum += a[size_t(o)][size_t(i)] * a[size_t(o)][size_t(j)] * xx[i][j];
      }
    }
    return std::max(0.0, sum);
  }
};

/// Over the samples that `a` leaves little of, where one is given: peaks that were bent, and gaps, do not pull then.
Moments moments(const Excerpt& e, const Planar& model, const Matrix* a = nullptr) {
  Moments m;
  const auto x0 = model.channel(0), x1 = model.channel(1), y0 = e.ret.channel(0), y1 = e.ret.channel(1);
  const auto off = [&](size_t n) {  // squared
    const double l = (*a)[0][0] * x0[n] + (*a)[0][1] * x1[n] - y0[n],
                 r = (*a)[1][0] * x0[n] + (*a)[1][1] * x1[n] - y1[n];
    return l * l + r * r;
  };
  double usual = 0;
  if (a) {
    std::vector<double> all;
    for (size_t n = 0; n < size_t(e.frames()); n += 7)
      if (e.told[n]) all.push_back(off(n));
    usual = 9 * dsp::median(all) + 1e-24;
  }
  for (size_t n = 0; n < size_t(e.frames()); ++n) {
    if (!e.told[n]) continue;
    const double w = a ? 1 / (1 + off(n) / usual) : 1;
    m.xx[0][0] += w * x0[n] * x0[n], m.xx[0][1] += w * x0[n] * x1[n], m.xx[1][1] += w * x1[n] * x1[n];
    m.xy[0][0] += w * x0[n] * y0[n], m.xy[0][1] += w * x0[n] * y1[n], m.xy[1][0] += w * x1[n] * y0[n];
    m.xy[1][1] += w * x1[n] * y1[n], m.yy[0] += w * y0[n] * y0[n], m.yy[1] += w * y1[n] * y1[n];
  }
  m.xx[1][0] = m.xx[0][1];
  return m;
}

/// The matrix of a form that leaves least: its free numbers by least squares, given as the matrices they scale.
Matrix best_of(const Moments& m, const std::vector<Matrix>& basis) {
  const size_t n = basis.size();
  std::vector<std::vector<double>> a(n, std::vector<double>(n + 1, 0));
  for (size_t k = 0; k < n; ++k)
    for (int o = 0; o < 2; ++o)
      for (int i = 0; i < 2; ++i) {
        const double b = basis[k][size_t(o)][size_t(i)];
        a[k][n] += b * m.xy[i][o];
        for (size_t l = 0; l < n; ++l)
          for (int j = 0; j < 2; ++j) a[k][l] += b * basis[l][size_t(o)][size_t(j)] * m.xx[i][j];
      }
  for (size_t k = 0; k < n; ++k) {  // Gauss and Jordan; positive definite
    const double pivot = a[k][k] > 0 ? a[k][k] : 1;
    for (double& v : a[k]) v /= pivot;
    for (size_t l = 0; l < n; ++l)
      if (l != k) {
        const double f = a[l][k];
        for (size_t c = 0; c <= n; ++c) a[l][c] -= f * a[k][c];
      }
  }
  Matrix sum{};
  for (size_t k = 0; k < n; ++k)
    for (size_t o = 0; o < 2; ++o)
      for (size_t i = 0; i < 2; ++i) sum[o][i] += a[k][n] * basis[k][o][i];
  return sum;
}

struct Form {
  const char* code;
  std::vector<Matrix> basis;
};

double db(double ratio) { return 20 * std::log10(std::max(1e-9, std::abs(ratio))); }

Cause described(const char* code, const Matrix& a) {
  Cause c{.code = code, .channels = {0, 1}};
  c.values["matrix"] = {{a[0][0], a[0][1]}, {a[1][0], a[1][1]}};
  if (c.code == "channel_gain") {
    const double apart = db(a[1][1]) - db(a[0][0]);
    c.values["gain_db"] = apart, c.values["channel_gains_db"] = {db(a[0][0]), db(a[1][1])};
  } else if (c.code == "width") {
    const double mid = a[0][0] + a[0][1], side = a[0][0] - a[0][1];
    c.values["side_db"] = db(side / mid), c.values["mid_db"] = db(mid), c.values["side_inverted"] = side * mid < 0;
    if (std::abs(mid) < gone_share * std::abs(side))
      c.values["side_db"] = nullptr, c.values["mid_db"] = nullptr, c.values["only_side_db"] = db(side);
  } else if (c.code == "mono") {
    c.values["of"] = a[0][0] * a[0][1] < 0 ? "difference" : "sum";
  } else if (c.code == "copied_channel") {
    c.values["from"] = std::abs(a[0][0]) + std::abs(a[1][0]) > std::abs(a[0][1]) + std::abs(a[1][1]) ? 0 : 1;
  } else if (c.code == "crosstalk") {
    Json ways = Json::array();
    double most = -200;
    for (size_t o = 0; o < 2; ++o) {
      const size_t i = 1 - o;
      const double level = db(a[o][i] / a[o][o]);
      if (level < least_crosstalk_db) continue;
      ways.push_back({{"from", i}, {"to", o}, {"level_db", level}});
      most = std::max(most, level);
    }
    c.values["ways"] = ways, c.values["level_db"] = most;
    c.values["direct_db"] = (db(a[0][0]) + db(a[1][1])) / 2;
  }
  return c;
}

/// A side that comes back a little quieter, and a little of each channel in the other, are one and the same. It is
/// crosstalk where the channels themselves come back as they were, and a width where the mid does.
bool is_crosstalk(const Matrix& a, double gain_db) {
  constexpr double as_it_was_db = 0.002;
  const double over = a[0][1] / a[0][0];
  if (!(over > 0)) return false;
  const double direct = std::abs(db(a[0][0]) + gain_db), mid = std::abs(db(a[0][0] + a[0][1]) + gain_db);
  if (std::min(direct, mid) < as_it_was_db) return direct < mid;
  return db(over) < least_width_db;
}

Matrix evened(const Matrix& a) {
  const double own = (a[0][0] + a[1][1]) / 2, over = (a[0][1] + a[1][0]) / 2;
  return {{{own, over}, {over, own}}};
}

/// Beside an EQ of each channel, which takes some of it for its own, a width comes out a little uneven.
bool is_nearly_even(const Matrix& a) {
  constexpr double apart_db = 0.5, own_apart_db = 0.3;
  return a[0][1] * a[1][0] > 0 && a[0][0] * a[1][1] > 0 && db(a[0][1] / a[0][0]) > least_width_db &&
         std::abs(db(a[0][1] / a[1][0])) < apart_db && std::abs(db(a[0][0] / a[1][1])) < own_apart_db;
}

}  // namespace

std::optional<Found> estimate_mixing(const Excerpt& e, const Model& model) {
  if (e.pairs() != 2) return {};
  Moments m = moments(e, model);
  if (!(m.xx[0][0] > 0) || !(m.xx[1][1] > 0)) return {};
  const bool one = m.xx[0][0] * m.xx[1][1] - m.xx[0][1] * m.xx[0][1] < least_apart * m.xx[0][0] * m.xx[1][1];
  const Matrix own0{{{1, 0}, {0, 0}}}, own1{{{0, 0}, {0, 1}}}, over0{{{0, 1}, {0, 0}}}, over1{{{0, 0}, {1, 0}}};
  std::vector<Form> forms{{"channel_gain", {own0, own1}}};
  if (!one) {
    forms.push_back({"mono", {{{{1, 1}, {1, 1}}}}});
    forms.push_back({"mono", {{{{1, -1}, {1, -1}}}}});  // of the difference
    forms.push_back({"copied_channel", {{{{1, 0}, {1, 0}}}}});
    forms.push_back({"copied_channel", {{{{0, 1}, {0, 1}}}}});
    forms.push_back({"width", {{{{1, 0}, {0, 1}}}, {{{0, 1}, {1, 0}}}}});
    forms.push_back({"crosstalk", {own0, own1, over0, over1}});
  }
  for (int round = 0; round < robust_rounds; ++round) {
    const Matrix most = best_of(m, forms.back().basis);
    m = moments(e, model, &most);
  }
  const double full = m.left(best_of(m, forms.back().basis)), chance = 1e-13 * (m.yy[0] + m.yy[1]);
  const double by_one_gain = m.left(best_of(m, {{{{1, 0}, {0, 1}}}}));
  const bool beside_others = full > much_left * (m.yy[0] + m.yy[1]);
  for (const Form& form : forms) {
    const Matrix a = best_of(m, form.basis);
    if (m.left(a) > as_good * full + chance) continue;
    Cause c = described(form.code, a);
    if (c.code == "channel_gain") {
      if (by_one_gain <= as_good * m.left(a) + chance) return {};
      if (std::abs(c.values["gain_db"].get<double>()) < least_mixing_db) return {};
      if (a[0][0] * a[1][1] <= 0 || std::min(a[0][0], a[1][1]) < 1e-3) return {};  // silence is another cause
    }
    if (c.code == "width" && c.values["side_db"].is_number() && std::abs(c.values["side_db"].get<double>()) < 0.02)
      return {};
    if (c.code == "width" && is_crosstalk(a, e.gain_db)) c = described("crosstalk", a);
    if (c.code == "crosstalk" && beside_others && is_nearly_even(a)) c = described("width", evened(a));
    if (c.code == "crosstalk" && c.values["ways"].empty()) return {};
    return Found{c, [a](const Places&, Planar& x) {
                   for (size_t n = 0; n < size_t(x.frames()); ++n) {
                     const double l = x.channel(0)[n], r = x.channel(1)[n];
                     x.channel(0)[n] = a[0][0] * l + a[0][1] * r;
                     x.channel(1)[n] = a[1][0] * l + a[1][1] * r;
                   }
                 }};
  }
  return {};
}

}  // namespace heathmist::causes
