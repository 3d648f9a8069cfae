#include "core/bench/tested.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "core/audio/scratch.hpp"
#include "core/printable.hpp"
#include "core/probes/engine_answers.hpp"
#include "core/probes/score_json.hpp"

namespace heathmist {

ProbeReading ask(const Engine& engine, const std::string& kind, int rate_hz, const std::optional<Json>& asked,
                 const Job& job) {
  ProbeScore score = probe_score(kind, rate_hz);
  if (asked) score = with_score(score, *asked);
  std::vector<std::shared_ptr<const Clip>> probe;
  for (int n = 0; n < score.files(); ++n)
    probe.push_back(made_clip(sound_of(score, ProbeWord::pcm24, n), rate_hz, "probe " + kind));
  job.check();
  ReadOptions options;
  options.asked_score = asked;
  return read_probe(*perform(score, probe, engine, job.part(0, 0.6)), kind, options, job.part(0.6, 1));
}

ProbeReading read_render(const TestedEngine& tested, const EngineRender& render, const Job& job) {
  if (!probe_kind(render.kind))
    throw InputError(tested.name,
                     fmt::format("there is no probe '{}'; take the render off the bench", printable(render.kind)));
  if (!render.render.file.empty()) {
    ReadOptions options;
    options.asked_score = render.score;
    return read_probe(*Clip::open(render.render.file, job.part(0, 0.3)), render.kind, options, job.part(0.3, 1));
  }
  const auto all = known_engines();
  const auto it = std::find_if(all.begin(), all.end(), [&](const Engine& e) { return e.key == tested.stand_in; });
  if (it == all.end())
    throw InputError(tested.name, fmt::format("there is no stand-in '{}' here; put its file into {}",
                                              printable(tested.stand_in), engines_folder().string()));
  return ask(*it, render.kind, 48000, render.score, job);
}

Json engine_row(const TestedEngine& engine,
                const std::map<std::string, std::shared_ptr<const ProbeReading>>& readings) {
  Json row{{"engine", engine.name}};
  for (const EngineRender& render : engine.renders) {
    const auto it = readings.find(render.id);
    if (it == readings.end() || !it->second) continue;
    const Json one = engine_json(*it->second);
    const std::string before = render.kind + (render.control.empty() ? "" : " " + render.control) + " ";
    row[before + "in words"] = engine_label(*it->second);
    for (const auto& [key, value] : one.items())
      if (value.is_primitive()) row[before + key] = value;
  }
  return row;
}

}  // namespace heathmist
