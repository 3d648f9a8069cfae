#include "core/bench/document.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <fstream>
#include <random>

#include "core/audio/clip.hpp"
#include "core/audio/write.hpp"

namespace heathmist {

using Json = nlohmann::ordered_json;

FileState state_of(const FileRef& ref) {
  std::error_code trouble;
  if (!std::filesystem::is_regular_file(ref.file, trouble)) return FileState::missing;
  return ref.mark.empty() || content_mark(ref.file) == ref.mark ? FileState::present : FileState::changed;
}

Fit with_hold(Fit fit, const FitHold& hold) {
  fit.delay_samples = hold.delay_samples.value_or(fit.delay_samples);
  fit.drift_ppm = hold.drift_ppm.value_or(fit.drift_ppm);
  fit.gain_db = hold.gain_db.value_or(fit.gain_db);
  if (hold.inverted)
    for (auto& p : fit.pairs) p.inverted = *hold.inverted;
  if (hold.swapped && fit.pairs.size() >= 2 && *hold.swapped != fit.swapped())
    std::swap(fit.pairs[0].ret, fit.pairs[1].ret);
  if (hold.any()) fit.trusted = true;
  return fit;
}

std::string title_of(const Trial& trial) {
  return trial.name.empty() && trial.chain ? title_of(*trial.chain) : trial.name;
}

Master* Bench::master(const std::string& id) {
  const auto it = std::find_if(masters.begin(), masters.end(), [&](const Master& m) { return m.id == id; });
  return it == masters.end() ? nullptr : &*it;
}

Master* Bench::master_of(const std::string& trial_id) {
  const auto it = std::find_if(masters.begin(), masters.end(), [&](const Master& m) {
    return std::any_of(m.trials.begin(), m.trials.end(), [&](const Trial& t) { return t.id == trial_id; });
  });
  return it == masters.end() ? nullptr : &*it;
}

Trial* Bench::trial(const std::string& id) {
  Master* owner = master_of(id);
  if (!owner) return nullptr;
  return &*std::find_if(owner->trials.begin(), owner->trials.end(), [&](const Trial& t) { return t.id == id; });
}

std::string fresh_id() {
  static std::mt19937_64 chance(std::random_device{}());
  return fmt::format("{:012x}", chance() & 0xffffffffffffULL);
}

namespace {

template <class T>
void put(Json& to, const char* key, const std::optional<T>& value) {
  if (value) to[key] = *value;
}

Json json_of(const FileRef& ref, const std::filesystem::path& folder) {
  const auto file = std::filesystem::absolute(ref.file).lexically_normal();
  const auto relative = file.lexically_relative(folder);
  return {{"file", (relative.empty() ? file : relative).generic_string()}, {"mark", ref.mark}};
}

constexpr const char* part_names[] = {"all", "channel", "mid", "side"};

Json json_of(const FitBy& by) {
  Json json{{"part", part_names[int(by.part)]}};
  if (by.part == FitBy::Part::channel) json["channel"] = by.channel;
  if (by.high_hz > 0) json["low_hz"] = by.low_hz, json["high_hz"] = by.high_hz;
  return json;
}

FitBy by_from(const Json& json) {
  const std::string part = json.at("part");
  const auto found = std::find(std::begin(part_names), std::end(part_names), part);
  if (found == std::end(part_names)) throw std::invalid_argument("a part that is not known");
  return {FitBy::Part(found - std::begin(part_names)), json.value("channel", 0), json.value("low_hz", 0.0),
          json.value("high_hz", 0.0)};
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
  return json;
}

FileRef ref_from(const Json& json, const std::filesystem::path& folder) {
  std::filesystem::path file = json.at("file").get<std::string>();
  if (file.empty()) throw std::invalid_argument("a file without a name");
  if (file.is_relative()) file = (folder / file).lexically_normal();
  return {file, json.value("mark", "")};
}

template <class T>
std::optional<T> maybe(const Json& json, const char* key) {
  return json.contains(key) ? std::optional<T>(json.at(key).get<T>()) : std::nullopt;
}

Trial trial_from(const Json& json, const std::filesystem::path& folder) {
  const Json hold = json.value("hold", Json::object());
  return {json.at("id"),
          json.at("name"),
          json.contains("chain") ? FileRef() : ref_from(json.at("return"), folder),
          {maybe<double>(hold, "delay_samples"), maybe<double>(hold, "drift_ppm"), maybe<double>(hold, "gain_db"),
           maybe<bool>(hold, "inverted"), maybe<bool>(hold, "swapped"),
           hold.contains("by") ? std::optional(by_from(hold.at("by"))) : std::nullopt},
          json.contains("chain") ? std::optional(unchecked_chain_from_json(json.at("chain"), folder)) : std::nullopt};
}

Bench bench_from(const Json& json, const std::filesystem::path& folder) {
  Bench bench;
  bench.name = json.at("name");
  bench.settings = json.value("settings", Json::object());
  for (const Json& m : json.at("masters")) {
    Master master{m.at("id"), m.at("name"), ref_from(m.at("audio"), folder), {}};
    for (const Json& t : m.at("trials")) master.trials.push_back(trial_from(t, folder));
    if (m.contains("album")) master.album = m.at("album");
    bench.masters.push_back(std::move(master));
  }
  for (const Json& c : json.value("chains", Json::array()))
    bench.chains.push_back(unchecked_chain_from_json(c, folder));
  if (json.contains("floor")) {
    const Json& floor = json.at("floor");
    bench.floor = Floor{floor.at("name"), ref_from(floor.at("recording"), folder), {}};
    if (floor.contains("master")) bench.floor->master = ref_from(floor.at("master"), folder);
  }
  return bench;
}

std::filesystem::path folder_of(const std::filesystem::path& file) {
  return std::filesystem::absolute(file).lexically_normal().parent_path();
}

}  // namespace

Bench load_bench(const std::filesystem::path& file) {
  std::ifstream in(file, std::ios::binary);
  if (!in) throw InputError(file, "this bench cannot be opened; check the name and its permissions");
  Json json;
  try {
    json = Json::parse(in);
    const auto& head = json.at("heathmist_bench");
    if (head.get<int>() > Bench::version)
      throw InputError(
          file, fmt::format("this bench was saved by a newer Heathmist (format {}); update the program to open it",
                            head.get<int>()));
    return bench_from(json, folder_of(file));
  } catch (const InputError&) {
    throw;
  } catch (const std::exception&) {
    throw InputError(file, "this is not a bench, or a broken one; open a saved copy of it instead");
  }
}

void save_bench(const Bench& bench, const std::filesystem::path& file) {
  const auto folder = folder_of(file);
  Json masters = Json::array();
  for (const Master& m : bench.masters) {
    Json trials = Json::array();
    for (const Trial& t : m.trials) trials.push_back(json_of(t, folder));
    masters.push_back({{"id", m.id}, {"name", m.name}, {"audio", json_of(m.audio, folder)}, {"trials", trials}});
    if (!m.album.empty()) masters.back()["album"] = m.album;
  }
  Json json{{"heathmist_bench", Bench::version}, {"name", bench.name}, {"masters", masters}};
  if (bench.floor) {
    json["floor"] = {{"name", bench.floor->name}, {"recording", json_of(bench.floor->recording, folder)}};
    if (bench.floor->master) json["floor"]["master"] = json_of(*bench.floor->master, folder);
  }
  if (!bench.chains.empty()) {
    json["chains"] = Json::array();
    for (const Chain& c : bench.chains) json["chains"].push_back(chain_json(c, folder));
  }
  json["settings"] = bench.settings;
  write_whole(file, json.dump(2) + "\n");
}

}  // namespace heathmist
