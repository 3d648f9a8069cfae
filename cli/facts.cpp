// facts: what files say they are, and what their samples are.
#include "cli/verbs.hpp"
#include "core/compare/json.hpp"
#include "core/measure/bandwidth.hpp"
#include "core/measure/coding.hpp"
#include "core/printable.hpp"

namespace heathmist::cli {

namespace {

struct FactsCall {
  Shared shared;
  std::vector<std::string> files;
};

Json facts_of(const Session& session, const Source& source) {
  const Job job = session.watched(source.name);
  const auto clip = Clip::open(source.file, job.part(0, 0.5));
  const auto levels = survey(*clip, job.part(0.5, 0.7)).levels;
  const auto bandwidth = bandwidth_of(*clip, job.part(0.7, 0.75));
  const Json origin = lossy_origin_json(*clip, job.part(0.75, 1));
  const auto& f = clip->format();
  const auto bits = [](std::optional<int> value) { return value ? fmt::format("{}", *value) : std::string("none"); };
  session.say("{}: {}, {} Hz, {} ch, {:.2f} s, bits {} of {}, reaches {} Hz\n", printable(source.name), f.codec,
              f.sample_rate_hz, f.channels, f.duration_s(), bits(levels.bits_used), bits(f.container_bits),
              shown(bandwidth, 0));
  if (!origin.is_null())
    session.say("  was coded before: {}, blocks start at frame {}, confidence {:.2f}\n",
                origin["family"].get<std::string>(), origin["frame_offset"].get<int64_t>(),
                origin["confidence"].get<double>());
  Json json = facts_json(source.name, f, levels, bandwidth);
  json["lossy_origin"] = origin;
  return json;
}

void facts(const FactsCall& call) {
  Session session(call.shared);
  Answer answer(session, "files");
  answer.each(session.sources(call.files), [&](const Source& source) { return facts_of(session, source); });
  answer.print();
}

}  // namespace

void add_facts(CLI::App& app) {
  auto call = std::make_shared<FactsCall>();
  auto* verb = app.add_subcommand("facts", "what files say they are, and what their samples are");
  verb->add_option("FILE", call->files, "audio files (- for standard input)");
  add_common(*verb, call->shared);
  add_lists(*verb, call->shared);
  verb->callback([call] { facts(*call); });
}

}  // namespace heathmist::cli
