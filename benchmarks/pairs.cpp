#include "benchmarks/pairs.hpp"

#include <fmt/format.h>

#include "core/audio/cache.hpp"
#include "core/compare/explain.hpp"
#include "core/stages/chain.hpp"

namespace heathmist::pairs {

namespace fs = std::filesystem;

namespace {

struct Treatment {
  std::string name;
  std::vector<Stage> stages;
};

const std::vector<Treatment>& treatments() {
  static const std::vector<Treatment> all = {
      {"late", {{"delay", {{"delay_samples", 1234}}}}},
      {"mastered",
       {{"filter", {{"shape", "bell"}, {"hz", 2000}, {"gain_db", 3}, {"q", 1.2}}},
        {"compressor", {{"threshold_dbfs", -24}}},
        {"hum", Json::object()},
        {"word_length", {{"bits", 16}}}}},
      {"drifting", {{"drift", {{"drift_ppm", 40}}}}},
      {"swapped", {{"map", {{"map", "swap"}}}}},
      {"at_another_rate", {{"converter", {{"rate_hz", 96000}}}}},
      {"swapped_inverted", {{"map", {{"map", "swap"}}}, {"polarity", Json::object()}}},
  };
  return all;
}

void null_of(const fs::path& master, const fs::path& ret, bool explained) {
  fs::remove_all(cache_folder());
  const auto m = Clip::open(master), r = Clip::open(ret);
  auto report = null_test(m, r);
  if (explained) explain(*m, *r, {m, r}, report);
}

}  // namespace

std::vector<Measurement> measurements(const fs::path& master) {
  std::vector<Measurement> all;
  for (const Treatment& t : treatments()) {
    const fs::path file = master.parent_path() / (t.name + ".wav");
    const Chain chain{t.name, t.stages};
    write_return(pass(Clip::open(master), chain), chain, {file, true});
    const auto add = [&](const std::string& what, bool explained, bool one_core) {
      all.push_back({what + t.name, [=] { null_of(master, file, explained); }, one_core});
    };
    add("null_", false, false);
    if (t.name != "mastered") continue;
    add("explained_", true, false);
    add("explained_on_one_core_", true, true);
  }
  return all;
}

std::vector<bench::Figure> figures(const std::function<double(const std::string&)>& wall_ms,
                                   const std::function<double(const std::string&)>& cpu_ms) {
  return {
      {"work of null and explanation (EQ, compressor, hum, 16 bits)", "plain null",
       cpu_ms("explained_mastered") / cpu_ms("null_mastered"), "", 2},
      {"time of the same on all cores", "on one",
       wall_ms("explained_mastered") / wall_ms("explained_on_one_core_mastered"), "", 0.6},
      {"work of the null of a drifting pair", "of a plain one", cpu_ms("null_drifting") / cpu_ms("null_late"), "", 2},
      {"work of the null, channels swapped and inverted", "swapped",
       cpu_ms("null_swapped_inverted") / cpu_ms("null_swapped"), "", 1},
      {"time of the null of 44.1 against 96 kHz", "at one rate", wall_ms("null_at_another_rate") / wall_ms("null_late"),
       "", 1.5},
  };
}

}  // namespace heathmist::pairs
