// A curve without memory from sample to sample: clipping, soft clipping, saturation.
#include <algorithm>
#include <array>
#include <cmath>
#include <numbers>

#include "core/compare/causes/estimates.hpp"
#include "core/dsp/fft.hpp"
#include "core/dsp/median.hpp"

namespace heathmist::causes {

namespace {

constexpr size_t most_knots = 96;
constexpr size_t harmonics = 9;
constexpr size_t greatest = 7;       // samples that a level is read from first
constexpr double least_bend = 3e-5;  // of the peak: a straighter curve is a gain

/// Through knots that rise in x, by cubics that go no further than these (Fritsch and Butland, SIAM Journal on
/// Scientific and Statistical Computing 5, 1984); beyond the outer ones straight on.
class Curve {
 public:
  Curve(std::vector<double> knots_x, std::vector<double> knots_y)
      : x(std::move(knots_x)), y(std::move(knots_y)), slope_(x.size()) {
    std::vector<double> rise(x.size() - 1);
    for (size_t k = 0; k + 1 < x.size(); ++k) rise[k] = (y[k + 1] - y[k]) / (x[k + 1] - x[k]);
    slope_.front() = at_end(x[1] - x[0], x[2] - x[1], rise[0], rise[1]);
    const size_t n = x.size() - 1;
    slope_.back() = at_end(x[n] - x[n - 1], x[n - 1] - x[n - 2], rise[n - 1], rise[n - 2]);
    for (size_t k = 1; k + 1 < x.size(); ++k) {
      const double before = x[k] - x[k - 1], after = x[k + 1] - x[k],
                   share = (before + 2 * after) / 3 / (before + after);
      if (rise[k - 1] * rise[k] > 0) slope_[k] = rise[k - 1] * rise[k] / (share * rise[k] + (1 - share) * rise[k - 1]);
    }
  }
  double at(double v) const {
    if (v <= x.front()) return y.front() + (v - x.front()) * slope_.front();
    if (v >= x.back()) return y.back() + (v - x.back()) * slope_.back();
    const double place = (v - x.front()) / (x.back() - x.front()) * double(x.size() - 1);
    auto k = std::min(size_t(place) + 1, x.size() - 1);  // where they lie evenly
    while (x[k] <= v) ++k;
    while (x[k - 1] > v) --k;
    const double wide = x[k] - x[k - 1], t = (v - x[k - 1]) / wide, s = 1 - t;
    return s * s * (1 + 2 * t) * y[k - 1] + t * t * (1 + 2 * s) * y[k] +
           wide * t * s * (s * slope_[k - 1] - t * slope_[k]);
  }
  /// Everywhere, and as clearly as any: every level came back as one of its own.
  bool rises() const {
    constexpr double least_slope = 0.02;
    for (size_t k = 1; k < x.size(); ++k)
      if (y[k] - y[k - 1] < least_slope * (x[k] - x[k - 1])) return false;
    return true;
  }
  Curve inverse() const { return {y, x}; }

  std::vector<double> x, y;

 private:
  /// By three points, no steeper than goes there and back, nor the other way.
  static double at_end(double outer, double inner, double outer_rise, double inner_rise) {
    const double slope = ((2 * outer + inner) * outer_rise - outer * inner_rise) / (outer + inner);
    return slope * outer_rise <= 0 ? 0 : std::abs(slope) > 3 * std::abs(outer_rise) ? 3 * outer_rise : slope;
  }

  std::vector<double> slope_;
};

double peak_of(const Planar& model) {
  double peak = 0;
  for (int p = 0; p < model.channels(); ++p)
    for (const double x : model.channel(p)) peak = std::max(peak, std::abs(x));
  return peak;
}

/// Knots evenly over the model's range, each at the mean of what came back there. Even pieces only.
std::optional<Curve> curve_of(const Excerpt& e, const Planar& model) {
  const int64_t piece = 5 * piece_frames(e.rate_hz);
  const int64_t stride = std::max<int64_t>(1, e.frames() * e.pairs() / 2 / 1500000);
  const double peak = peak_of(model);
  const auto each = [&](auto visit) {
    for (int p = 0; p < e.pairs(); ++p) {
      const auto x = model.channel(p), y = e.ret.channel(p);
      for (int64_t from = 0; from < e.frames(); from += 2 * piece)
        for (auto n = size_t(from); n < size_t(std::min(e.frames(), from + piece)); ++n)
          if (e.told[n] && (int64_t(n) % stride == 0 || std::abs(x[n]) >= 0.5 * peak)) visit(x[n], y[n]);
    }
  };
  double low = 1e300, high = -1e300;
  int64_t samples = 0;
  each([&](double x, double) { low = std::min(low, x), high = std::max(high, x), ++samples; });
  if (samples < 4000 || !(high > low)) return {};
  struct Sum {
    double x = 0, y = 0;
    int64_t count = 0;
  };
  std::array<Sum, most_knots> sums{};
  const double knots_each = double(most_knots) / (high - low);
  each([&](double x, double y) {
    Sum& s = sums[std::min(most_knots - 1, size_t((x - low) * knots_each))];
    s.x += x, s.y += y, ++s.count;
  });
  std::vector<double> xs, ys;
  // evenly spaced over the range, but never fewer than 40 samples between two knots
  Sum open;
  for (size_t k = 0; k < most_knots; ++k) {
    open.x += sums[k].x, open.y += sums[k].y, open.count += sums[k].count;
    if (open.count == 0 || (open.count < 40 && k + 1 < most_knots)) continue;
    const double x = open.x / double(open.count), y = open.y / double(open.count);
    if (!xs.empty() && x <= xs.back() + 1e-9) continue;
    xs.push_back(x), ys.push_back(y);
    open = {};
  }
  if (xs.size() < 8) return {};
  return Curve(std::move(xs), std::move(ys));
}

struct Sample {
  double x, y;
};

/// Levels of the return, and the gain of what lies between them: the fit's is pulled by what was cut off.
struct Clip2 {
  double low, high, gain = 1;
  double operator()(double x) const { return std::clamp(gain * x, low, high); }
};

/// The gain of what lies well between the two levels; 1 where it is next to that.
double gain_between(const Excerpt& e, const Planar& model, double low, double high) {
  constexpr double well_between = 0.7, next_to_one = 2e-3;
  double xx = 0, xy = 0;
  for (int p = 0; p < e.pairs(); ++p)
    for (int64_t n = 0; n < e.frames(); ++n) {
      const double x = model.channel(p)[size_t(n)];
      if (e.told[size_t(n)] && x > well_between * low && x < well_between * high)
        xx += x * x, xy += x * e.ret.channel(p)[size_t(n)];
    }
  const double gain = xx > 0 ? xy / xx : 1;
  return gain > 0 && std::abs(gain - 1) > next_to_one ? gain : 1;
}

/// The two levels that the return never passes, where it keeps to them: first from the greatest samples of the model.
std::optional<Clip2> clip_of(const Excerpt& e, const Planar& model) {
  std::vector<Sample> top, bottom;
  const auto keep = [](std::vector<Sample>& list, Sample s, auto beyond) {  // the `greatest` ones, as a heap
    if (list.size() == greatest && !beyond(s, list.front())) return;
    if (list.size() == greatest) std::pop_heap(list.begin(), list.end(), beyond), list.pop_back();
    list.push_back(s), std::push_heap(list.begin(), list.end(), beyond);
  };
  for (int p = 0; p < e.pairs(); ++p)
    for (int64_t n = 0; n < e.frames(); ++n) {
      if (!e.told[size_t(n)]) continue;
      const Sample s{model.channel(p)[size_t(n)], e.ret.channel(p)[size_t(n)]};
      keep(top, s, [](Sample a, Sample b) { return a.x > b.x; });
      keep(bottom, s, [](Sample a, Sample b) { return a.x < b.x; });
    }
  if (top.empty()) return {};
  const auto middle = [](const std::vector<Sample>& list, auto of) {
    std::vector<double> all;
    for (const Sample& s : list) all.push_back(of(s));
    return dsp::median(all);
  };
  const auto of_return = [](const Sample& s) { return s.y; };
  double high = middle(top, of_return), low = middle(bottom, of_return);
  const auto by_model = [](Sample a, Sample b) { return a.x < b.x; };
  const double model_high = std::max_element(top.begin(), top.end(), by_model)->x,
               model_low = std::min_element(bottom.begin(), bottom.end(), by_model)->x;
  const bool cut_high = model_high > high * 1.002, cut_low = model_low < low * 1.002;
  if (!cut_high && !cut_low) return {};
  if (!cut_high) high = std::max(high, 1.01 * model_high);
  if (!cut_low) low = std::min(low, 1.01 * model_low);
  // Where something was added after it, the levels are what the cut samples come back at on average.
  double gain = 1;
  for (int round = 0; round < 3; ++round) {
    gain = gain_between(e, model, low / gain, high / gain);
    double over = 0, under = 0, over_count = 0, under_count = 0;
    for (int p = 0; p < e.pairs(); ++p)
      for (int64_t n = 0; n < e.frames(); ++n) {
        const double y = e.ret.channel(p)[size_t(n)], x = model.channel(p)[size_t(n)];
        if (!e.told[size_t(n)]) continue;
        if (gain * x > high) over += y, over_count += 1;
        if (gain * x < low) under += y, under_count += 1;
      }
    if (over_count > 0) high = over / over_count;
    if (under_count > 0) low = under / under_count;
  }
  return high > 0 && low < 0 ? std::optional(Clip2{low, high, gain}) : std::nullopt;
}

/// Whether cutting takes out more than the gain beside it does alone: a gain that was pulled is no clipping.
bool cuts_more_than_it_turns(const Excerpt& e, const Planar& model, const Clip2& cut) {
  constexpr double more = 1.25;
  if (cut.gain == 1) return true;
  double turned = 0, both = 0;
  for (int p = 0; p < e.pairs(); ++p)
    for (int64_t n = 0; n < e.frames(); ++n) {
      if (!e.told[size_t(n)]) continue;
      const double x = model.channel(p)[size_t(n)], y = e.ret.channel(p)[size_t(n)];
      turned += (y - cut.gain * x) * (y - cut.gain * x), both += (y - cut(x)) * (y - cut(x));
    }
  return turned > more * both;
}

/// Whether a curve takes out more than the straight line through what came back does: an offset or a gain is no curve.
template <class Function>
bool bends_more_than_it_shifts(const Excerpt& e, const Planar& model, Function curve) {
  constexpr double more = 1.25;
  double n = 0, sx = 0, sy = 0, xx = 0, xy = 0, yy = 0, bent = 0;
  for (int p = 0; p < e.pairs(); ++p)
    for (int64_t k = 0; k < e.frames(); ++k) {
      if (!e.told[size_t(k)]) continue;
      const double x = model.channel(p)[size_t(k)], y = e.ret.channel(p)[size_t(k)] - x, b = y + x - curve(x);
      n += 1, sx += x, sy += y, xx += x * x, xy += x * y, yy += y * y, bent += b * b;
    }
  if (!(n > 0)) return false;
  const double vx = xx - sx * sx / n, vxy = xy - sx * sy / n, vy = yy - sy * sy / n;
  const double straight = vx > 0 ? vy - vxy * vxy / vx : vy;
  return yy - bent > more * (yy - straight);
}

/// Levels of the harmonics of a sine of this peak against its fundamental, and THD (the harmonics' RMS sum).
struct Harmonics {
  std::vector<double> db;
  double thd_percent = 0;
};
template <class Function>
Harmonics harmonics_of(double peak, Function f) {
  constexpr size_t size = 4096;
  dsp::RealFft<double> fft(size);
  for (size_t n = 0; n < size; ++n) fft.time()[n] = f(peak * std::sin(2 * std::numbers::pi * double(n) / double(size)));
  fft.forward();
  Harmonics h;
  const double first = std::norm(fft.spectrum()[1]);
  double sum = 0;
  for (size_t k = 2; k <= harmonics; ++k) {
    const double ratio = std::norm(fft.spectrum()[k]) / first;
    h.db.push_back(10 * std::log10(std::max(1e-16, ratio))), sum += ratio;
  }
  h.thd_percent = 100 * std::sqrt(sum);
  return h;
}

void tell(Cause& c, double peak, const Harmonics& h) {
  Json orders = Json::array();
  for (size_t k = 0; k < h.db.size(); ++k)
    if (h.db[k] > -120) orders.push_back({{"order", k + 2}, {"level_db", h.db[k]}});
  c.values["thd_percent"] = h.thd_percent, c.values["at_dbfs"] = 20 * std::log10(peak), c.values["harmonics"] = orders;
  double odd = 0, even = 0;
  for (size_t k = 0; k < h.db.size(); ++k) (k % 2 ? odd : even) += std::pow(10, h.db[k] / 10);
  c.values["symmetric"] = odd > 10 * even;
}

}  // namespace

std::optional<Found> estimate_clip(const Excerpt& e, const Model& model) {
  const auto levels = clip_of(e, model);
  if (!levels || !cuts_more_than_it_turns(e, model, *levels)) return {};
  const double peak = peak_of(model);
  const Clip2 cut = *levels;
  int64_t samples = 0, runs = 0;
  for (int p = 0; p < e.pairs(); ++p) {
    bool over = false;
    for (const double x : model.channel(p)) {
      const bool now = cut.gain * x > cut.high || cut.gain * x < cut.low;
      samples += now, runs += now && !over, over = now;
    }
  }
  Cause c{.code = "clip"};
  for (int p = 0; p < e.pairs(); ++p) c.channels.push_back(p);
  const double level = std::max(cut.high, -cut.low);
  c.values = {{"level_dbfs", 20 * std::log10(level)},
              {"low", cut.low},
              {"high", cut.high},
              {"under_it_db", 20 * std::log10(cut.gain)},
              {"samples", samples},
              {"runs", runs},
              {"most_reduction_db", 20 * std::log10(cut.gain * peak / level)}};
  if (!e.whole) c.values.erase("runs"), c.values.erase("samples");  // the excerpt holds but some of them
  tell(c, peak, harmonics_of(peak, cut));
  return Found{c, [cut](const Places&, Planar& m) {
                 for (int p = 0; p < m.channels(); ++p)
                   for (double& x : m.channel(p)) x = cut(x);
               }};
}

std::optional<Found> estimate_curve(const Excerpt& e, const Model& model) {
  const auto curve = curve_of(e, model);
  if (!curve) return {};
  const double peak = peak_of(model);
  // Where it is straight, it is a gain and an offset.
  double n = double(curve->x.size()), sx = 0, sy = 0, xx = 0, xy = 0, bend = 0;
  for (size_t k = 0; k < curve->x.size(); ++k)
    sx += curve->x[k], sy += curve->y[k], xx += curve->x[k] * curve->x[k], xy += curve->x[k] * curve->y[k];
  const double slope = (n * xy - sx * sy) / (n * xx - sx * sx), offset = (sy - slope * sx) / n;
  for (size_t k = 0; k < curve->x.size(); ++k)
    bend = std::max(bend, std::abs(curve->y[k] - offset - slope * curve->x[k]));
  if (bend < least_bend * peak) return {};
  const auto run = [c = *curve](double x) { return c.at(x); };
  if (!bends_more_than_it_shifts(e, model, run)) return {};
  Cause c{.code = "distortion"};
  for (int p = 0; p < e.pairs(); ++p) c.channels.push_back(p);
  Json points = Json::array();
  for (size_t k = 0; k < curve->x.size(); ++k) points.push_back({curve->x[k], curve->y[k]});
  const double seen =
      std::min(0.98 * peak, std::max(-curve->x.front(), curve->x.back()));  // beyond it next to nothing is
  tell(c, seen, harmonics_of(seen, run));
  c.values["curve"] = points;
  Found found{c, [run](const Places&, Planar& m) {
                for (int p = 0; p < m.channels(); ++p)
                  for (double& x : m.channel(p)) x = run(x);
              }};
  if (curve->rises()) found.bends_back = [back = curve->inverse()](double y) { return back.at(y); };
  return found;
}

}  // namespace heathmist::causes
