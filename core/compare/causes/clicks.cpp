// Clicks that were added: short, rare, and far over what is left around them.
#include <algorithm>
#include <cmath>
#include <span>

#include "core/compare/causes/estimates.hpp"
#include "core/dsp/median.hpp"

namespace heathmist::causes {

namespace {

constexpr double click_over = 12;     // times the median of what is left around
constexpr double plain_over = 50;     // ... of which each is plain to see, however little all of them are
constexpr double least_usual = 3e-7;  // that what is left around it counts as
constexpr double click_s = 0.002;
constexpr double ringing = 0.05;  // of its peak, that a click which was read between samples rings with
constexpr size_t most_clicks = 2000;
constexpr double least_beside = 0.01;  // of the greatest: what an EQ leaves of itself is far smaller
constexpr double edge_s = 0.005;       // at either end of a file, what a filter or a converter makes of it is no click

struct Click {
  int pair;
  int64_t from;  // a place, and a time once all are found
  std::vector<double> shape;
  double peak;
  int64_t at;
  double over;  // what is usually left around it: times
};

/// Median of what is left near a place: where a note sets in, more is left all at once.
double median_around(const std::vector<double>& left, int64_t n, int64_t reach) {
  std::vector<double> sizes;
  for (int64_t k = std::max<int64_t>(0, n - reach); k < std::min(std::ssize(left), n + reach); ++k)
    sizes.push_back(std::abs(left[size_t(k)]));
  return dsp::median(sizes);
}

/// Whether something in [from, to) is so much over the median of what lies from `first` to `last` that it is worth to
/// find that: where more than half is over the share of the peak, nothing is.
bool may_hold_clicks(const std::vector<double>& left, int64_t from, int64_t to, int64_t first, int64_t last) {
  double peak = 0;
  for (int64_t n = from; n < to; ++n) peak = std::max(peak, std::abs(left[size_t(n)]));
  int64_t over = 0;
  for (int64_t n = first; n < last; ++n) over += std::abs(left[size_t(n)]) * click_over > peak;
  return peak >= click_over * least_usual && 2 * over <= last - first;
}

/// What is left is the programme itself, louder or quieter for a moment: a gain that moves, nothing that was added.
bool is_of_the_programme(const std::vector<double>& shape, std::span<const double> model) {
  constexpr double alike = 0.8;
  double xx = 0, yy = 0, xy = 0;
  for (size_t n = 0; n < shape.size(); ++n)
    xx += model[n] * model[n], yy += shape[n] * shape[n], xy += shape[n] * model[n];
  return xy * xy > alike * alike * xx * yy;
}

/// Of the programme's own sign throughout, or of the other throughout, though that turns more than once: a gain that is
/// on its way.
bool keeps_the_sign(std::span<const double> left, std::span<const double> model) {
  constexpr double throughout = 0.97;
  constexpr int turns = 3;
  double same = 0, all = 0;
  int turned = 0;
  for (size_t n = 0; n < left.size(); ++n) {
    const double size = std::abs(left[n]);
    all += size, same += std::signbit(left[n]) == std::signbit(model[n]) ? size : 0;
    turned += n > 0 && std::signbit(model[n]) != std::signbit(model[n - 1]);
  }
  return turned >= turns && (same > throughout * all || same < (1 - throughout) * all);
}

/// What few samples of the programme go beyond.
double seldom_passed(std::span<const double> x) {
  constexpr double few = 0.02;
  constexpr size_t every = 7;
  std::vector<double> sizes;
  for (size_t n = 0; n < x.size(); n += every) sizes.push_back(std::abs(x[n]));
  const auto place = sizes.begin() + long(double(sizes.size()) * (1 - few));
  std::nth_element(sizes.begin(), place, sizes.end());
  return *place;
}

/// Those that stand where the programme is as loud as seldom.
std::vector<bool> stand_on_peaks(const Planar& model, const std::vector<Click>& clicks) {
  std::vector<double> loud;
  for (int p = 0; p < model.channels(); ++p) loud.push_back(seldom_passed(model.channel(p)));
  std::vector<bool> stand;
  for (const Click& k : clicks) {
    const auto top =
        std::max_element(k.shape.begin(), k.shape.end(), [](double a, double b) { return std::abs(a) < std::abs(b); });
    stand.push_back(std::abs(model.channel(k.pair)[size_t(k.from + (top - k.shape.begin()))]) > loud[size_t(k.pair)]);
  }
  return stand;
}

/// Where most stand on peaks, they are left by what bends those, and nobody added them; the others are clicks only
/// where they are more than those.
void leave_out_bent_peaks(const Planar& model, std::vector<Click>& clicks) {
  constexpr double most = 0.5;
  constexpr size_t several = 4;
  const std::vector<bool> on_peak = stand_on_peaks(model, clicks);
  const auto on = size_t(std::count(on_peak.begin(), on_peak.end(), true));
  if (clicks.size() < several || double(on) <= most * double(clicks.size())) return;
  double there = 0, elsewhere = 0;
  std::vector<Click> others;
  for (size_t n = 0; n < clicks.size(); ++n) {
    for (const double x : clicks[n].shape) (on_peak[n] ? there : elsewhere) += x * x;
    if (!on_peak[n]) others.push_back(std::move(clicks[n]));
  }
  clicks.clear();
  if (elsewhere > there) clicks = std::move(others);
}

/// The return falls silent there, or sets in again.
bool is_edge_of_a_gap(const Excerpt& e, int pair, int64_t at, int64_t reach) {
  constexpr double silent = 1e-4;
  const auto m = e.master->channel(pair), r = e.ret.channel(pair);
  for (const int64_t from : {at - 2 * reach, at + reach}) {
    double mm = 0, rr = 0;
    for (int64_t n = std::max<int64_t>(0, from); n < std::min(e.frames(), from + reach); ++n)
      mm += m[size_t(n)] * m[size_t(n)], rr += r[size_t(n)] * r[size_t(n)];
    if (mm > 0 && rr < silent * mm) return true;
  }
  return false;
}

}  // namespace

std::optional<Found> estimate_clicks(const Excerpt& e, const Model& model) {
  std::vector<Click> clicks;
  Json times = Json::array();
  std::vector<double> at_s;
  double most = 0;
  const auto block = int64_t(0.05 * e.rate_hz), longest = int64_t(click_s * e.rate_hz),
             edge = int64_t(edge_s * e.rate_hz);
  for (int p = 0; p < e.pairs(); ++p) {
    const auto left = left_of(e, model, p);
    for (int64_t at = 0; at < e.frames(); at += block) {
      const int64_t end = std::min(e.frames(), at + block);
      const int64_t first = std::max<int64_t>(0, at - block), until = std::min(e.frames(), end + block);
      if (!may_hold_clicks(left, at, end, first, until)) continue;
      std::vector<double> sizes;
      for (int64_t n = first; n < until; ++n) sizes.push_back(std::abs(left[size_t(n)]));
      const double usual = std::max(dsp::median(sizes), least_usual);
      for (int64_t n = at; n < end; ++n) {
        const double size = std::abs(left[size_t(n)]);
        if (n < edge || n >= e.frames() - edge) continue;
        if (size < click_over * usual || size < click_over * median_around(left, n, 2 * longest)) continue;
        int64_t last = n;
        double peak = size;
        for (int64_t k = n; k < std::min(e.frames(), last + longest / 2); ++k) {
          peak = std::max(peak, std::abs(left[size_t(k)]));
          if (std::abs(left[size_t(k)]) > std::max(3 * usual, ringing * peak)) last = k;
        }
        if (last - n > longest) {  // too long for a click
          n = last;
          continue;
        }
        const int64_t from = std::max<int64_t>(0, n - longest), to = std::min(e.frames(), last + longest);
        std::vector<double> shape(left.begin() + from, left.begin() + to);
        if (is_edge_of_a_gap(e, p, n, longest) ||
            is_of_the_programme(shape, model.channel(p).subspan(size_t(from), shape.size())) ||
            keeps_the_sign(std::span(left).subspan(size_t(n), size_t(last - n + 1)),
                           model.channel(p).subspan(size_t(n), size_t(last - n + 1)))) {
          n = to;
          continue;
        }
        clicks.push_back({p, from, std::move(shape), peak, n, peak / usual});
        n = to;
        if (clicks.size() > most_clicks) return {};
      }
    }
  }
  for (const Click& k : clicks) most = std::max(most, k.peak);
  std::erase_if(clicks, [&](const Click& k) { return k.peak < least_beside * most; });
  leave_out_bent_peaks(model, clicks);
  if (clicks.empty()) return {};
  most = std::max_element(clicks.begin(), clicks.end(), [](const Click& a, const Click& b) {
           return a.peak < b.peak;
         })->peak;
  for (const Click& k : clicks) at_s.push_back(e.seconds_at(k.at));
  // Clicks are rare and hold most of what is left where they stand.
  if (double(clicks.size()) > 20 * double(e.frames()) / e.rate_hz) return {};
  std::sort(at_s.begin(), at_s.end());
  at_s.erase(std::unique(at_s.begin(), at_s.end(), [](double a, double b) { return std::abs(a - b) < 0.005; }),
             at_s.end());
  for (size_t n = 0; n < std::min<size_t>(at_s.size(), 100); ++n) times.push_back(at_s[n]);
  Cause c{.code = "clicks"};
  for (int p = 0; p < e.pairs(); ++p)
    if (std::any_of(clicks.begin(), clicks.end(), [&](const Click& k) { return k.pair == p; })) c.channels.push_back(p);
  c.from_s = at_s.front(), c.until_s = at_s.back();
  c.values = {{"count", at_s.size()}, {"times_s", times}, {"peak_dbfs", 20 * std::log10(most)}, {"whole", e.whole}};
  for (Click& k : clicks) k.from = int64_t(e.time_of(k.from));
  Found found{c, [clicks](const Places& where, Planar& m) {
                for (const Click& k : clicks)
                  where.each_of(k.from, k.from + std::ssize(k.shape), [&](int64_t at, int64_t time, int64_t frames) {
                    for (int64_t n = 0; n < frames; ++n)
                      m.channel(k.pair)[size_t(at + n)] += k.shape[size_t(time - k.from + n)];
                  });
              }};
  found.is_plain = std::ranges::all_of(clicks, [](const Click& k) { return k.over > plain_over; });
  return found;
}

}  // namespace heathmist::causes
