// What one filter explains: EQ, phase alone, a band's upper limit, a dense tail.
#include <algorithm>
#include <cmath>
#include <functional>
#include <memory>
#include <optional>

#include "core/compare/causes/estimates.hpp"
#include "core/compare/causes/response_points.hpp"
#include "core/compare/causes/tail.hpp"
#include "core/dsp/median.hpp"

namespace heathmist::causes {

namespace {

constexpr double window_s = 0.6;
constexpr double flat_magnitude_db = 0.15;                          // a response that moves less is phase alone
constexpr double much_phase_deg = 20, as_flat_as_it_gets_db = 0.4;  // peaks that are turned may be cut
constexpr double turned_deg = 40, levels_share = 0.1;  // phase that is turned all over: the levels' part is the lesser
constexpr double ragged_db = 0.25;                     // of the response, that no EQ follows: a tail's
constexpr double least_phase_deg = 0.5;
constexpr double way_down = 0.85;                        // of a band's limit: from here on
constexpr double replaced = 1.5;                         // what went and what came instead, against what went
constexpr double edge_db = 25, edge_octaves = 5.0 / 12;  // a fall by that within so many octaves is a band's limit

Json section_json(const EqSection& s) {
  Json j{{"type", name_of(s.kind)}, {"hz", s.hz}};
  const bool pass = s.kind == EqSection::Kind::high_pass || s.kind == EqSection::Kind::low_pass;
  if (pass) {
    j["order"] = s.order;
  } else {
    j["gain_db"] = s.gain_db;
  }
  j["q"] = s.order == 2 || !pass ? Json(s.q) : Json(nullptr);
  return j;
}

Json sections_json(const EqShape& shape) {
  Json all = Json::array();
  for (const EqSection& section : shape.sections) all.push_back(section_json(section));
  for (const size_t n : shape.level_alone) all[n]["phase"] = "linear";
  return all;
}

/// The frequency above which nothing is left of a spectrum that goes on in the model: where the response comes down by
/// 3 dB, of a fall that leaves nothing five twelfths of an octave farther up, or as steep as far as it is seen; the
/// last that is seen where no fall is. Where the model holds little, under the return's noise, or noise took its place,
/// nothing is known.
std::optional<double> band_limit(const Response& r, size_t pair, double flat_db) {
  struct Level {
    double hz, db;
  };
  std::vector<Level> levels;
  const auto& power = r.power[pair];
  const double most = *std::max_element(power.begin(), power.end());
  for (double hz = 20; hz < 0.985 * r.bin_hz * double(power.size() - 1); hz *= std::exp2(1.0 / 12)) {
    const auto [from, to] = bins_around(r, hz);
    double came = 0, went = 0, apart = 0, certain = 0, bins = 0;
    for (size_t k = from; k <= to; ++k)
      if (tells(power, most, k))
        came += std::norm(r.h[pair][k]) * power[k], went += power[k], apart += r.apart[pair][k],
            certain += r.certainty[pair][k], bins += 1;
    const double db = went > 0 ? 10 * std::log10(std::max(1e-12, came / went)) - flat_db : 0;
    const bool is_gone = db < -edge_db && apart < replaced * went;
    if (went > 0 && (certain > least_certain * bins || is_gone)) levels.push_back({hz, db});
  }
  size_t gone = levels.size();  // from here on
  while (gone > 0 && levels[gone - 1].db < -edge_db) --gone;
  if (gone == levels.size() || gone == 0) return {};
  size_t last = gone - 1;  // that is still there
  while (last > 0 && levels[last].db < -3) --last;
  if (levels[last].db < -3) return {};
  const Level &above = levels[last + 1], &here = levels[last];
  const auto octaves_to = [&](size_t n) { return std::log2(levels[n].hz / here.hz); };
  if (octaves_to(gone) > edge_octaves) {  // nothing is seen on the last part of the way
    constexpr double steep = edge_db / edge_octaves, still_flat_db = -0.5;
    if (octaves_to(gone) > (here.db > still_flat_db ? 1.25 : 0.75)) return {};
    if (gone - 1 == last) return here.hz;
    const double seen = octaves_to(gone - 1);
    if (seen > edge_octaves || here.db - levels[gone - 1].db < steep * seen) return {};
  }
  const double part = (here.db + 3) / std::max(1e-6, here.db - above.db);
  return here.hz * std::pow(above.hz / here.hz, std::clamp(part, 0.0, 1.0));
}

/// Share of what a response changes, by power, that its magnitude does: the rest is phase.
double share_of_levels(const Response& r, size_t pair, double flat_db) {
  const double flat = std::pow(10, flat_db / 20);
  double all = 0, levels = 0;
  for (size_t k = 1; k < r.h[pair].size(); ++k) {
    const double w = r.power[pair][k] * std::min(1.0, r.certainty[pair][k]);
    all += w * std::norm(r.h[pair][k] / flat - 1.0), levels += w * std::pow(std::abs(r.h[pair][k]) / flat - 1, 2);
  }
  return all > 0 ? levels / all : 1;
}

/// Share of what a response changes, by power, that it does beyond a frequency.
double share_beyond(const Response& r, size_t pair, double flat_db, double hz) {
  const double flat = std::pow(10, flat_db / 20);
  double all = 0, beyond = 0;
  for (size_t k = 1; k < r.h[pair].size(); ++k) {
    const double changed = r.power[pair][k] * std::norm(r.h[pair][k] / flat - 1.0);
    all += changed, beyond += double(k) * r.bin_hz > hz ? changed : 0;
  }
  return all > 0 ? beyond / all : 0;
}

/// Hardly anything is left with it.
bool explains_nearly_all(const Response& r, const Excerpt& e, const Planar& model) {
  constexpr double left_share = 0.05;
  Planar made = model;
  run(r, made);
  return power_left(e, made) < left_share * power_left(e, model);
}

/// One section at most, near the limit: the way down to it.
bool are_way_down(const std::vector<EqSection>& sections, double hz) {
  const auto falls = [&](const EqSection& s) { return s.hz > hz / 2 && (s.is_pass() || s.gain_db < 0); };
  return sections.empty() || (sections.size() == 1 && falls(sections.front()));
}

/// Nothing else than the limit: what the sections say is the way down to it.
bool is_flat_below(const std::vector<std::vector<ShapePoint>>& points, const std::vector<EqShape>& shapes, double hz) {
  for (size_t p = 0; p < points.size(); ++p)
    for (const ShapePoint& at : points[p])
      if (at.hz < way_down * hz && at.weight > 0.05 && std::abs(at.db - shapes[p].flat_db) > flat_magnitude_db)
        return false;
  return true;
}

/// Flat, but for a fall above a frequency that is too short for a section of an EQ.
bool falls_at_the_top(const std::vector<ShapePoint>& points, double flat_db, double from_hz) {
  constexpr double clear = 0.05;  // weight
  bool falls = false;
  for (const ShapePoint& at : points) {
    const double db = at.db - flat_db;
    if (at.weight > clear && (at.hz < from_hz ? std::abs(db) : db) > flat_magnitude_db) return false;
    falls = falls || (at.hz >= from_hz && db < -flat_magnitude_db);
  }
  return falls;
}

/// A notch at the very last that is seen of a response is the beginning of a fall: the programme ends in it.
bool is_end_of_what_is_seen(const EqSection& s, const std::vector<ShapePoint>& points) {
  constexpr double narrow = 8, near = 1.04, clear = 0.05;
  const auto last =
      std::find_if(points.rbegin(), points.rend(), [](const ShapePoint& at) { return at.weight > clear; });
  return last != points.rend() && s.kind == EqSection::Kind::bell && s.gain_db < 0 && s.q > narrow &&
         s.hz > last->hz / near;
}

/// Where a converter ends the band: the place where the response comes down by 3 dB, or the last that is seen of it,
/// where it does nothing but fall in the top tenth of the band, or at the end of what is seen.
std::optional<double> top_edge(const std::vector<std::vector<ShapePoint>>& points, const std::vector<EqShape>& shapes,
                               double rate) {
  std::optional<double> edge;
  for (size_t p = 0; p < shapes.size(); ++p) {
    double from = converters_edge * rate;
    if (shapes[p].sections.empty() && !falls_at_the_top(points[p], shapes[p].flat_db, from)) continue;
    for (const EqSection& s : shapes[p].sections) {
      if (is_end_of_what_is_seen(s, points[p])) from = std::min(from, s.hz / std::exp2(1 / (2 * s.q)));
      if (s.hz < from || (s.gain_db > 0 && s.kind != EqSection::Kind::low_pass)) return {};
    }
    if (points[p].empty()) continue;
    const auto down = std::find_if(points[p].begin(), points[p].end(),
                                   [&](const ShapePoint& at) { return at.hz > from && at.db < shapes[p].flat_db - 3; });
    const double hz = down == points[p].end() ? points[p].back().hz : down->hz;
    edge = std::min(hz, edge.value_or(hz));
  }
  return edge;
}

/// Levels that the return never passes and often stands at.
struct Tops {
  double low = -1e300, high = 1e300;
  bool stands_at(double y) const { return y >= high || y <= low; }
};
std::optional<Tops> tops_of(const Excerpt& e) {
  constexpr double near = 3e-4, least_share = 2e-5;
  double most = 0, least = 0, at_most = 0, at_least = 0, count = 0;
  const auto each = [&](auto what) {
    for (int p = 0; p < e.pairs(); ++p)
      for (size_t n = 0; n < size_t(e.frames()); ++n)
        if (e.told[n]) what(e.ret.channel(p)[n]);
  };
  each([&](double y) { most = std::max(most, y), least = std::min(least, y), count += 1; });
  each([&](double y) { at_most += y >= (1 - near) * most, at_least += y <= (1 - near) * least; });
  const double enough = std::max(30.0, least_share * count);
  Tops tops;
  if (at_most >= enough) tops.high = (1 - near) * most;
  if (at_least >= enough) tops.low = (1 - near) * least;
  return at_most >= enough || at_least >= enough ? std::optional(tops) : std::nullopt;
}

/// The response; where the return is cut off at a level, of the return as it was before that: what stands there is
/// taken to be what the response makes of the model, where that goes beyond, round by round.
Response response_of(const Excerpt& e, const Planar& model, size_t size) {
  constexpr int settling_rounds = 5, last_rounds = 4;
  const auto tops = tops_of(e);
  if (!tops) return estimate_response(e, model, size, last_rounds);
  Excerpt whole = e;
  Response r;
  for (int round = 0; round <= settling_rounds; ++round) {
    r = estimate_response(whole, model, size, round < settling_rounds ? 1 : last_rounds);
    if (round == settling_rounds) break;
    Planar made = model;
    run(r, made);
    for (int p = 0; p < e.pairs(); ++p)
      for (size_t n = 0; n < size_t(e.frames()); ++n) {
        const double y = e.ret.channel(p)[n], x = made.channel(p)[n];
        if (tops->stands_at(y)) whole.ret.channel(p)[n] = y > 0 ? std::max(x, y) : std::min(x, y);
      }
  }
  return r;
}

/// When the first single repeat comes, in samples: a peak of the response that stands far over what is around it, later
/// than an EQ's own. Nothing where a pair has none, or many: a tail's.
std::optional<int64_t> first_echo(const Response& r, double rate) {
  constexpr double from_s = 0.012, stands_out = 12, least_level = 0.003;
  constexpr size_t around = 400, of_one = 24, most_peaks = 4;
  std::optional<int64_t> first;
  for (size_t p = 0; p < r.h.size(); ++p) {
    const auto h = r.impulse(p);
    const auto start = size_t(from_s * rate), reach = r.size / 4;
    std::vector<size_t> peaks;
    for (size_t n = start; n + 1 < reach && peaks.size() <= most_peaks; ++n) {
      if (std::abs(h[n]) < least_level * std::abs(h[0]) || (!peaks.empty() && n < peaks.back() + of_one)) continue;
      std::vector<double> beside;
      for (size_t k = std::max(start, n > around ? n - around : 0); k < std::min(reach, n + around); ++k)
        if (k + of_one < n || k > n + of_one) beside.push_back(std::abs(h[k]));
      if (std::abs(h[n]) > stands_out * dsp::median(beside)) peaks.push_back(n);
    }
    if (peaks.empty() || peaks.size() > most_peaks) return {};
    if (!first || int64_t(peaks.front()) < *first) first = int64_t(peaks.front());
  }
  return first;
}

bool alike(const EqShape& a, const EqShape& b) {
  if (a.sections.size() != b.sections.size()) return false;
  for (size_t n = 0; n < a.sections.size(); ++n) {
    const EqSection &x = a.sections[n], &y = b.sections[n];
    if (x.kind != y.kind || std::abs(std::log2(x.hz / y.hz)) > 0.15 || std::abs(x.gain_db - y.gain_db) > 0.5)
      return false;
  }
  return true;
}

/// Where next to nothing was turned, what went in comes out upside down.
bool is_inverted(const std::vector<ShapePoint>& points, const EqShape& shape) {
  constexpr double as_it_was_db = 1, surely = -0.7;
  double sum = 0, all = 0;
  for (const ShapePoint& p : points)
    if (std::abs(p.db - shape.flat_db) < as_it_was_db && std::abs(p.h) > 0)
      sum += p.weight * p.h.real() / std::abs(p.h), all += p.weight;
  return all > 0 && sum < surely * all;
}

bool all_inverted(const std::vector<std::vector<ShapePoint>>& points, const std::vector<EqShape>& shapes) {
  bool inverted = true;
  for (size_t p = 0; p < shapes.size(); ++p) inverted = inverted && is_inverted(points[p], shapes[p]);
  return inverted;
}

Cause eq_cause(const std::vector<EqShape>& shapes, const std::vector<std::vector<ShapePoint>>& points) {
  Cause c{.code = "eq"};
  size_t most = 0;
  for (size_t p = 0; p < shapes.size(); ++p) {
    if (shapes[p].range_db > 0.05) c.channels.push_back(int(p));
    if (shapes[p].range_db > shapes[most].range_db) most = p;
  }
  const EqShape& s = shapes[most];
  const Json sections = sections_json(s);
  double gain = 0, hz = 0;
  for (const ShapePoint& p : points[most])
    if (p.weight > 0.05 && std::abs(std::max(-60.0, p.db - s.flat_db)) > std::abs(gain))
      gain = std::max(-60.0, p.db - s.flat_db), hz = p.hz;
  c.values = {{"sections", sections},
              {"most_db", gain},
              {"most_hz", hz},
              {"flat_db", s.flat_db},
              {"phase", s.linear_phase ? "linear" : "minimum"},
              {"fit_error_db", s.error_db}};
  if (all_inverted(points, shapes)) c.values["inverted"] = true;
  Json flat = Json::array();
  for (const EqShape& shape : shapes) flat.push_back(shape.flat_db);
  c.values["channel_flat_db"] = flat;
  if (!s.level_alone.empty()) c.values["flat_alone_db"] = s.flat_alone_db;
  if (shapes.size() == 2 && !alike(shapes[0], shapes[1])) {
    Json each = Json::array();
    for (const EqShape& shape : shapes) each.push_back(sections_json(shape));
    c.values["by_channel"] = each;
  }
  return c;
}

/// The stretch of the band in which the phase is turned by more than a third of the most.
void tell_where(const std::vector<std::vector<ShapePoint>>& points, Json& values) {
  double most = 0, low = 0, high = 0, top = 0;
  for (const auto& own : points)
    for (const ShapePoint& p : own)
      most = std::max(most, p.weight * std::abs(std::arg(p.h))), top = std::max(top, p.hz);
  for (const auto& own : points)
    for (const ShapePoint& p : own)
      if (p.weight * std::abs(std::arg(p.h)) > most / 3) {
        low = low == 0 ? p.hz : std::min(low, p.hz), high = std::max(high, p.hz);
        if (p.weight * std::abs(std::arg(p.h)) == most)
          values["most_deg"] = std::arg(p.h) * 57.29577951308232, values["most_hz"] = p.hz;
      }
  values["from_hz"] = low < 30 ? Json(nullptr) : Json(low);
  values["until_hz"] = high > 0.8 * top ? Json(nullptr) : Json(high);
}

/// Frames of the excerpt on end that are told of.
int64_t longest_told(const Excerpt& e) {
  int64_t longest = 0, run = 0;
  for (const uint8_t told : e.told) run = told ? run + 1 : 0, longest = std::max(longest, run);
  return longest;
}

std::vector<std::vector<ShapePoint>> below(std::vector<std::vector<ShapePoint>> points, double hz) {
  for (auto& own : points) std::erase_if(own, [&](const ShapePoint& p) { return p.hz > hz; });
  return points;
}

/// What a path does, as points, EQs and what else shows in it.
struct Seen {
  std::vector<std::vector<ShapePoint>> points;
  std::vector<EqShape> shapes;
  double range = 0, phase = 0, levels = 0;
  std::optional<Tail> tail;
  std::optional<double> limit;
  double beyond_limit = 0;  // share of what is changed
  bool by_phase = false;
};
/// Beside what was set, a fall at the very top is the edge of what put the return at another rate or speed.
void leave_out_the_edge(EqShape& shape, double rate_hz) {
  constexpr double narrow = 5;
  const auto is_edge = [&](const EqSection& s) {
    return s.hz > converters_edge * rate_hz && s.gain_db <= 0 && (s.kind != EqSection::Kind::bell || s.q > narrow);
  };
  EqShape set = shape;
  set.sections.clear(), set.level_alone.clear();
  for (size_t n = 0; n < shape.sections.size(); ++n) {
    if (is_edge(shape.sections[n])) continue;
    if (std::count(shape.level_alone.begin(), shape.level_alone.end(), n))
      set.level_alone.push_back(set.sections.size());
    set.sections.push_back(shape.sections[n]);
  }
  if (!set.sections.empty()) shape = std::move(set);
}

Seen seen_in(const Response& r, double rate_hz, double gain_db, bool may_be_low) {
  Seen s;
  for (size_t p = 0; p < r.h.size(); ++p) s.points.push_back(points_of(r, p, may_be_low));
  s.shapes = shapes_of(s.points, rate_hz, -gain_db);
  for (size_t p = 0; p < s.shapes.size(); ++p)
    if (const auto own = band_limit(r, p, s.shapes[p].flat_db); own && (!s.limit || *own < *s.limit)) s.limit = own;
  if (s.limit) s.shapes = shapes_of(below(s.points, way_down * *s.limit), rate_hz, -gain_db);
  for (size_t p = 0; p < s.shapes.size(); ++p) {
    leave_out_the_edge(s.shapes[p], rate_hz);
    const EqShape& shape = s.shapes[p];
    s.range = std::max(s.range, shape.range_db), s.phase = std::max(s.phase, shape.phase_deg);
    s.levels = std::max(s.levels, share_of_levels(r, p, shape.flat_db));
    s.by_phase = s.by_phase || shape.by_phase;
    if (const auto own = tail_of({r.impulse(p)}, rate_hz);
        own && shape.error_db > ragged_db && (!s.tail || own->direct_to_tail_db < s.tail->direct_to_tail_db))
      s.tail = own;
    if (s.limit) s.beyond_limit = std::max(s.beyond_limit, share_beyond(r, p, shape.flat_db, *s.limit));
  }
  return s;
}

/// The cause by its name; nothing where the path does next to nothing. `explains`: whether hardly anything is left.
std::optional<Cause> named(const Seen& s, double rate_hz, const std::function<bool()>& explains) {
  Cause c;
  const auto turned = [&] {
    c = {.code = "phase"};
    c.values = {{"rms_deg", s.phase}};
    tell_where(s.points, c.values);
  };
  if (s.tail) {
    c = {.code = "reverb"};
    c.values = {{"t60_s", s.tail->t60_s}, {"direct_to_reverberant_db", s.tail->direct_to_tail_db}};
  } else if (s.phase > turned_deg && s.levels < levels_share && !all_inverted(s.points, s.shapes) && explains()) {
    turned();
    if (s.range > flat_magnitude_db) c.values["level_range_db"] = s.range;
  } else if (s.limit && !s.by_phase &&
             (are_way_down(s.shapes.front().sections, *s.limit) || is_flat_below(s.points, s.shapes, *s.limit))) {
    c = {.code = "band_limit"};
    c.values = {{"hz", *s.limit}, {"flat_db", s.shapes.front().flat_db}};
  } else if (!s.by_phase && s.range < (s.phase > much_phase_deg ? as_flat_as_it_gets_db : flat_magnitude_db)) {
    if (s.phase < least_phase_deg) return {};
    turned();
  } else if (const auto edge = top_edge(s.points, s.shapes, rate_hz)) {
    c = {.code = "band_limit"};
    c.values = {{"hz", *edge}, {"flat_db", s.shapes.front().flat_db}};
  } else {
    c = eq_cause(s.shapes, s.points);
    if (s.limit) c.values["band_limit_hz"] = *s.limit, c.values["beyond_limit_share"] = s.beyond_limit;
  }
  if (c.channels.empty())
    for (size_t p = 0; p < s.points.size(); ++p) c.channels.push_back(int(p));
  return c;
}

}  // namespace

std::optional<Found> estimate_filter(const Excerpt& e, const Model& model) {
  size_t size = 2048;
  while (double(size) < window_s * e.rate_hz) size *= 2;
  const auto longest = std::min(e.frames() / 4, longest_told(e) * 2 / 3);  // two blocks of a stretch
  while (size > 512 && int64_t(size) > longest) size /= 2;
  auto r = std::make_shared<const Response>(response_of(e, model, size));
  if (const auto echo = first_echo(*r, e.rate_hz)) {  // which is a cause of its own: an EQ ends before it
    while (size > 512 && int64_t(size) / 4 > *echo * 3 / 4) size /= 2;
    r = std::make_shared<const Response>(response_of(e, model, size));
  }
  const auto cause = named(seen_in(*r, e.rate_hz, e.gain_db, model.moved), e.rate_hz,
                           [&] { return explains_nearly_all(*r, e, model); });
  if (!cause) return {};
  Found found{*cause, [r](const Places&, Planar& m) { run(*r, m); }, double(size) / 2 / e.rate_hz};
  found.runs = r;
  if (cause->code == "eq" || cause->code == "band_limit")
    found.beside_coding = [r, first = *cause, rate = e.rate_hz, gain = e.gain_db] {
      const auto coded = named(seen_in(*r, rate, gain, true), rate, [] { return false; });
      return coded && (coded->code == "eq" || coded->code == "band_limit") ? *coded : first;
    };
  return found;
}

}  // namespace heathmist::causes
