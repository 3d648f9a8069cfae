// engines and perform: stand-ins that do what a score asks.
#include "cli/verbs.hpp"
#include "core/audio/write.hpp"
#include "core/engines/engine.hpp"
#include "core/printable.hpp"
#include "core/probes/score_json.hpp"

namespace heathmist::cli {

namespace {

std::vector<Engine> engines_here(const Session& session) {
  std::vector<std::string> refused;
  auto all = known_engines(&refused);
  for (const auto& sentence : refused) session.warn(sentence);
  return all;
}

void engines(const Shared& shared) {
  const Session session(shared);
  Answer answer(session, "engines");
  for (const Engine& e : engines_here(session)) {
    answer.add(engine_json(e));
    session.say("{:<10} {}: {}\n", printable(e.key), printable(e.name), printable(e.what));
  }
  answer.print();
}

struct PerformCall {
  Shared shared;
  std::string kind, engine, out, score;
  std::vector<std::string> files;
};

Engine engine_of(const Session& session, const std::string& key) {
  std::vector<std::string> keys;
  for (const Engine& e : engines_here(session)) {
    if (e.key == key) return e;
    keys.push_back(e.key);
  }
  const auto near = nearest(key, keys);
  throw std::invalid_argument(fmt::format("--engine: there is no '{}'{}; 'heathmist-cli engines' lists them",
                                          printable(key), near.empty() ? "" : fmt::format(", but a '{}'", near)));
}

/// The probe's own rate and channels tell which score was written with it.
ProbeScore score_of(Session& session, const PerformCall& call, const ClipFormat& format) {
  const ProbeScore score =
      probe_score(call.kind, format.sample_rate_hz, {format.channels == 1 && probe_kind(call.kind)->for_engines});
  return call.score.empty() ? score : with_score(score, score_from(session, call.score, call.kind));
}

void perform(const PerformCall& call) {
  probe_score(call.kind, 48000);  // says what there is
  if (call.out != "-" && !call.out.ends_with(".wav") && !call.out.ends_with(".flac"))
    throw std::invalid_argument(fmt::format("-o writes a .wav or .flac file, not '{}'", printable(call.out)));
  Session session(call.shared);
  const Engine engine = engine_of(session, call.engine);
  std::vector<std::shared_ptr<const Clip>> probe;
  const Job job = session.watched("perform");
  for (const Source& source : session.sources(call.files)) {
    probe.push_back(Clip::open(source.file, job.part(0, 0.1)));
    if (!has_rate(call.kind, probe.back()->format().sample_rate_hz))
      throw InputError(source.name, fmt::format("the probe '{}' is not written at {} Hz; give it as it was written",
                                                call.kind, probe.back()->format().sample_rate_hz));
  }
  session.check_output(call.out);
  const ProbeScore score = score_of(session, call, probe.front()->format());
  const auto render = heathmist::perform(score, probe, engine, job.part(0.1, 0.9));
  const bool flac = call.out.ends_with(".flac");
  const auto word = engine.writes_bits == 16           ? WordFormat::pcm16
                    : engine.writes_bits == 24 || flac ? WordFormat::pcm24
                                                       : WordFormat::float32;
  session.write_file(call.out, ".wav", [&](const Destination& to) {
    ClipWriter out(to, render->format().sample_rate_hz, render->format().channels, word);
    write_clip(out, *render, job.part(0.9, 1));
    out.finish();
  });
  const auto& f = render->format();
  if (call.shared.wants_json())
    return print({{"output", call.out},
                  {"kind", call.kind},
                  {"engine", engine.key},
                  {"frames", f.frames},
                  {"sample_rate_hz", f.sample_rate_hz}},
                 call.shared);
  if (call.out != "-")
    session.say("{}: {} frames at {} Hz as {} renders them\n", printable(call.out), f.frames, f.sample_rate_hz,
                printable(engine.name));
}

}  // namespace

void add_engines(CLI::App& app) {
  auto shared = std::make_shared<Shared>();
  auto* verb = app.add_subcommand("engines", "the stand-in engines there are, and how each behaves");
  add_common(*verb, *shared);
  verb->callback([shared] { engines(*shared); });
}

void add_perform(CLI::App& app) {
  auto call = std::make_shared<PerformCall>();
  auto* verb =
      app.add_subcommand("perform", "have a stand-in engine do what a probe's score asks, and write the render");
  verb->add_option("KIND", call->kind, "which probe it is")->required();
  verb->add_option("PROBE", call->files, "the probe's file; of a crossfade both")->required();
  verb->add_option("--engine", call->engine, "which; 'engines' lists them")->required();
  verb->add_option("-o,--output", call->out, "the render: .wav or .flac (- for a WAV on standard output)")->required();
  verb->add_option("--score", call->score, "what is asked instead of the kind's own score, as JSON");
  add_common(*verb, call->shared);
  add_force(*verb, call->shared);
  verb->callback([call] { perform(*call); });
}

}  // namespace heathmist::cli
