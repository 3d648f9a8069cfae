#include "core/probes/score_json.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace heathmist {

namespace {

Json db_json(double db) { return std::isinf(db) ? Json(nullptr) : Json(db); }

Json gain_json(const GainScore& g) {
  Json points = Json::array(), events = Json::array();
  for (const GainPoint& p : g.points) points.push_back({p.at_s, db_json(p.db)});
  for (const GainEvent& e : g.events)
    events.push_back({{"name", e.name},
                      {"at_s", e.at_s},
                      {"from_db", db_json(e.from_db)},
                      {"to_db", db_json(e.to_db)},
                      {"length_s", e.length_s}});
  return {{"points", points}, {"events", events}};
}

Json moves_json(const std::vector<PanMove>& moves) {
  Json all = Json::array();
  for (const PanMove& m : moves) {
    all.push_back({{"from_s", m.from_s}, {"until_s", m.until_s}, {"position", m.position}});
    if (m.to) all.back()["to"] = *m.to;
  }
  return all;
}

Json sections_json(const std::vector<TrimSection>& sections) {
  Json all = Json::array();
  for (const TrimSection& s : sections)
    all.push_back({{"from_s", s.from_s}, {"until_s", s.until_s}, {"first_db", s.first_db}, {"then_db", s.then_db}});
  return all;
}

constexpr double longest_s = 3600, lowest_db = -200, highest_db = 60;

/// Reads one thing of a score, and says where it is wrong.
class Part {
 public:
  Part(const Json& json, std::string where) : json_(json), where_(std::move(where)) {
    if (!json.is_object()) refuse("is no object");
  }
  double seconds(const char* key) const { return number(key, 0, longest_s); }
  double number(const char* key, double low, double high) const {
    const auto it = json_.find(key);
    if (it == json_.end()) refuse(fmt::format("lacks '{}'", key));
    if (!it->is_number() || !(it->get<double>() >= low && it->get<double>() <= high))
      refuse(fmt::format("has {} = {}; it takes {} to {}", key, it->dump(), low, high));
    return *it;
  }
  /// `null` is silence.
  double level(const char* key) const {
    const auto it = json_.find(key);
    return it != json_.end() && it->is_null() ? silent_db : number(key, lowest_db, highest_db);
  }
  const Json& list(const char* key) const {
    const auto it = json_.find(key);
    if (it == json_.end() || !it->is_array() || it->empty()) refuse(fmt::format("lacks the list '{}'", key));
    return *it;
  }
  bool has(const char* key) const { return json_.contains(key); }
  std::string text(const char* key, const std::string& otherwise) const {
    return json_.contains(key) && json_[key].is_string() ? json_[key].get<std::string>() : otherwise;
  }
  [[noreturn]] void refuse(const std::string& wrong) const { throw JsonError(fmt::format("{} {}", where_, wrong)); }

 private:
  const Json& json_;
  std::string where_;
};

std::vector<GainPoint> points_from(const Part& score) {
  std::vector<GainPoint> points;
  for (const Json& p : score.list("points")) {
    const bool pair = p.is_array() && p.size() == 2 && p[0].is_number() && (p[1].is_number() || p[1].is_null());
    if (!pair || !(p[0] >= 0 && p[0] <= longest_s) || !(p[1].is_null() || (p[1] >= lowest_db && p[1] <= highest_db)))
      score.refuse(fmt::format("has the point {}; it takes [seconds, dB], {:g} to {:g} dB, with null for silence",
                               p.dump(), lowest_db, highest_db));
    points.push_back({p[0], p[1].is_null() ? silent_db : p[1].get<double>()});
    if (points.size() > 1 && points[points.size() - 2].at_s > points.back().at_s)
      score.refuse(fmt::format("has a point at {} s after one at {} s; put them in order", points.back().at_s,
                               points[points.size() - 2].at_s));
  }
  return points;
}

/// Every change of level between two points.
std::vector<GainEvent> events_of(const std::vector<GainPoint>& points) {
  std::vector<GainEvent> events;
  for (size_t n = 1; n < points.size(); ++n) {
    const GainPoint &a = points[n - 1], &b = points[n];
    if (a.db == b.db) continue;
    const double length = b.at_s - a.at_s;
    const auto level = [](double db) { return std::isinf(db) ? std::string("silence") : fmt::format("{:g} dB", db); };
    events.push_back({fmt::format("{} to {}",
                                  length == 0                            ? "step"
                                  : std::isinf(a.db) || std::isinf(b.db) ? "fade"
                                                                         : "ramp",
                                  level(b.db)),
                      a.at_s, a.db, b.db, length});
  }
  return events;
}

void take_gain(ProbeScore& s, const Part& score) {
  s.gain.points = points_from(score);
  s.gain.events.clear();
  if (!score.has("events")) {
    s.gain.events = events_of(s.gain.points);
  } else {
    for (const Json& json : score.list("events")) {
      const Part e(json, fmt::format("event {}", s.gain.events.size() + 1));
      s.gain.events.push_back({e.text("name", fmt::format("event {}", s.gain.events.size() + 1)), e.seconds("at_s"),
                               e.level("from_db"), e.level("to_db"), e.seconds("length_s")});
    }
  }
  std::sort(s.gain.events.begin(), s.gain.events.end(),
            [](const GainEvent& a, const GainEvent& b) { return a.at_s < b.at_s; });
  for (const GainEvent& e : s.gain.events)
    if (e.at_s < s.body_s + 0.2 || e.until_s() > s.body_s + s.body_seconds - 0.1)
      score.refuse(fmt::format("has '{}' at {} s, where the probe has no tone; keep events between {} and {} s", e.name,
                               e.at_s, s.body_s + 0.2, s.body_s + s.body_seconds - 0.1));
}

void take_moves(ProbeScore& s, const Part& score) {
  s.moves.clear();
  for (const Json& json : score.list("moves")) {
    const Part m(json, fmt::format("move {}", s.moves.size() + 1));
    s.moves.push_back({m.seconds("from_s"), m.seconds("until_s"), m.number("position", -100, 100), {}});
    if (m.has("to") && !json["to"].is_null()) s.moves.back().to = m.number("to", -100, 100);
    if (s.moves.back().until_s <= s.moves.back().from_s) m.refuse("ends before it begins");
  }
}

void take_sections(ProbeScore& s, const Part& score) {
  s.sections.clear();
  for (const Json& json : score.list("sections")) {
    const Part m(json, fmt::format("section {}", s.sections.size() + 1));
    s.sections.push_back(
        {m.seconds("from_s"), m.seconds("until_s"), m.number("first_db", -200, 200), m.number("then_db", -200, 200)});
    if (s.sections.back().until_s - s.sections.back().from_s < 1.5)
      m.refuse("is shorter than the probe's own sections");
  }
}

}  // namespace

Json score_json(const ProbeScore& s) {
  Json json{{"kind", s.kind},
            {"rate_hz", s.rate_hz},
            {"first_mark_s", s.first_mark_s},
            {"second_mark_s", s.second_mark_s},
            {"body_s", s.body_s},
            {"body_seconds", s.body_seconds},
            {"last_mark_s", s.last_mark_s},
            {"length_s", s.length_s}};
  if (s.sweep)
    json["sweep"] = {{"low_hz", s.sweep->low_hz},
                     {"high_hz", s.sweep->high_hz},
                     {"law", s.sweep->logarithmic ? "logarithmic" : "linear"},
                     {"level_dbfs", s.level_dbfs}};
  if (!s.steps.empty()) {
    json["steps"] = Json::array();
    for (const auto& step : s.steps)
      json["steps"].push_back(
          {{"at_s", step.at_s}, {"seconds", step.seconds}, {"tones_hz", step.tones_hz}, {"dbfs", step.dbfs}});
  }
  if (!s.impulses_s.empty()) json["impulses_s"] = s.impulses_s;
  if (s.channels == 1) json["channels"] = 1;
  if (!s.gain.points.empty()) json.update(gain_json(s.gain));
  if (!s.moves.empty()) json["moves"] = moves_json(s.moves);
  if (!s.sections.empty()) json["sections"] = sections_json(s.sections);
  if (s.crossfade)
    json.update({{"a_at_s", s.crossfade->a_at_s},
                 {"b_at_s", s.crossfade->b_at_s},
                 {"fade_from_s", s.crossfade->fade_from_s},
                 {"fade_until_s", s.crossfade->fade_until_s}});
  return json;
}

ProbeScore with_score(ProbeScore s, const Json& asked) {
  const Part score(asked, "the score");
  if (score.has("kind") && asked["kind"] != s.kind)
    score.refuse(fmt::format("is of a probe '{}', not of '{}'", score.text("kind", "?"), s.kind));
  if (score.has("channels") && asked["channels"] == 1) s.channels = 1;
  if (s.kind == "gain") take_gain(s, score);
  if (s.kind == "pan") take_moves(s, score);
  if (s.kind == "trim") take_sections(s, score);
  if (s.kind == "crossfade") {
    const CrossfadeScore c{score.seconds("a_at_s"), score.seconds("b_at_s"), score.seconds("fade_from_s"),
                           score.seconds("fade_until_s")};
    if (c.fade_until_s <= c.fade_from_s) score.refuse("has a crossfade that ends before it begins");
    if (c.a_at_s != 0 || c.b_at_s != s.crossfade->b_at_s)
      score.refuse(fmt::format("puts the clips elsewhere than at 0 and {} s, where they tell each other's phase",
                               s.crossfade->b_at_s));
    s.crossfade = c;
  }
  return s;
}

namespace {

/// A volume line or a position at every time where something begins, and every so often while it moves.
struct ScoreMoment {
  double at_s, value;
};

std::vector<ScoreMoment> moments(const ProbeScore& s, double every_s) {
  std::vector<ScoreMoment> all;
  for (size_t n = 0; n < s.gain.points.size(); ++n) {
    const GainPoint& p = s.gain.points[n];
    if (every_s > 0 && n > 0 && s.gain.points[n - 1].db != p.db)
      for (double t = s.gain.points[n - 1].at_s + every_s; t < p.at_s - 1e-9; t += every_s) {
        const double a = s.gain.amplitude_at(t);
        all.push_back({t, a > 0 ? 20 * std::log10(a) : silent_db});
      }
    all.push_back({p.at_s, p.db});
  }
  for (const PanMove& m : s.moves) {
    all.push_back({m.from_s, m.position});
    if (!m.to) continue;
    if (every_s > 0)
      for (double t = m.from_s + every_s; t < m.until_s - 1e-9; t += every_s) all.push_back({t, position_at({m}, t)});
    all.push_back({m.until_s, *m.to});
  }
  return all;
}

std::string level_text(double db) { return std::isinf(db) ? "silence" : fmt::format("{:g} dB", db); }
std::string position_text(double p) {
  if (p == 0) return "the middle";
  const char* side = p < 0 ? "left" : "right";
  return std::abs(p) == 100 ? fmt::format("hard {}", side) : fmt::format("{:g} {}", std::abs(p), side);
}

}  // namespace

std::string score_csv(const ProbeScore& s) {
  const auto all = moments(s, 0);
  if (all.empty()) return {};
  std::string text = s.moves.empty() ? "seconds,db\r\n" : "seconds,position\r\n";
  for (const ScoreMoment& m : all)
    text +=
        fmt::format("{:.6g},{}\r\n", m.at_s, std::isinf(m.value) ? std::string("-inf") : fmt::format("{:g}", m.value));
  return text;
}

std::vector<std::string> score_steps(const ProbeScore& s) {
  std::vector<std::string> steps;
  for (const GainEvent& e : s.gain.events)
    steps.push_back(e.length_s == 0 ? fmt::format("{:.3f} s: step from {} to {}", e.at_s, level_text(e.from_db),
                                                  level_text(e.to_db))
                                    : fmt::format("{:.3f} s: from {} straight to {} at {:.3f} s", e.at_s,
                                                  level_text(e.from_db), level_text(e.to_db), e.until_s()));
  for (const PanMove& m : s.moves)
    steps.push_back(m.to ? fmt::format("{:.3f} s: from {} straight to {} at {:.3f} s", m.from_s,
                                       position_text(m.position), position_text(*m.to), m.until_s)
                         : fmt::format("{:.3f} s: {}", m.from_s, position_text(m.position)));
  if (s.crossfade) {
    steps.push_back(fmt::format("Put the first file at {:.3f} s and the second, on the same track, at {:.3f} s.",
                                s.crossfade->a_at_s, s.crossfade->b_at_s));
    steps.push_back(fmt::format("Crossfade from the first to the second from {:.3f} to {:.3f} s.",
                                s.crossfade->fade_from_s, s.crossfade->fade_until_s));
  }
  for (const TrimSection& t : s.sections)
    steps.push_back(t.first_db == 0
                        ? fmt::format("{:.3f} s: both gains at 0 dB", t.from_s)
                        : fmt::format("{:.3f} s: {:+g} dB first, {:+g} dB after it", t.from_s, t.first_db, t.then_db));
  return steps;
}

namespace {

void put_length(std::vector<uint8_t>& bytes, uint32_t value) {  // variable length, seven bits a byte
  uint8_t part[5];
  int count = 0;
  do part[count++] = uint8_t(value & 0x7f);
  while (value >>= 7);
  while (count-- > 0) bytes.push_back(uint8_t(part[count] | (count > 0 ? 0x80 : 0)));
}

void put_number(std::vector<uint8_t>& bytes, uint32_t value, int count) {
  while (count-- > 0) bytes.push_back(uint8_t(value >> (8 * count)));
}

int controller_value(const ProbeScore& s, double value) {
  if (s.moves.empty())
    return std::isinf(value) ? 0 : std::clamp(int(std::lround(127 * std::pow(10, value / 40))), 0, 127);
  return std::clamp(int(std::lround(64 + value * (value < 0 ? 0.64 : 0.63))), 0, 127);
}

}  // namespace

std::vector<uint8_t> score_midi(const ProbeScore& s) {
  const auto all = moments(s, 0.01);
  if (all.empty()) return {};
  std::vector<uint8_t> track{0, 0xff, 0x51, 3};
  put_number(track, 500000, 3);  // 120 quarter notes a minute, 500 ticks each
  const uint8_t controller = s.moves.empty() ? 7 : 10;
  uint32_t last = 0;
  int sent = -1;
  for (const ScoreMoment& m : all) {
    const auto at = uint32_t(std::lround(m.at_s * 1000));
    const int value = controller_value(s, m.value);
    if (value == sent) continue;
    put_length(track, at - last);
    track.insert(track.end(), {0xb0, controller, uint8_t(value)});
    last = at, sent = value;
  }
  put_length(track, uint32_t(std::lround(s.length_s * 1000)) - last);
  track.insert(track.end(), {0xff, 0x2f, 0});
  std::vector<uint8_t> file{'M', 'T', 'h', 'd'};
  put_number(file, 6, 4), put_number(file, 0, 2), put_number(file, 1, 2), put_number(file, 500, 2);
  file.insert(file.end(), {'M', 'T', 'r', 'k'});
  put_number(file, uint32_t(track.size()), 4);
  file.insert(file.end(), track.begin(), track.end());
  return file;
}

}  // namespace heathmist
