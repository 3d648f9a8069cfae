// Blind tests on disk.
#include "core/hearing/blind_test.hpp"
#include "core/json_place.hpp"

namespace heathmist {

namespace {

constexpr size_t most_rounds_kept = 5000;  // void ones too

Json json_of(const BlindStimulus& s) {
  Json json{{"name", s.name}};
  if (!s.trial.empty()) json["trial"] = s.trial;
  if (!s.content.empty()) json["content"] = s.content;
  json["gain_db"] = s.gain_db;
  if (s.value) json["value"] = *s.value;
  return json;
}

Json json_of(const BlindAnswer& a) {
  Json json{{"at_ms", a.at_ms}, {"took_s", a.took_s}};
  if (a.button >= 0) json["button"] = a.button;
  if (!a.grades.empty()) json["grades"] = a.grades;
  if (!a.void_why.empty()) json["void"] = a.void_why;
  return json;
}

BlindStimulus stimulus_from(const JsonPlace& place) {
  BlindStimulus s{place.at("name").text()};
  if (place.has("trial")) s.trial = place.at("trial").text();
  if (place.has("content")) s.content = place.at("content").text();
  s.gain_db = place.at("gain_db").number();
  if (place.has("value")) s.value = place.at("value").number();
  return s;
}

BlindAnswer answer_from(const JsonPlace& place, const BlindDesign& design) {
  BlindAnswer a;
  const double at_ms = place.at("at_ms").number();
  if (!(at_ms >= 0 && at_ms < 1e15)) place.at("at_ms").refuse("must be milliseconds since 1970");
  a.at_ms = int64_t(at_ms), a.took_s = place.at("took_s").number();
  if (place.has("button")) a.button = place.at("button").whole(0, 2);
  if (place.has("grades"))
    for (const JsonPlace& g : place.at("grades").list()) a.grades.push_back(g.number());
  if (place.has("void")) a.void_why = place.at("void").text();
  if (!a.void_why.empty()) return a;
  try {
    check_answer(design, a);
  } catch (const std::invalid_argument& error) {
    place.refuse(std::string("is no answer: ") + error.what());
  }
  return a;
}

LadderDesign ladder_from(const JsonPlace& place) {
  LadderDesign ladder;
  try {
    ladder.of = ladder_of(place.at("of").text());
  } catch (const std::invalid_argument& error) {
    place.at("of").refuse(std::string("is none: ") + error.what());
  }
  if (place.has("codec")) ladder.codec = place.at("codec").text();
  if (place.has("fold_about_hz")) ladder.fold_about_hz = place.at("fold_about_hz").number();
  return ladder;
}

Json json_of(const LadderDesign& ladder) {
  Json json{{"of", name_of(ladder.of)}};
  if (!ladder.codec.empty()) json["codec"] = ladder.codec;
  if (ladder.fold_about_hz > 0) json["fold_about_hz"] = ladder.fold_about_hz;
  return json;
}

StaircaseRule rule_from(const JsonPlace& place) {
  StaircaseRule rule;
  rule.right_to_go_down = place.at("right_to_go_down").whole(1, 3);
  rule.rungs = size_t(place.at("rungs").whole(3, 1000));
  rule.start = size_t(place.at("start").whole(0, int(rule.rungs) - 1));
  rule.reversals = place.at("reversals").whole(2, 100);
  return rule;
}

}  // namespace

Json blind_test_json(const BlindTest& t) {
  Json stimuli = Json::array(), answers = Json::array();
  for (const BlindStimulus& s : t.stimuli) stimuli.push_back(json_of(s));
  for (const BlindAnswer& a : t.answers) answers.push_back(json_of(a));
  Json json{{"id", t.id},
            {"master", t.master},
            {"from_s", t.from_s},
            {"until_s", t.until_s},
            {"method", name_of(t.design.method)},
            {"rounds", t.design.rounds},
            {"catches", t.design.catches}};
  if (t.design.method == BlindMethod::threshold)
    json["staircase"] = {{"right_to_go_down", t.design.rule.right_to_go_down},
                         {"rungs", t.design.rule.rungs},
                         {"start", t.design.rule.start},
                         {"reversals", t.design.rule.reversals}};
  if (t.design.ladder) json["ladder"] = json_of(*t.design.ladder);
  if (!t.unit.empty()) json["unit"] = t.unit;
  json["stimuli"] = stimuli;
  json["key_sha256"] = t.key.hash, json["sealed_key"] = t.key.box;
  json["answers"] = answers;
  return json;
}

BlindTest blind_test_from(const JsonPlace& place) {
  BlindTest t;
  t.id = place.at("id").text(), t.master = place.at("master").text();
  t.from_s = place.at("from_s").number(), t.until_s = place.at("until_s").number();
  try {
    t.design.method = blind_method(place.at("method").text());
  } catch (const std::invalid_argument& error) {
    place.at("method").refuse(std::string("is none: ") + error.what());
  }
  t.design.rounds = place.at("rounds").whole(1, 1000);
  if (place.has("catches")) t.design.catches = place.at("catches").number();
  if (place.has("staircase")) t.design.rule = rule_from(place.at("staircase"));
  if (place.has("ladder")) t.design.ladder = ladder_from(place.at("ladder"));
  if (place.has("unit")) t.unit = place.at("unit").text();
  for (const JsonPlace& s : place.at("stimuli").list()) t.stimuli.push_back(stimulus_from(s));
  t.design.stimuli = int(t.stimuli.size());
  try {
    check_design(t.design);
  } catch (const std::invalid_argument& error) {
    place.refuse(std::string("is no blind test: ") + error.what());
  }
  t.key = {place.at("key_sha256").text(), place.at("sealed_key").text()};
  const auto answers = place.at("answers").list();
  if (answers.size() > most_rounds_kept) place.at("answers").refuse("are more than anybody gives");
  for (const JsonPlace& a : answers) t.answers.push_back(answer_from(a, t.design));
  return t;
}

}  // namespace heathmist
