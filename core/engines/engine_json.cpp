#include <fmt/format.h>

#include <algorithm>
#include <functional>

#include "core/audio/clip.hpp"
#include "core/audio/folders.hpp"
#include "core/engines/engine.hpp"
#include "core/engines/shipped_engine_files.hpp"
#include "core/printable.hpp"

namespace heathmist {

namespace {

const std::vector<std::string> glides{"none", "linear", "one_pole", "raised_cosine"},
    kinds{"balance", "pan", "mono", "none"}, tapers{"linear", "sine", "square_root"},
    laws{"linear", "raised_cosine", "equal_power", "square_root", "logarithmic"}, buses{"exact", "single", "fixed"},
    converters{"libsoxr", "libsamplerate", "speexdsp", "zita_resampler", "libswresample", "hold",
               "linear",  "cubic",         "sinc"};

/// One key of an engine's file: how it is read and how it is written.
struct Entry {
  const char* key;
  std::function<void(Engine&, const Json&)> take;
  std::function<Json(const Engine&)> give;
};

[[noreturn]] void refuse(const char* key, const Json& value, const std::string& takes) {
  throw EngineError(fmt::format("{} is {}; it takes {}", key, value.dump(), takes));
}

Entry text(const char* key, std::string Engine::*member) {
  return {key,
          [=](Engine& e, const Json& v) {
            if (!v.is_string()) refuse(key, v, "text");
            e.*member = v.get<std::string>();
          },
          [=](const Engine& e) { return Json(e.*member); }};
}

template <class Number>
Entry number(const char* key, Number Engine::*member, double low, double high) {
  return {
      key,
      [=](Engine& e, const Json& v) {
        const bool whole = std::is_integral_v<Number>;
        if (!v.is_number() || (whole && !v.is_number_integer()) || !(v.get<double>() >= low && v.get<double>() <= high))
          refuse(key, v, fmt::format("{}{:g} to {:g}", whole ? "a whole number from " : "", low, high));
        e.*member = Number(v.get<double>());
      },
      [=](const Engine& e) { return Json(e.*member); }};
}

Entry flag(const char* key, bool Engine::*member) {
  return {key,
          [=](Engine& e, const Json& v) {
            if (!v.is_boolean()) refuse(key, v, "true or false");
            e.*member = v.get<bool>();
          },
          [=](const Engine& e) { return Json(e.*member); }};
}

template <class Choice>
Entry choice(const char* key, Choice Engine::*member, const std::vector<std::string>& words) {
  return {key,
          [=, &words](Engine& e, const Json& v) {
            const auto it = std::find(words.begin(), words.end(), v.is_string() ? v.get<std::string>() : "");
            if (it == words.end()) refuse(key, v, fmt::format("one of {}", fmt::join(words, ", ")));
            e.*member = Choice(it - words.begin());
          },
          [=, &words](const Engine& e) { return Json(words[size_t(e.*member)]); }};
}

const std::vector<Entry>& entries() {
  static const std::vector<Entry> all{
      text("name", &Engine::name),
      text("what", &Engine::what),
      number("latency_samples", &Engine::latency_samples, 0, 100000),
      number("gain_db", &Engine::gain_db, -60, 20),
      flag("inverted", &Engine::inverted),
      flag("swapped", &Engine::swapped),
      number("dc", &Engine::dc, -0.1, 0.1),
      number("rate_hz", &Engine::rate_hz, 0, 384000),
      {"converter",
       [](Engine& e, const Json& v) {
         if (!v.is_string() ||
             std::find(converters.begin(), converters.end(), v.get<std::string>()) == converters.end())
           refuse("converter", v, fmt::format("one of {}", fmt::join(converters, ", ")));
         e.converter = v.get<std::string>();
       },
       [](const Engine& e) { return Json(e.converter); }},
      choice("glide", &Engine::glide, glides),
      number("glide_ms", &Engine::glide_ms, 0, 1000),
      number("late_ms", &Engine::late_ms, 0, 1000),
      number("block_frames", &Engine::block_frames, 0, 16384),
      flag("in_decibels", &Engine::in_decibels),
      choice("pan", &Engine::pan, kinds),
      choice("taper", &Engine::taper, tapers),
      flag("unity_in_middle", &Engine::unity_in_middle),
      choice("fade", &Engine::fade, laws),
      number("fade_bend", &Engine::fade_bend, 0.1, 1e6),
      choice("bus", &Engine::bus, buses),
      number("bus_bits", &Engine::bus_bits, 8, 32),
      flag("dither", &Engine::dither),
      {"clips_at_dbfs",
       [](Engine& e, const Json& v) {
         if (!v.is_null() && (!v.is_number() || v.get<double>() < -60 || v.get<double>() > 120))
           refuse("clips_at_dbfs", v, "-60 to 120, or null for never");
         e.clips_at_dbfs = v.is_null() ? std::nullopt : std::optional<double>(v.get<double>());
       },
       [](const Engine& e) { return e.clips_at_dbfs ? Json(*e.clips_at_dbfs) : Json(nullptr); }},
      {"writes_bits",
       [](Engine& e, const Json& v) {
         if (v != 16 && v != 24 && v != 32) refuse("writes_bits", v, "16, 24, or 32 for floating point");
         e.writes_bits = v.get<int>();
       },
       [](const Engine& e) { return Json(e.writes_bits); }}};
  return all;
}

}  // namespace

Engine engine_from_json(const std::string& key, const Json& json) {
  if (!json.is_object()) throw EngineError("it is no JSON object");
  Engine engine;
  engine.key = key, engine.name = key;
  for (const auto& item : json.items()) {
    const auto it =
        std::find_if(entries().begin(), entries().end(), [&](const Entry& e) { return item.key() == e.key; });
    if (it == entries().end())
      throw EngineError(fmt::format("there is no key '{}' in an engine", printable(item.key())));
    it->take(engine, item.value());
  }
  return engine;
}

Json engine_json(const Engine& engine) {
  Json json{{"key", engine.key}, {"shipped", engine.shipped}};
  for (const Entry& entry : entries()) json[entry.key] = entry.give(engine);
  return json;
}

std::filesystem::path engines_folder() { return config_folder() / "engines"; }

const std::vector<Engine>& shipped_engines() {
  static const std::vector<Engine> engines = [] {
    std::vector<Engine> all;
    for (const auto& [key, json] : shipped_engine_files) {
      all.push_back(engine_from_json(key, json_from(json)));
      all.back().shipped = true;
    }
    return all;
  }();
  return engines;
}

std::vector<Engine> known_engines(std::vector<std::string>* refused) {
  std::vector<Engine> all;
  std::error_code ignored;
  std::vector<std::filesystem::path> files;
  for (const auto& entry : std::filesystem::directory_iterator(engines_folder(), ignored))
    if (entry.path().extension() == ".json") files.push_back(entry.path());
  std::sort(files.begin(), files.end());
  for (const auto& file : files) try {
      all.push_back(engine_from_json(file.stem().string(), json_from_file(file)));
    } catch (const std::exception& error) {
      if (refused)
        refused->push_back(
            fmt::format("{}: {}; put it right or take the file away", printable(file.string()), error.what()));
    }
  for (const Engine& shipped : shipped_engines())
    if (std::none_of(all.begin(), all.end(), [&](const Engine& e) { return e.key == shipped.key; }))
      all.push_back(shipped);
  return all;
}

}  // namespace heathmist
