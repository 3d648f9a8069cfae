// The bench on disk: written, and read strictly.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <set>

#include "core/audio/atomic_file.hpp"
#include "core/audio/fingerprint.hpp"
#include "core/bench/marks.hpp"
#include "core/json_place.hpp"
#include "core/printable.hpp"

namespace heathmist {

namespace {

std::string hex_of(const std::string& bytes) {
  std::string text;
  for (const char c : bytes) text += fmt::format("{:02x}", uint8_t(c));
  return text;
}

template <class T>
void put(Json& to, const char* key, const std::optional<T>& value) {
  if (value) to[key] = *value;
}

Json json_of(const FileRef& ref, const std::filesystem::path& folder) {
  const auto file = std::filesystem::absolute(ref.file).lexically_normal();
  const auto relative = file.lexically_relative(folder);
  const std::string name = (relative.empty() ? file : relative).generic_string();
  Json json{{"file", name}};
  if (!is_utf8(name))
    json["file_bytes"] = hex_of(name);  // JSON is UTF-8: the name itself goes beside what can be read of it
  json["mark"] = ref.fingerprint;
  return json;
}

constexpr int most_versions = 100000;
constexpr const char* part_names[] = {"all", "channel", "mid", "side"};

Json json_of(const FitBy& by) {
  Json json{{"part", part_names[int(by.part)]}};
  if (by.part == FitBy::Part::channel) json["channel"] = by.channel;
  if (by.high_hz > 0) json["low_hz"] = by.low_hz, json["high_hz"] = by.high_hz;
  return json;
}

Json json_of(const Trial& trial, const std::filesystem::path& folder) {
  Json hold = Json::object();
  put(hold, "delay_samples", trial.hold.delay_samples);
  put(hold, "drift_ppm", trial.hold.drift_ppm);
  put(hold, "gain_db", trial.hold.gain_db);
  put(hold, "inverted", trial.hold.inverted);
  put(hold, "swapped", trial.hold.swapped);
  if (trial.hold.by) hold["by"] = json_of(*trial.hold.by);
  Json json{{"id", trial.id}, {"name", trial.name}};
  if (trial.chain)
    json["chain"] = chain_json(*trial.chain, folder);
  else
    json["return"] = json_of(trial.ret, folder);
  json["hold"] = hold;
  if (trial.version > 1) json["version"] = trial.version;
  for (const PutAside& a : trial.aside)
    json["aside"].push_back({{"code", a.code}, {"text", a.text}, {"detail", a.detail}, {"reason", a.reason}});
  return json;
}

Json json_of(const Mark& mark) {
  Json json{{"id", mark.id}, {"at_s", mark.at_s}};
  put(json, "until_s", mark.until_s);
  json["text"] = mark.text;
  if (!mark.trial.empty()) json["trial"] = mark.trial;
  return json;
}

Json json_of(const TestedEngine& engine, const std::filesystem::path& folder) {
  Json renders = Json::array();
  for (const EngineRender& r : engine.renders) {
    Json json{{"id", r.id}, {"kind", r.kind}};
    if (!r.render.file.empty()) json["render"] = json_of(r.render, folder);
    if (!r.control.empty()) json["control"] = r.control;
    if (r.score) json["score"] = *r.score;
    renders.push_back(std::move(json));
  }
  Json json{{"id", engine.id}, {"name", engine.name}, {"renders", renders}};
  if (!engine.stand_in.empty()) json["stand_in"] = engine.stand_in;
  return json;
}

std::string bytes_from_hex(const JsonPlace& place) {
  const std::string text = place.text();
  std::string bytes;
  for (size_t n = 0; n + 1 < text.size(); n += 2) {
    if (!isxdigit(uint8_t(text[n])) || !isxdigit(uint8_t(text[n + 1]))) place.refuse("must be hexadecimal digits");
    bytes += char(std::stoi(text.substr(n, 2), nullptr, 16));
  }
  return bytes;
}

FileRef ref_from(const JsonPlace& place, const std::filesystem::path& folder) {
  const JsonPlace named = place.at("file");
  std::filesystem::path file = place.has("file_bytes") ? bytes_from_hex(place.at("file_bytes")) : named.text();
  if (file.empty() || file.native().find('\0') != std::string::npos) named.refuse("must name a file");
  if (file.is_relative()) file = (folder / file).lexically_normal();
  const std::string print = place.has("mark") ? place.at("mark").text() : std::string();
  return {file, is_fingerprint(print) ? print : std::string()};  // what earlier versions kept said less
}

FitBy by_from(const JsonPlace& place) {
  const std::string part = place.at("part").text();
  const auto found = std::find(std::begin(part_names), std::end(part_names), part);
  if (found == std::end(part_names)) place.at("part").refuse("must be all, channel, mid or side");
  FitBy by{FitBy::Part(found - std::begin(part_names)), 0, 0, 0};
  if (place.has("channel")) by.channel = place.at("channel").whole(0, most_channels - 1);
  if (place.has("low_hz")) by.low_hz = place.at("low_hz").number();
  if (place.has("high_hz")) by.high_hz = place.at("high_hz").number();
  return by;
}

FitHold hold_from(const JsonPlace& place) {
  place.object();
  FitHold hold;
  if (place.has("delay_samples")) hold.delay_samples = place.at("delay_samples").number();
  if (place.has("drift_ppm")) hold.drift_ppm = place.at("drift_ppm").number();
  if (place.has("gain_db")) hold.gain_db = place.at("gain_db").number();
  if (place.has("inverted")) hold.inverted = place.at("inverted").flag();
  if (place.has("swapped")) hold.swapped = place.at("swapped").flag();
  if (place.has("by")) hold.by = by_from(place.at("by"));
  return hold;
}

Chain chain_from(const JsonPlace& place, const std::filesystem::path& folder) {
  try {
    return unchecked_chain_from_json(place.json(), folder);
  } catch (const ChainError& error) {
    place.refuse(std::string("is no chain: ") + error.what());
  }
}

Trial trial_from(const JsonPlace& place, const std::filesystem::path& folder) {
  Trial trial{place.at("id").text(), place.at("name").text(), {}, {}};
  if (place.has("chain"))
    trial.chain = chain_from(place.at("chain"), folder);
  else
    trial.ret = ref_from(place.at("return"), folder);
  if (place.has("hold")) trial.hold = hold_from(place.at("hold"));
  if (place.has("version")) trial.version = place.at("version").whole(1, most_versions);
  if (place.has("aside"))
    for (const JsonPlace& a : place.at("aside").list())
      trial.aside.push_back({a.at("code").text(), a.at("text").text(), a.at("detail").text(), a.at("reason").text()});
  return trial;
}

Mark mark_from(const JsonPlace& place) {
  Mark mark{place.at("id").text(), place.at("text").text(), place.at("at_s").number()};
  if (mark.at_s < 0) place.at("at_s").refuse("must be 0 or more");
  if (place.has("until_s")) mark.until_s = place.at("until_s").number();
  if (mark.until_s && *mark.until_s <= mark.at_s) place.at("until_s").refuse("must be later than at_s");
  if (place.has("trial")) mark.trial = place.at("trial").text();
  return mark;
}

Master master_from(const JsonPlace& place, const std::filesystem::path& folder) {
  Master master{place.at("id").text(), place.at("name").text(), ref_from(place.at("audio"), folder), {}};
  for (const JsonPlace& t : place.at("trials").list()) master.trials.push_back(trial_from(t, folder));
  if (place.has("album")) master.album = place.at("album").text();
  if (place.has("marks"))
    for (const JsonPlace& m : place.at("marks").list()) master.marks.push_back(mark_from(m));
  if (place.has("earlier"))
    for (const JsonPlace& v : place.at("earlier").list()) master.earlier.push_back(ref_from(v, folder));
  std::stable_sort(master.marks.begin(), master.marks.end(), is_before);
  return master;
}

TestedEngine engine_from(const JsonPlace& place, const std::filesystem::path& folder) {
  TestedEngine engine{place.at("id").text(), place.at("name").text()};
  if (place.has("stand_in")) engine.stand_in = place.at("stand_in").text();
  for (const JsonPlace& r : place.at("renders").list()) {
    EngineRender render{r.at("id").text(), r.at("kind").text(), {}};
    if (r.has("render"))
      render.render = ref_from(r.at("render"), folder);
    else if (engine.stand_in.empty())
      r.refuse("lacks \"render\"");
    if (r.has("control")) render.control = r.at("control").text();
    if (r.has("score")) render.score = r.at("score").object();
    engine.renders.push_back(std::move(render));
  }
  return engine;
}

/// Results are known by id: two entries with one id would show each other's.
void renumber(Bench& bench, std::vector<std::string>* notes) {
  std::set<std::string> seen;
  int fresh = 0;
  auto own = [&](std::string& id) {
    if (!id.empty() && seen.insert(id).second) return;
    while (!seen.insert(id = fresh_id()).second)
      ;
    ++fresh;
  };
  for (Master& m : bench.masters) {
    own(m.id);
    for (Trial& t : m.trials) own(t.id);
    for (Mark& mark : m.marks) own(mark.id);
  }
  for (TestedEngine& e : bench.engines) {
    own(e.id);
    for (EngineRender& r : e.renders) own(r.id);
  }
  if (fresh && notes)
    notes->push_back(fmt::format("{} of its entries had the id of another, or none, and got {} own.", fresh,
                                 fresh == 1 ? "its" : "their"));
}

Bench bench_from(const JsonPlace& place, const std::filesystem::path& folder) {
  Bench bench;
  bench.name = place.at("name").text();
  if (place.has("settings")) bench.settings = place.at("settings").object();
  for (const JsonPlace& m : place.at("masters").list()) bench.masters.push_back(master_from(m, folder));
  if (place.has("chains"))
    for (const JsonPlace& c : place.at("chains").list()) bench.chains.push_back(chain_from(c, folder));
  if (place.has("engines"))
    for (const JsonPlace& e : place.at("engines").list()) bench.engines.push_back(engine_from(e, folder));
  if (place.has("responses"))
    for (const JsonPlace& r : place.at("responses").list()) bench.responses.push_back(ref_from(r, folder));
  if (place.has("blind"))
    for (const JsonPlace& t : place.at("blind").list()) bench.blind.push_back(blind_test_from(t));
  if (place.has("floor")) {
    const JsonPlace floor = place.at("floor");
    bench.floor = Floor{floor.at("name").text(), ref_from(floor.at("recording"), folder), {}};
    if (floor.has("master")) bench.floor->master = ref_from(floor.at("master"), folder);
  }
  return bench;
}

std::filesystem::path folder_of(const std::filesystem::path& file) {
  return std::filesystem::absolute(file).lexically_normal().parent_path();
}

}  // namespace

Bench bench_from_json(const Json& json, const std::filesystem::path& folder, const std::filesystem::path& from,
                      std::vector<std::string>* notes) {
  const auto head = json.is_object() ? json.find("heathmist_bench") : json.end();
  if (!json.is_object() || head == json.end())
    throw InputError(from, "this is no bench; open a bench that Heathmist saved");
  if (head->is_number_unsigned() && *head > Bench::version)
    throw InputError(from,
                     fmt::format("this bench was saved by a newer Heathmist (format {}); update the program to open it",
                                 head->dump()));
  try {
    const JsonPlace place(json, "");
    place.at("heathmist_bench").whole(1, Bench::version);
    Bench bench = bench_from(place, folder);
    renumber(bench, notes);
    return bench;
  } catch (const std::invalid_argument& error) {
    throw InputError(from, fmt::format("this bench is broken: {}; open a saved copy of it instead", error.what()));
  }
}

Bench load_bench(const std::filesystem::path& file, std::vector<std::string>* notes) {
  try {
    return bench_from_json(json_from_file(file), folder_of(file), file, notes);
  } catch (const JsonError& error) {
    throw InputError(
        file, fmt::format("this is not a bench, or a broken one: {}; open a saved copy of it instead", error.what()));
  }
}

namespace {

/// The oldest format that holds all of it.
int format_of(const Bench& bench) {
  const auto any = [&](auto of) { return std::any_of(bench.masters.begin(), bench.masters.end(), of); };
  const auto any_trial = [&](auto of) {
    return any([&](const Master& m) { return std::any_of(m.trials.begin(), m.trials.end(), of); });
  };
  if (any_trial([](const Trial& t) { return !t.aside.empty(); })) return Bench::version;
  if (any([](const Master& m) { return !m.earlier.empty(); })) return 4;
  const bool is_plain = !any([](const Master& m) { return !m.marks.empty(); }) && bench.engines.empty() &&
                        bench.responses.empty() && bench.blind.empty();
  return is_plain ? 2 : 3;
}

}  // namespace

Json bench_json(const Bench& bench, const std::filesystem::path& folder) {
  Json masters = Json::array();
  for (const Master& m : bench.masters) {
    Json trials = Json::array();
    for (const Trial& t : m.trials) trials.push_back(json_of(t, folder));
    masters.push_back({{"id", m.id}, {"name", m.name}, {"audio", json_of(m.audio, folder)}, {"trials", trials}});
    if (!m.album.empty()) masters.back()["album"] = m.album;
    if (!m.marks.empty()) masters.back()["marks"] = Json::array();
    for (const Mark& mark : m.marks) masters.back()["marks"].push_back(json_of(mark));
    for (const FileRef& v : m.earlier) masters.back()["earlier"].push_back(json_of(v, folder));
  }
  Json json{{"heathmist_bench", format_of(bench)}, {"name", bench.name}, {"masters", masters}};
  if (bench.floor) {
    json["floor"] = {{"name", bench.floor->name}, {"recording", json_of(bench.floor->recording, folder)}};
    if (bench.floor->master) json["floor"]["master"] = json_of(*bench.floor->master, folder);
  }
  if (!bench.chains.empty()) {
    json["chains"] = Json::array();
    for (const Chain& c : bench.chains) json["chains"].push_back(chain_json(c, folder));
  }
  if (!bench.engines.empty()) {
    json["engines"] = Json::array();
    for (const TestedEngine& e : bench.engines) json["engines"].push_back(json_of(e, folder));
  }
  if (!bench.responses.empty()) {
    json["responses"] = Json::array();
    for (const FileRef& r : bench.responses) json["responses"].push_back(json_of(r, folder));
  }
  if (!bench.blind.empty()) {
    json["blind"] = Json::array();
    for (const BlindTest& t : bench.blind) json["blind"].push_back(blind_test_json(t));
  }
  json["settings"] = bench.settings;
  return json;
}

void save_bench(const Bench& bench, const std::filesystem::path& file) {
  write_whole({file, true, files_of(bench)}, text_of(bench_json(bench, folder_of(file))) + "\n");
}

}  // namespace heathmist
