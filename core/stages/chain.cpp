#include "core/stages/chain.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <fstream>

#include "core/audio/write.hpp"
#include "core/printable.hpp"
#include "core/stages/stage_context.hpp"

namespace heathmist {

namespace {

std::vector<std::vector<StageFamily> (*)()>& offered() {
  static std::vector<std::vector<StageFamily> (*)()> all;
  return all;
}

const std::vector<StageFamily>& families() {
  static const std::vector<StageFamily> all = [] {
    std::vector<StageFamily> list;
    for (auto part : {codec_stages, converter_stages, word_length_stages, level_stages, filter_stages, dynamics_stages,
                      convolution_stages, fault_stages, external_stages, lv2_stages})
      for (StageFamily& f : part()) list.push_back(std::move(f));
    for (const auto part : offered())
      for (StageFamily& f : part()) list.push_back(std::move(f));
    return list;
  }();
  return all;
}

const StageFamily* family(const std::string& type) {
  const auto& all = families();
  const auto it = std::find_if(all.begin(), all.end(), [&](const StageFamily& f) { return f.type.type == type; });
  return it == all.end() ? nullptr : &*it;
}

std::string list_of(const std::vector<std::string>& words) { return fmt::format("{}", fmt::join(words, ", ")); }

/// What is wrong with a value; empty where nothing is.
std::string fault_of(const Parameter& p, const Json& value) {
  using Kind = Parameter::Kind;
  const std::string unit = p.unit.empty() ? "" : " " + p.unit;
  if (p.kind == Kind::flag) return value.is_boolean() ? "" : "it takes true or false";
  if (p.kind == Kind::file || p.kind == Kind::text) return value.is_string() ? "" : "it takes text";
  if (p.kind == Kind::choice) {
    const bool known =
        value.is_string() && std::find(p.choices.begin(), p.choices.end(), value.get<std::string>()) != p.choices.end();
    return known ? "" : "it takes one of " + list_of(p.choices);
  }
  if (!value.is_number() || !std::isfinite(value.get<double>()) || value.get<double>() < p.low ||
      value.get<double>() > p.high)
    return fmt::format("it takes {} to {}{}", plain(p.low), plain(p.high), unit);
  if (p.kind == Kind::whole && value.get<double>() != std::floor(value.get<double>()))
    return fmt::format("it takes whole numbers from {} to {}{}", plain(p.low), plain(p.high), unit);
  return "";
}

void check(const Stage& stage, size_t place) {
  const StageFamily* f = family(stage.type);
  if (!f) {
    std::vector<std::string> known;
    for (const auto& t : stage_types()) known.push_back(t.type);
    throw ChainError(
        fmt::format("stage {}: there is no stage '{}'; the stages are {}", place, stage.type, list_of(known)));
  }
  for (const auto& [key, value] : stage.values.items()) {
    const Parameter* p = f->type.parameter(key);
    if (!p) {
      std::vector<std::string> known;
      for (const auto& q : f->type.parameters) known.push_back(q.key);
      throw ChainError(fmt::format("stage {} ({}): it has no parameter '{}'; it has {}", place, stage.type, key,
                                   known.empty() ? "none" : list_of(known)));
    }
    if (const auto fault = fault_of(*p, value); !fault.empty())
      throw ChainError(fmt::format("stage {} ({}): {} is {}; {}", place, stage.type, key, value.dump(), fault));
  }
}

Stage stage_from(const Json& json, size_t place, const std::filesystem::path& folder) {
  if (!json.is_object() || !json.contains("type") || !json["type"].is_string())
    throw ChainError(fmt::format("stage {}: it names no type; write {{\"type\": \"codec\", ...}}", place));
  Stage stage{json["type"], Json::object(), true};
  for (const auto& [key, value] : json.items()) {
    if (key == "type") continue;
    if (key == "on") {
      if (!value.is_boolean()) throw ChainError(fmt::format("stage {}: on takes true or false", place));
      stage.on = value;
    } else {
      stage.values[key] = value;
    }
  }
  const StageType* type = stage_type(stage.type);
  for (const Parameter& p : type ? type->parameters : std::vector<Parameter>()) {
    if (p.kind != Parameter::Kind::file || !stage.values.contains(p.key) || !stage.values[p.key].is_string()) continue;
    const std::filesystem::path file = stage.values[p.key].get<std::string>();
    if (!file.empty() && file.is_relative()) stage.values[p.key] = (folder / file).lexically_normal().string();
  }
  return stage;
}

}  // namespace

void offer_stages(std::vector<StageFamily> (*stages)()) { offered().push_back(stages); }

AudioStreamPtr run_stage(const Stage& stage, AudioStreamPtr in, StageContext& context) {
  const StageFamily* f = family(stage.type);
  return f->make(std::move(in), Values(f->type, stage), context);
}

const char* name_of(Parameter::Kind kind) {
  constexpr const char* names[] = {"number", "whole", "choice", "flag", "file", "text"};
  return names[int(kind)];
}

const Parameter* StageType::parameter(const std::string& key) const {
  const auto it = std::find_if(parameters.begin(), parameters.end(), [&](const Parameter& p) { return p.key == key; });
  return it == parameters.end() ? nullptr : &*it;
}

const std::vector<StageType>& stage_types() {
  static const std::vector<StageType> types = [] {
    std::vector<StageType> list;
    for (const StageFamily& f : families()) list.push_back(f.type);
    return list;
  }();
  return types;
}

const StageType* stage_type(const std::string& type) {
  const StageFamily* f = family(type);
  return f ? &f->type : nullptr;
}

void check(const Chain& chain) {
  if (chain.rounds < 1 || chain.rounds > 100)
    throw ChainError(fmt::format("rounds is {}; it takes 1 to 100", chain.rounds));
  for (size_t n = 0; n < chain.stages.size(); ++n) check(chain.stages[n], n + 1);
}

Chain chain_from_json(const Json& json, const std::filesystem::path& folder) {
  Chain chain = unchecked_chain_from_json(json, folder);
  check(chain);
  return chain;
}

Chain unchecked_chain_from_json(const Json& json, const std::filesystem::path& folder) {
  if (!json.is_object() || !json.contains("stages") || !json["stages"].is_array())
    throw ChainError("this is no chain; write {\"stages\": [{\"type\": ...}, ...]}");
  Chain chain;
  if (json.contains("name") && json["name"].is_string()) chain.name = json["name"];
  if (json.contains("rounds")) {
    if (!json["rounds"].is_number_integer()) throw ChainError("rounds takes a whole number from 1 to 100");
    chain.rounds = int(std::clamp<int64_t>(json["rounds"].get<int64_t>(), -1, 1000));
  }
  for (const Json& s : json["stages"]) chain.stages.push_back(stage_from(s, chain.stages.size() + 1, folder));
  return chain;
}

Json chain_json(const Chain& chain, const std::filesystem::path& folder) {
  Json stages = Json::array();
  for (const Stage& stage : chain.stages) {
    Json json{{"type", stage.type}};
    if (!stage.on) json["on"] = false;
    for (const auto& [key, value] : stage.values.items()) {
      json[key] = value;
      const StageType* type = stage_type(stage.type);
      const Parameter* p = type ? type->parameter(key) : nullptr;
      if (!p || p->kind != Parameter::Kind::file || folder.empty() || !value.is_string() ||
          value.get<std::string>().empty())
        continue;
      const auto relative = std::filesystem::path(value.get<std::string>()).lexically_relative(folder);
      if (!relative.empty()) json[key] = relative.generic_string();
    }
    stages.push_back(std::move(json));
  }
  Json json = Json::object();
  if (!chain.name.empty()) json["name"] = chain.name;
  json["stages"] = std::move(stages);
  if (chain.rounds != 1) json["rounds"] = chain.rounds;
  return json;
}

Chain load_chain(const std::filesystem::path& file) {
  Json json;
  try {
    json = json_from_file(file);
  } catch (const JsonError& error) {
    throw InputError(file, std::string(error.what()) + ", so no chain; write {\"stages\": [{\"type\": ...}, ...]}");
  }
  try {
    return chain_from_json(json, std::filesystem::absolute(file).lexically_normal().parent_path());
  } catch (const ChainError& error) {
    throw InputError(file, error.what());
  }
}

namespace {

/// Hyphens before a number become minus signs.
std::string with_minus(const std::string& words) {
  std::string result;
  for (size_t n = 0; n < words.size(); ++n) {
    const bool minus =
        words[n] == '-' && (n == 0 || words[n - 1] == ' ') && n + 1 < words.size() && isdigit(words[n + 1]);
    result += minus ? "\u2212" : std::string(1, words[n]);
  }
  return result;
}

}  // namespace

std::string label_of(const Stage& stage) {
  const StageFamily* f = family(stage.type);
  try {
    check(stage, 1);
    return with_minus(f->words(Values(f->type, stage)));
  } catch (const ChainError&) {
    return stage.type;
  }
}

std::string title_of(const Chain& chain) { return chain.name.empty() ? label_of(chain) : chain.name; }

bool counts(const Parameter& parameter, const Stage& stage) {
  const StageType* type = stage_type(stage.type);
  const Parameter* switching = type && !parameter.when.empty() ? type->parameter(parameter.when) : nullptr;
  if (!switching) return true;
  const Json value = stage.values.contains(switching->key) ? stage.values[switching->key] : switching->initial;
  const auto& ones = parameter.when_one_of;
  return value.is_string() && std::find(ones.begin(), ones.end(), value.get<std::string>()) != ones.end();
}

std::string label_of(const Chain& chain) {
  std::string words;
  for (const Stage& stage : chain.stages)
    if (stage.on) words += (words.empty() ? "" : ", ") + label_of(stage);
  if (words.empty()) words = "nothing";
  return chain.rounds > 1 ? fmt::format("{} times: {}", chain.rounds, words) : words;
}

namespace {

bool same_content(const std::filesystem::path& a, const std::filesystem::path& b) {
  std::error_code trouble;
  if (std::filesystem::file_size(a, trouble) != std::filesystem::file_size(b, trouble) || trouble) return false;
  std::ifstream first(a, std::ios::binary), second(b, std::ios::binary);
  return std::equal(std::istreambuf_iterator<char>(first), {}, std::istreambuf_iterator<char>(second));
}

/// Puts a kept file where it is wanted; what is there already with the same content stays. Throws InputError,
/// OutputRefused.
void keep_file(const PendingFile& kept, Destination to) {
  if (to.file = kept.to; same_content(kept.from, to.file)) return;
  AtomicFile out(to);
  std::error_code ignored;
  out.expect(int64_t(std::filesystem::file_size(kept.from, ignored)));
  std::ifstream in(kept.from, std::ios::binary);
  std::vector<char> bytes(1 << 16);
  while (in.read(bytes.data(), std::streamsize(bytes.size())), in.gcount() > 0)
    out.write({bytes.data(), size_t(in.gcount())});
  if (!in.eof()) throw InputError(kept.to, "the encoded file cannot be read back to be kept; check the disk");
  out.commit();
}

void add_note(StageReport& report, const std::string& words) {
  report.note += (report.note.empty() ? "" : "; ") + words;
}

void keep_files(const std::vector<PendingFile>& kept, const std::filesystem::path& origin, const Chain& chain,
                bool replace, std::vector<StageReport>& reports) {
  Destination to{std::filesystem::path(), replace, files_read_by(chain)};
  to.inputs.push_back(origin);
  for (const PendingFile& k : kept) {
    try {
      keep_file(k, to);
    } catch (const OutputRefused& error) {  // the return is right all the same
      add_note(reports[k.report], std::string("not kept: ") + error.what());
    } catch (const InputError& error) {
      throw ChainError(std::string("the encoded file cannot be kept: ") + error.what());
    }
  }
}

/// What was given and does not count with the choices that were made is said, not passed over.
void tell_idle(const Stage& stage, StageReport& report) {
  for (const Parameter& p : stage_type(stage.type)->parameters) {
    if (!stage.values.contains(p.key) || counts(p, stage)) continue;
    const Parameter* by = stage_type(stage.type)->parameter(p.when);
    const Json chosen = stage.values.contains(p.when) ? stage.values[p.when] : by->initial;
    add_note(report, fmt::format("{} is not used: {} is {}", p.key, p.when, chosen.get<std::string>()));
  }
}

/// The stage as it may run: a file it may not keep is left out, and said.
Stage allowed(const Stage& stage, const Grant& grant, StageReport& report) {
  const auto wanted = capability_of(stage);
  if (!wanted || grant(stage)) return stage;
  if (*wanted != Capability::write_file)
    throw Disarmed(fmt::format("it would {}, which has not been allowed on this machine; look at it and allow it",
                               printable(deed_of(stage))));
  Stage without = stage;
  without.values.erase(stage_type(stage.type)->may_when);
  report.note = "the encoded file is not kept: that has not been allowed here";
  return without;
}

}  // namespace

std::vector<std::filesystem::path> files_read_by(const Chain& chain) {
  std::vector<std::filesystem::path> files;
  for (const Stage& stage : chain.stages) {
    const StageType* type = stage_type(stage.type);
    for (const Parameter& p : type ? type->parameters : std::vector<Parameter>())
      if (p.kind == Parameter::Kind::file && p.key != type->may_when && stage.values.contains(p.key) &&
          stage.values[p.key].is_string() && stage.values[p.key] != "")
        files.push_back(stage.values[p.key].get<std::string>());
  }
  return files;
}

Passed pass(std::shared_ptr<const Clip> master, const Chain& chain, const Job& job, const PassOptions& options) {
  check(chain);
  Passed passed{master, {}};
  const auto origin = master->path();
  std::vector<PendingFile> kept;
  const double steps = chain.rounds * double(chain.stages.size() + 1);
  double done = 0;
  for (int round = 0; round < chain.rounds; ++round) {
    passed.stages.clear();
    kept.clear();
    AudioStreamPtr flow = stream_of(passed.ret);
    size_t place = options.first_place - 1;
    for (const Stage& stage : chain.stages) {
      ++place;
      done += 1;
      if (!stage.on) continue;
      job.check();
      const StageFamily* f = family(stage.type);
      passed.stages.push_back({stage.type});
      const size_t report = passed.stages.size() - 1;
      StageContext context{origin, passed.stages.back(), job.part((done - 1) / steps, done / steps), kept, report};
      try {
        const Stage runs = allowed(stage, options.grant, passed.stages.back());
        flow = f->make(std::move(flow), Values(f->type, runs), context);
        tell_idle(stage, passed.stages[report]);
      } catch (const Disarmed& error) {
        throw Disarmed(fmt::format("stage {} ({}): {}", place, stage.type, error.what()));
      } catch (const ChainError& error) {
        throw ChainError(fmt::format("stage {} ({}): {}", place, stage.type, error.what()));
      }
    }
    done += 1;
    if (!passed.stages.empty()) passed.ret = clip_of(*flow, origin, job.part((done - 1) / steps, done / steps));
  }
  keep_files(kept, origin, chain, options.replace_kept, passed.stages);
  return passed;
}

namespace {

WordFormat label_of(const Clip& ret, const Chain& chain, const std::filesystem::path& file) {
  const auto last = std::find_if(chain.stages.rbegin(), chain.stages.rend(), [](const Stage& s) { return s.on; });
  const bool cut = last != chain.stages.rend() && last->type == "word_length";
  const bool flac = file.extension() == ".flac";
  if (!cut) return flac ? WordFormat::pcm24 : WordFormat::float32;
  const int bits = ret.format().container_bits.value_or(24);
  if (flac && bits > 24) throw InputError(file, "FLAC holds at most 24 bits; write a .wav or cut to fewer bits");
  return bits <= 16 ? WordFormat::pcm16 : bits <= 24 ? WordFormat::pcm24 : WordFormat::pcm32;
}

}  // namespace

void write_return(const Passed& passed, const Chain& chain, const Destination& to, const Job& job) {
  const auto& file = to.file;
  if (file.extension() != ".wav" && file.extension() != ".flac")
    throw InputError(file, "a return is written as .wav or .flac; choose one of these endings");
  const auto& f = passed.ret->format();
  ClipWriter out(to, f.sample_rate_hz, f.channels, label_of(*passed.ret, chain, file));
  write_clip(out, *passed.ret, job);
  out.finish();
}

Json stages_json() {
  Json list = Json::array();
  for (const StageType& t : stage_types()) {
    Json parameters = Json::array();
    for (const Parameter& p : t.parameters) {
      Json json{{"key", p.key}, {"kind", name_of(p.kind)}, {"unit", p.unit}, {"default", p.initial}, {"what", p.what}};
      if (p.kind == Parameter::Kind::number || p.kind == Parameter::Kind::whole)
        json["min"] = p.low, json["max"] = p.high;
      if (p.kind == Parameter::Kind::choice) json["choices"] = p.choices;
      if (!p.when.empty()) json["when"] = {{p.when, p.when_one_of}};
      parameters.push_back(std::move(json));
    }
    list.push_back({{"type", t.type},
                    {"title", t.title},
                    {"what", t.what},
                    {"needs_leave", t.may ? Json(word_of(*t.may)) : Json(nullptr)},
                    {"parameters", parameters}});
  }
  return {{"stages", list}};
}

Json Values::value(const char* key) const {
  const auto it = stage_->values.find(key);
  return it != stage_->values.end() ? *it : type_->parameter(key)->initial;
}

double Values::gain(const char* key) const { return std::pow(10.0, number(key) / 20); }

namespace parameter {
Parameter number(const char* key, const char* what, const char* unit, double low, double high, double initial) {
  return {key, Parameter::Kind::number, what, unit, low, high, initial};
}
Parameter whole(const char* key, const char* what, const char* unit, int low, int high, int initial) {
  return {key, Parameter::Kind::whole, what, unit, double(low), double(high), initial};
}
Parameter choice(const char* key, const char* what, std::vector<std::string> choices) {
  return {key, Parameter::Kind::choice, what, "", 0, 0, choices.front(), choices};
}
Parameter flag(const char* key, const char* what, bool initial) {
  return {key, Parameter::Kind::flag, what, "", 0, 0, initial};
}
Parameter only(Parameter parameter, const char* when, std::vector<std::string> one_of) {
  parameter.when = when;
  parameter.when_one_of = std::move(one_of);
  return parameter;
}
Parameter file(const char* key, const char* what) { return {key, Parameter::Kind::file, what, "", 0, 0, ""}; }
Parameter text(const char* key, const char* what, const char* initial) {
  return {key, Parameter::Kind::text, what, "", 0, 0, initial};
}
}  // namespace parameter

std::string plain(double value) {
  std::string text = fmt::format("{:.4f}", value);
  text.erase(text.find_last_not_of('0') + 1);
  if (text.ends_with('.')) text.pop_back();
  return text == "-0" ? "0" : text;
}

}  // namespace heathmist
