// Any text as a bench, a chain, an outlet, rules, a plan, a probe's score or a command: read or refused. What was read
// is written and read again, and is then the same.
#include "core/bench/document.hpp"
#include "core/delivery/delivery_plan.hpp"
#include "core/delivery/outlet.hpp"
#include "core/engines/engine.hpp"
#include "core/printable.hpp"
#include "core/probes/probe.hpp"
#include "core/probes/score_json.hpp"
#include "core/stages/process.hpp"

using namespace heathmist;

namespace {

const std::filesystem::path folder = "/somewhere";

void demand(bool truth) {
  if (!truth) __builtin_trap();
}

/// Whatever its key and its answers are, it comes to something or is refused.
void try_blind_test(const BlindTest& test) {
  try {
    next_round(test);
    if (!is_ended(test)) return;
    result_of(test);
    blind_log(test);
  } catch (const SealError&) {
  } catch (const std::invalid_argument&) {
  }
}

void try_bench(const Json& json) {
  try {
    const Bench bench = bench_from_json(json, folder, "x.heathmist");
    const std::string text = text_of(bench_json(bench, folder));
    const Bench again = bench_from_json(json_from(text), folder, "x.heathmist");
    demand(text_of(bench_json(again, folder)) == text);
    files_of(bench);
    for (const BlindTest& t : bench.blind) try_blind_test(t);
    for (const Master& m : bench.masters)
      for (const Trial& t : m.trials) demand(is_utf8(printable(title_of(t))));
  } catch (const InputError&) {
  }
}

void try_chain(const Json& json) {
  try {
    const Chain chain = chain_from_json(json, folder);
    label_of(chain);
    disarmed_stages(chain, grant_nothing);
    files_read_by(chain);
    demand(chain_from_json(json_from(text_of(chain_json(chain, folder))), folder).stages.size() == chain.stages.size());
  } catch (const ChainError&) {
  }
}

void try_outlet(const Json& json) {
  try {
    const Outlet outlet = outlet_from_json("x", json);
    demand(outlet_from_json("x", outlet_json(outlet)).name == outlet.name);
  } catch (const OutletError&) {
  }
}

void try_rules(const Json& json) {
  try {
    const Rules rules = rules_from_json(json);
    demand(rules_from_json(json_from(text_of(rules_json(rules)))) == rules);
  } catch (const RulesError&) {
  }
  try {
    demand(!plan_from_json(json).empty());
  } catch (const RulesError&) {
  }
}

void try_engine(const Json& json) {
  try {
    const Engine engine = engine_from_json("x", json);
    Json again = engine_json(engine);
    again.erase("key"), again.erase("shipped");
    demand(engine_json(engine_from_json("x", again)) == engine_json(engine));
  } catch (const EngineError&) {
  }
}

void try_scores(const Json& json) {
  for (const char* kind : {"gain", "pan", "crossfade", "trim"}) try {
      const ProbeScore score = with_score(probe_score(kind, 48000), json);
      score_steps(score), score_csv(score);
      demand(text_of(score_json(with_score(probe_score(kind, 48000), score_json(score)))) ==
             text_of(score_json(score)));
      if (score.gain.points.size() + score.moves.size() < 200) score_midi(score);
    } catch (const JsonError&) {
    }
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const uint8_t* bytes, size_t count) {
  const std::string text(reinterpret_cast<const char*>(bytes), count);
  demand(is_utf8(printable(text)));
  try {
    words_of_command(text);
  } catch (const std::invalid_argument&) {
  }
  try {  // a probe's score is made from two words of a call
    const auto blank = text.find(' ');
    const ProbeScore score =
        probe_score(text.substr(0, blank), blank == std::string::npos ? 48000 : std::atoi(text.c_str() + blank));
    demand(score.length_s > 0 && !instructions(score).empty());
  } catch (const std::invalid_argument&) {
  }
  try {
    const Json json = json_from(text);
    try_bench(json);
    try_chain(json);
    try_outlet(json);
    try_rules(json);
    try_engine(json);
    try_scores(json);
  } catch (const JsonError&) {
  }
  return 0;
}
