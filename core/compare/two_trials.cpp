#include "core/compare/two_trials.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>

#include "core/compare/depth.hpp"
#include "core/compare/phrases.hpp"
#include "core/compare/waterfall.hpp"

namespace heathmist {

namespace {

constexpr double nothing_left_db = -120;
constexpr double apart_db = 1;       // less is no difference
constexpr double nearly_all = 0.75;  // of the third octaves
constexpr double much_of_it = 0.5;   // of the greatest difference of third octaves, that the band around it holds

/// Places of the second's bands by the first's: the one that holds the middle; -1: none.
std::vector<int> bands_in(const std::vector<double>& edges, const std::vector<double>& others) {
  std::vector<int> places;
  for (size_t k = 0; k + 1 < edges.size(); ++k) {
    const auto above =
        std::upper_bound(others.begin(), others.end(), std::sqrt(std::max(1e-3, edges[k]) * edges[k + 1]));
    places.push_back(above == others.begin() || above == others.end() ? -1 : int(above - others.begin()) - 1);
  }
  return places;
}

double left_of(const NullReport& r) { return std::max(nothing_left_db, r.residual_relative_db().value_or(-999)); }

std::string under(double db) {
  return db > nothing_left_db
             ? fmt::format("{} dB {} its master", number_text(std::abs(db), 1), db > 0 ? "over" : "under")
             : std::string("nothing");
}

}  // namespace

DepthDifference depth_difference(const DepthCells& first, const DepthCells& second) {
  DepthDifference d{first.first_s, first.column_s, first.band_edges_hz, {}};
  const auto a = depth_db(first), b = depth_db(second);
  const auto places = bands_in(first.band_edges_hz, second.band_edges_hz);
  const auto least = float(nothing_left_db);
  for (int c = 0; c < first.columns(); ++c) {
    const double middle_s = first.first_s + (c + 0.5) * first.column_s;
    const int other = second.column_s > 0 ? int(std::floor((middle_s - second.first_s) / second.column_s)) : -1;
    for (size_t k = 0; k < places.size(); ++k) {
      const bool both = places[k] >= 0 && other >= 0 && other < second.columns();
      const float of_first = a[size_t(c) * places.size() + k],
                  of_second = both ? b[size_t(other * second.bands() + places[k])] : NAN;
      d.db.push_back(std::isnan(of_first) || std::isnan(of_second)
                         ? std::numeric_limits<float>::quiet_NaN()
                         : std::max(of_first, least) - std::max(of_second, least));
    }
  }
  return d;
}

std::vector<CauseOfTwo> causes_of_two(const NullReport& first, const NullReport& second) {
  std::vector<CauseOfTwo> causes;
  const auto put = [&](const NullReport& report, std::optional<double> CauseOfTwo::*whose) {
    for (const BudgetStep& s : budget_steps(report)) {
      if (!s.cause) continue;
      auto at = std::find_if(causes.begin(), causes.end(),
                             [&](const CauseOfTwo& c) { return c.label == s.label && !(c.*whose); });
      if (at == causes.end()) at = causes.insert(at, CauseOfTwo{s.label, {}, {}});
      (*at).*whose = s.from_db - s.to_db;
    }
  };
  put(first, &CauseOfTwo::first_db);
  put(second, &CauseOfTwo::second_db);
  const auto most = [](const CauseOfTwo& c) { return std::max(c.first_db.value_or(0), c.second_db.value_or(0)); };
  std::stable_sort(causes.begin(), causes.end(),
                   [&](const CauseOfTwo& a, const CauseOfTwo& b) { return most(a) > most(b); });
  return causes;
}

std::optional<FarthestApart> farthest_apart(const ResidualSums& first, const ResidualSums& second) {
  struct Band {
    double hz, db;
  };
  std::vector<Band> bands;
  const auto is_known = [](const DepthBand& band) { return band.depth_db || (band.master > 0 && band.residual <= 0); };
  const auto others = third_octave_depth(second);
  for (const DepthBand& a : third_octave_depth(first))
    for (const DepthBand& b : others)
      if (std::abs(b.centre_hz / a.centre_hz - 1) < 0.01 && is_known(a) && is_known(b))
        bands.push_back({a.centre_hz, std::max(nothing_left_db, a.depth_db.value_or(-999)) -
                                          std::max(nothing_left_db, b.depth_db.value_or(-999))});
  const auto most = std::max_element(bands.begin(), bands.end(),
                                     [](const Band& a, const Band& b) { return std::abs(a.db) < std::abs(b.db); });
  if (most == bands.end() || std::abs(most->db) < apart_db) return {};
  const auto with_it = [&](const Band& b) {
    return b.db * most->db > 0 && std::abs(b.db) > much_of_it * std::abs(most->db);
  };
  auto from = most, to = most;
  while (from != bands.begin() && with_it(*(from - 1))) --from;
  while (to + 1 != bands.end() && with_it(*(to + 1))) ++to;
  double sum = 0;
  for (auto b = from; b <= to; ++b) sum += b->db;
  const double half = std::pow(2.0, 1.0 / 6);
  const auto count = double(to - from + 1);
  return FarthestApart{from->hz / half, to->hz * half, sum / count, count >= nearly_all * double(bands.size())};
}

VerdictOfTwo verdict_of_two(const NullReport& first, const NullReport& second, const std::string& first_name,
                            const std::string& second_name) {
  const auto quoted = [](const std::string& name) { return fmt::format("\u201c{}\u201d", name); };
  for (const auto& [report, name] : {std::pair{&first, &first_name}, {&second, &second_name}})
    if (!report->fit.trusted)
      return {fmt::format("{} cannot be laid on its master: there is nothing to compare.", quoted(*name)), {}};
  const double a = left_of(first), b = left_of(second);
  if (a <= nothing_left_db && b <= nothing_left_db)
    return {"Neither leaves anything beyond what the fit took out.", {}};
  VerdictOfTwo v;
  if (std::abs(a - b) < apart_db)
    v.text = fmt::format("{} and {} leave as much as each other.", quoted(first_name), quoted(second_name));
  else if (std::min(a, b) <= nothing_left_db)
    v.text = fmt::format("{} leaves nothing, {} does.", quoted(a < b ? first_name : second_name),
                         quoted(a < b ? second_name : first_name));
  else
    v.text = fmt::format("{} leaves {} dB less than {}.", quoted(a < b ? first_name : second_name),
                         number_text(std::abs(a - b), 1), quoted(a < b ? second_name : first_name));
  v.detail = fmt::format("Left of the first: {}; of the second: {}.", under(a), under(b));
  if (const auto where = farthest_apart(first.sums, second.sums))
    v.detail += fmt::format("{} {} dB more is left of the {}.",
                            where->nearly_all ? std::string(" At nearly every frequency")
                                              : fmt::format(" Farthest apart from {} to {}:", hertz_text(where->low_hz),
                                                            hertz_text(where->high_hz)),
                            number_text(std::abs(where->db), 0), where->db > 0 ? "first" : "second");
  return v;
}

}  // namespace heathmist
