#include "core/compare/causes/eq_shape.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <iterator>

#include "core/compare/causes/eq_phase.hpp"

namespace heathmist::causes {

namespace {

using Kind = EqSection::Kind;

constexpr double good_enough_db = 0.02;
constexpr double over_chance = 15;          // that a section must take off the sum of squares
constexpr double least_gain_db = 0.1;       // of a section
constexpr double worth_a_section = 0.6;     // of the error that may stay when one more is added
constexpr double still_worth_trying = 0.9;  // of it: so many in a row that leave more are the last
constexpr int most_idle = 3;
constexpr size_t beam = 4;  // settings that are gone on with
constexpr int few_rounds = 8, many_rounds = 60;

/// A setting, and what it leaves.
struct Fitted {
  EqSetting setting;
  double error_db = 0;
};

/// Starts for one more section: bells where the rest leaves most, shelves and passes everywhere.
std::vector<EqSection> starts(const std::vector<ShapePoint>& points, const std::vector<double>& left, double rate) {
  std::vector<EqSection> all;
  const auto far_from = [&](double hz) {
    return std::none_of(all.begin(), all.end(), [&](const EqSection& s) { return std::abs(std::log2(s.hz / hz)) < 1; });
  };
  std::vector<size_t> by_size(points.size());
  for (size_t n = 0; n < by_size.size(); ++n) by_size[n] = n;
  const auto size = [&](size_t n) { return std::abs(left[n]) * std::sqrt(points[n].weight); };
  std::sort(by_size.begin(), by_size.end(), [&](size_t a, size_t b) { return size(a) > size(b); });
  int peaks = 0;
  for (const size_t n : by_size) {
    if (!far_from(points[n].hz)) continue;
    for (const double q : {0.5, 1.0, 3.0, 8.0}) all.push_back({Kind::bell, points[n].hz, left[n], q, 2});
    if (++peaks == 3) break;
  }
  double low = 0, high = 0;
  for (size_t n = 0; n < points.size(); ++n) {
    if (points[n].hz < 60) low = left[n];
    if (points[n].hz < 0.3 * rate) high = left[n];
  }
  for (const double f : {80.0, 250.0, 1000.0, 4000.0, 10000.0}) {
    all.push_back({Kind::low_shelf, f, low, 0.707, 2});
    all.push_back({Kind::high_shelf, f, high, 0.707, 2});
  }
  for (const int order : {1, 2, 4})
    for (const double f : {25.0, 60.0, 150.0, 500.0}) all.push_back({Kind::high_pass, f, 0, 0.707, order});
  for (const int order : {1, 2, 4})
    for (const double f : {1000.0, 4000.0, 9000.0, 16000.0}) all.push_back({Kind::low_pass, f, 0, 0.707, order});
  std::erase_if(all, [&](const EqSection& s) { return s.hz > 0.49 * rate; });
  return all;
}

/// Two shelves near one another of which the one takes back what the other gives: a bell.
bool are_a_bell(const EqSection& a, const EqSection& b) {
  constexpr double near_octaves = 1;
  const auto upward = [](const EqSection& s) { return s.kind == Kind::high_shelf ? s.gain_db : -s.gain_db; };
  return a.is_shelf() && b.is_shelf() && std::abs(std::log2(a.hz / b.hz)) < near_octaves && upward(a) * upward(b) < 0;
}

/// A bell or a shelf that turns the very edge of what is heard, or by more than such a thing can, is more likely
/// the way down of a pass, a needle upward or at the top is chance, a bell over all of the band a gain, a wide one at
/// the bottom a shelf, and two shelves against one another a bell: they must be that much better.
double doubt(const std::vector<EqSection>& sections, double rate) {
  constexpr double lowest_hz = 30, highest = 0.42, most_db = 20, much_better = 4, far_better = 12;
  constexpr double needle_q = 16, high = 0.33, high_needle_q = 4, low_hz = 40, low_needle_q = 3, least_q = 0.25,
                   low_least_q = 0.6;
  double most = 1;
  for (const EqSection& s : sections) {
    const bool high_edge = s.hz > highest * rate, is_high = s.hz > high * rate, is_bell = s.kind == Kind::bell,
               needle = s.q > (is_high         ? high_needle_q
                               : s.hz < low_hz ? low_needle_q
                                               : needle_q);
    const bool turns_down = s.is_shelf() || (is_bell && s.gain_db < 0);
    if (turns_down && s.hz < lowest_hz) most = far_better;
    if ((turns_down && high_edge) || (is_bell && s.q < (s.hz < low_hz ? low_least_q : least_q)) ||
        (s.is_shelf() && std::abs(s.gain_db) > most_db) || (is_bell && needle && (is_high || s.gain_db > 0)))
      most = std::max(most, much_better);
  }
  for (size_t a = 0; a + 1 < sections.size(); ++a)
    for (size_t b = a + 1; b < sections.size(); ++b)
      if (are_a_bell(sections[a], sections[b])) most = std::max(most, much_better);
  return most;
}

/// What counts of a setting: what it leaves, dearer by every section.
double cost(const Fitted& f, double rate) {
  return std::log(std::max(f.error_db, 0.5 * good_enough_db) * doubt(f.setting.sections, rate)) -
         double(f.setting.sections.size()) * std::log(worth_a_section);
}

/// The level of most of the spectrum: the fullest window of 0.2 dB, by octaves.
double densest(const std::vector<ShapePoint>& points) {
  double best = 0, at = 0;
  for (const ShapePoint& p : points) {
    double inside = 0, sum = 0;
    for (const ShapePoint& o : points)
      if (std::abs(o.db - p.db) < 0.1) inside += o.weight, sum += o.weight * o.db;
    inside *= 1 - 0.02 * std::min(10.0, std::abs(p.db));  // of two plateaus, the one nearer to 0
    if (inside > best) best = inside, at = sum / (inside / (1 - 0.02 * std::min(10.0, std::abs(p.db))));
  }
  return at;
}

/// The best settings with one section more than these have.
std::vector<Fitted> one_more(const std::vector<Fitted>& settings, const EqFit& fit,
                             const std::vector<ShapePoint>& points, double rate) {
  std::vector<Fitted> found;
  for (const Fitted& from : settings) {
    std::vector<Fitted> tried;
    for (const EqSection& start : starts(points, fit.left_of(from.setting), rate)) {
      Fitted with = from;
      with.setting.sections.push_back(start);
      with.error_db = fit.error_of(with.setting);
      tried.push_back(std::move(with));
    }
    const auto less = [](const Fitted& a, const Fitted& b) { return a.error_db < b.error_db; };
    std::sort(tried.begin(), tried.end(), less);
    std::array<std::array<int, 5>, 5> taken{};  // by kind and order
    for (Fitted& t : tried) {
      const EqSection& last = t.setting.sections.back();
      if (last.kind != Kind::bell && t.error_db > from.error_db) continue;
      if (taken[size_t(last.kind)][size_t(last.order)]++ >= (last.kind == Kind::bell ? 4 : 2)) continue;
      t.error_db = fit.refine(t.setting, few_rounds);
      found.push_back(std::move(t));
    }
  }
  const auto counts = [&](const Fitted& f) { return f.error_db * doubt(f.setting.sections, rate); };
  std::sort(found.begin(), found.end(), [&](const Fitted& a, const Fitted& b) { return counts(a) < counts(b); });
  std::vector<Fitted> best;
  for (Fitted& f : found) {
    const bool known = std::any_of(best.begin(), best.end(), [&](const Fitted& b) {
      return std::abs(f.error_db - b.error_db) <= 1e-3 * b.error_db;
    });
    if (!known && best.size() < beam) best.push_back(std::move(f));
  }
  for (Fitted& f : best) f.error_db = fit.refine(f.setting, many_rounds);
  std::sort(best.begin(), best.end(), [&](const Fitted& a, const Fitted& b) { return counts(a) < counts(b); });
  return best;
}

/// Two passes of second order that lie together are one of fourth, where that does nearly as well.
void join_passes(Fitted& best, const EqFit& fit) {
  constexpr double nearly = 3, nearly_db = 0.15, together_octaves = 0.4;
  auto& all = best.setting.sections;
  for (size_t a = 0; a + 1 < all.size(); ++a)
    for (size_t b = a + 1; b < all.size(); ++b) {
      const bool two = all[a].is_pass() && all[a].kind == all[b].kind && all[a].order == 2 && all[b].order == 2;
      if (!two || std::abs(std::log2(all[a].hz / all[b].hz)) > together_octaves) continue;
      Fitted one = best;
      one.setting.sections.erase(one.setting.sections.begin() + long(b));
      one.setting.sections[a] = {all[a].kind, std::sqrt(all[a].hz * all[b].hz), 0, 0.707, 4};
      one.error_db = fit.refine(one.setting, many_rounds);
      if (one.error_db > std::max(nearly * best.error_db, nearly_db)) continue;
      best = std::move(one);
      return join_passes(best, fit);
    }
}

/// A shelf at either end and a bell between, as many an EQ is set: a search of one section at a time may miss that no
/// one of them does much by itself.
void try_the_usual(Fitted& best, const EqFit& fit, const std::vector<ShapePoint>& points, double rate, double flat_db) {
  constexpr double low_hz = 120, high_hz = 7000;
  const auto level_near = [&](double hz) {
    const auto nearest = std::min_element(points.begin(), points.end(), [&](const auto& a, const auto& b) {
      return std::abs(std::log2(a.hz / hz)) < std::abs(std::log2(b.hz / hz));
    });
    return nearest->db - flat_db;
  };
  if (high_hz > 0.4 * rate) return;
  for (const double bell_hz : {250.0, 1000.0, 3000.0}) {
    Fitted usual{{{{Kind::low_shelf, low_hz, level_near(30), 0.707, 2},
                   {Kind::bell, bell_hz, level_near(bell_hz), 1, 2},
                   {Kind::high_shelf, high_hz, level_near(20000), 0.707, 2}},
                  flat_db},
                 0};
    usual.error_db = fit.refine(usual.setting, many_rounds);
    if (cost(usual, rate) < cost(best, rate)) best = std::move(usual);
  }
}

/// The best that grows from the first of some settings that do the same, by a section at a time.
Fitted grown(std::vector<Fitted> settings, const EqFit& fit, const std::vector<ShapePoint>& points, double rate,
             size_t most) {
  Fitted best = settings.front();
  int idle = 0;
  for (size_t count = best.setting.sections.size() + 1;
       count <= most && best.error_db > good_enough_db && idle < most_idle; ++count) {
    const double before = settings.front().error_db;
    settings = one_more(settings, fit, points, rate);
    if (settings.empty()) break;
    idle = settings.front().error_db > still_worth_trying * before ? idle + 1 : 0;
    const double more = double(count - best.setting.sections.size());
    if (cost(settings.front(), rate) < cost(best, rate) &&
        fit.chi_square_of(settings.front().setting) < fit.chi_square_of(best.setting) - over_chance * more)
      best = settings.front();
  }
  return best;
}

/// What a setting does without a section as well, or with two of a kind in one, it does without.
void leave_out_idle(Fitted& best, const EqFit& fit, double rate) {
  for (size_t n = 0; n < best.setting.sections.size();) {
    Fitted without = best;
    auto& sections = without.setting.sections;
    const EqSection gone = sections[n];
    sections.erase(sections.begin() + long(n));
    for (EqSection& s : sections)
      if (s.kind == gone.kind && !s.is_pass() && std::abs(std::log2(s.hz / gone.hz)) < 0.5) {
        s.gain_db += gone.gain_db;
        break;
      }
    without.error_db = fit.refine(without.setting, many_rounds);
    const bool idle = !gone.is_pass() && std::abs(gone.gain_db) < least_gain_db;
    const bool by_chance = fit.chi_square_of(without.setting) < fit.chi_square_of(best.setting) + over_chance;
    if (idle || by_chance || cost(without, rate) < cost(best, rate))
      best = std::move(without), n = 0;
    else
      ++n;
  }
}

/// One section in place of two where that does as well: a search that goes by the most at a time may have gone round.
void join_two(Fitted& best, const EqFit& fit, const std::vector<ShapePoint>& points, double rate) {
  const auto& all = best.setting.sections;
  for (size_t a = 0; a + 1 < all.size(); ++a)
    for (size_t b = a + 1; b < all.size(); ++b) {
      Fitted less = best;
      less.setting.sections.erase(less.setting.sections.begin() + long(b));
      less.setting.sections.erase(less.setting.sections.begin() + long(a));
      const auto joined = one_more({less}, fit, points, rate);
      if (joined.empty() || cost(joined.front(), rate) >= cost(best, rate)) continue;
      best = joined.front();
      return join_two(best, fit, points, rate);
    }
}

/// A shelf turned round, with the gain that makes it the same again.
EqSetting turned_round(EqSetting setting, size_t n) {
  EqSection& s = setting.sections[n];
  setting.flat_db += s.gain_db;
  s.gain_db = -s.gain_db;
  s.kind = s.kind == Kind::low_shelf ? Kind::high_shelf : Kind::low_shelf;
  return setting;
}

/// Of the settings that do the same the one whose flat part lies where nothing was turned; else that of which every
/// shelf turns the lesser part of what is heard.
void choose_flat(Fitted& f, const EqFit& fit, std::optional<double> untouched_db) {
  constexpr double as_good = 1.2, at_all_db = 0.003, near_db = 0.06, middle_hz = 632;
  const auto unlikely = [&](const EqSetting& setting) {
    if (untouched_db && std::abs(setting.flat_db - *untouched_db) < near_db) return -1L;
    return std::count_if(setting.sections.begin(), setting.sections.end(), [](const EqSection& s) {
      return s.kind == Kind::low_shelf ? s.hz > middle_hz : s.kind == Kind::high_shelf && s.hz < middle_hz;
    });
  };
  for (size_t n = 0; n < f.setting.sections.size(); ++n) {
    if (!f.setting.sections[n].is_shelf()) continue;
    Fitted other{turned_round(f.setting, n), 0};
    other.error_db = fit.refine(other.setting, many_rounds);
    if (other.error_db < as_good * f.error_db + at_all_db && unlikely(other.setting) < unlikely(f.setting))
      f = std::move(other);
  }
}

/// What turns the phase of a setting.
EqSetting turning(const EqSetting& setting, const PhaseJudged& phase) {
  EqSetting rest{{}, setting.flat_db};
  for (size_t n = 0; n < setting.sections.size(); ++n)
    if (!std::count(phase.level_alone.begin(), phase.level_alone.end(), n))
      rest.sections.push_back(setting.sections[n]);
  return rest;
}

/// Level that most of what is known lies at, beside a setting.
double level_beside(const EqSetting& setting, const EqFit& fit, std::vector<ShapePoint> points) {
  const auto left = fit.left_of(setting);
  for (size_t n = 0; n < points.size(); ++n) points[n].db = left[n];
  return setting.flat_db + densest(points);
}

void sort_sections(EqSetting& setting) {
  std::sort(setting.sections.begin(), setting.sections.end(),
            [](const EqSection& a, const EqSection& b) { return a.hz < b.hz; });
}

/// A high pass that shows in what a setting leaves of the phase, and speaks against no level that is known, nor against
/// those that are less well known together: an all-pass turns the same phase.
std::optional<EqSection> pass_by_phase(const Fitted& f, const std::vector<ShapePoint>& points, const PhaseJudged& phase,
                                       double rate) {
  constexpr double speaks_against_db = 0.1;
  const auto passes = passes_by_phase(turning(f.setting, phase), points, rate);
  if (passes.empty()) return {};
  std::vector<ShapePoint> known;
  std::copy_if(points.begin(), points.end(), std::back_inserter(known),
               [](const ShapePoint& p) { return p.weight >= least_weight; });
  const EqFit to_known(known, rate);
  for (const EqSection& pass : passes) {
    EqSetting with = f.setting;
    with.sections.push_back(pass);
    if (to_known.chi_square_of(with) <= to_known.chi_square_of(f.setting) + over_chance &&
        to_known.error_of(with) <= to_known.error_of(f.setting) + speaks_against_db)
      return pass;
  }
  return {};
}

/// Points without what a section does to them.
std::vector<ShapePoint> without(std::vector<ShapePoint> points, const EqSection& section, double rate) {
  for (ShapePoint& p : points) {
    const auto h = section.response(p.hz, rate);
    p.db -= 20 * std::log10(std::max(1e-6, std::abs(h))), p.h /= h;
  }
  return points;
}

/// The setting of fewest sections that leaves no more than measuring does.
Fitted fitted(const EqFit& fit, const std::vector<ShapePoint>& points, double rate, std::optional<double> untouched_db,
              size_t most) {
  const double usual_db = densest(points);
  std::vector<Fitted> settings{{{{}, usual_db}, 0}};
  if (std::abs(usual_db) > 0.05) settings.push_back({{{}, 0}, 0});
  for (Fitted& f : settings) f.error_db = fit.error_of(f.setting);
  Fitted best = grown(std::move(settings), fit, points, rate, most);
  if (best.setting.sections.size() > 1) {
    try_the_usual(best, fit, points, rate, usual_db);
    try_the_usual(best, fit, points, rate, best.setting.flat_db);
  }
  leave_out_idle(best, fit, rate);
  join_passes(best, fit);
  if (best.setting.sections.size() > 2) join_two(best, fit, points, rate);
  choose_flat(best, fit, untouched_db);
  sort_sections(best.setting);
  if (best.setting.sections.empty()) best.setting.flat_db = usual_db;
  return best;
}

}  // namespace

EqShape shape_of(const std::vector<ShapePoint>& points, double rate_hz, std::optional<double> untouched_db,
                 size_t most) {
  constexpr double clear_of_pass = 3;
  constexpr size_t enough = 8;  // points
  EqShape shape;
  if (points.size() < enough) return shape;
  const EqFit fit(points, rate_hz);
  Fitted best = fitted(fit, points, rate_hz, untouched_db, most);
  auto phase = judge_phase(best.setting, points, rate_hz);
  if (const auto pass = pass_by_phase(best, points, phase, rate_hz)) {  // what else there is shows above it
    auto rest = without(points, *pass, rate_hz);
    std::erase_if(rest, [&](const ShapePoint& p) { return p.hz < clear_of_pass * pass->hz; });
    if (rest.size() >= enough) best = fitted(EqFit(rest, rate_hz), rest, rate_hz, untouched_db, most - 1);
    best.setting.sections.push_back(*pass);
    sort_sections(best.setting);
    best.error_db = fit.error_of(best.setting);
    phase = judge_phase(best.setting, points, rate_hz);
    shape.by_phase = true;
  }
  shape.sections = best.setting.sections, shape.error_db = best.error_db, shape.flat_db = best.setting.flat_db;
  for (const ShapePoint& p : points)
    if (p.weight > 0.05) shape.range_db = std::max(shape.range_db, std::abs(std::max(-60.0, p.db - shape.flat_db)));
  shape.phase_deg = phase.left_deg, shape.linear_phase = phase.linear, shape.level_alone = phase.level_alone;
  if (!phase.level_alone.empty()) shape.flat_alone_db = level_beside(turning(best.setting, phase), fit, points);
  return shape;
}

}  // namespace heathmist::causes
