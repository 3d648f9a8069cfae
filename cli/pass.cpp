// pass and stages: a master sent through a chain, and what chains are made of.
#include "cli/verbs.hpp"
#include "core/printable.hpp"

namespace heathmist::cli {

namespace {

struct PassCall {
  Shared shared;
  std::string master, chain, out;
};

template <class T>
Json or_null(const std::optional<T>& value) {
  return value ? Json(*value) : Json(nullptr);
}

Json stage_json(const StageReport& s) {
  return {{"type", s.type},
          {"encoded_bytes", or_null(s.encoded_bytes)},
          {"bit_rate_bps", or_null(s.bit_rate_bps)},
          {"delay_samples", or_null(s.delay_samples)},
          {"note", s.note}};
}

void pass(const PassCall& call) {
  if (call.out != "-" && !call.out.ends_with(".wav") && !call.out.ends_with(".flac"))
    throw std::invalid_argument(fmt::format("-o writes a .wav or .flac file, not '{}'", printable(call.out)));
  Session session(call.shared);
  const Source master = session.source(call.master);
  const Chain chain = session.chain(call.chain);
  session.check_output(call.out);
  const Job job = session.watched("pass");
  Passed passed;
  try {
    passed = heathmist::pass(Clip::open(master.file, job.part(0, 0.1)), chain, job.part(0.1, 0.95),
                             {session.grant(), call.shared.force});
  } catch (const ChainError& error) {
    throw InputError(call.chain, error.what());
  }
  session.write_file(call.out, ".wav",
                     [&](const Destination& to) { write_return(passed, chain, to, job.part(0.95, 1)); });
  const auto& f = passed.ret->format();
  Json stages = Json::array();
  for (const StageReport& s : passed.stages) {
    stages.push_back(stage_json(s));
    if (s.note.find("not kept") != std::string::npos) session.warn(s.note);
  }
  if (call.shared.wants_json())
    return print({{"output", call.out}, {"frames", f.frames}, {"sample_rate_hz", f.sample_rate_hz}, {"stages", stages}},
                 call.shared);
  if (call.out != "-")
    session.say("{}: {} frames at {} Hz through {}\n", printable(call.out), f.frames, f.sample_rate_hz,
                label_of(chain));
}

std::string range_of(const Parameter& p) {
  switch (p.kind) {
    case Parameter::Kind::number:
    case Parameter::Kind::whole:
      return fmt::format("{:g} to {:g} {}", p.low, p.high, p.unit);
    case Parameter::Kind::choice:
      return fmt::format("{}", fmt::join(p.choices, ", "));
    case Parameter::Kind::flag:
      return "true, false";
    default:
      return p.kind == Parameter::Kind::file ? "a file" : "text";
  }
}

void stages(const Shared& shared) {
  const Session session(shared);
  if (shared.wants_json()) return print(stages_json(), shared);
  for (const StageType& t : stage_types()) {
    session.say("{}: {}{}\n", t.type, t.what, t.may ? fmt::format(" Needs --allow {}.", word_of(*t.may)) : "");
    for (const Parameter& p : t.parameters)
      session.say("  {:<24} {} [{}], {}\n", p.key, range_of(p), p.initial.dump(), p.what);
  }
}

}  // namespace

void add_pass(CLI::App& app) {
  auto call = std::make_shared<PassCall>();
  auto* verb = app.add_subcommand("pass", "send a master through a chain of stages and write the return");
  verb->add_option("MASTER", call->master, "the audio under test (- for standard input)")->required();
  verb->add_option("--chain", call->chain, "a chain as JSON: {\"stages\": [{\"type\": ...}]}")->required();
  verb->add_option("-o,--output", call->out, "the return: .wav or .flac (- for a WAV on standard output)")->required();
  add_common(*verb, call->shared);
  add_force(*verb, call->shared);
  add_allow(*verb, call->shared);
  verb->callback([call] { pass(*call); });
}

void add_stages(CLI::App& app) {
  auto shared = std::make_shared<Shared>();
  auto* verb = app.add_subcommand("stages", "the types of stages and their parameters");
  add_common(*verb, *shared);
  verb->callback([shared] { stages(*shared); });
}

}  // namespace heathmist::cli
