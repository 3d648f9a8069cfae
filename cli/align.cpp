// align: a master on the clock of its return.
#include "cli/verbs.hpp"
#include "core/delivery/aligned.hpp"
#include "core/printable.hpp"

namespace heathmist::cli {

namespace {

struct Call {
  Shared shared;
  std::string master, ret, out, bits = "32f";
};

void align(const Call& call) {
  Session session(call.shared);
  const Source master = session.source(call.master), ret = session.source(call.ret);
  const Destination to = session.destination(call.out);
  const WordFormat word = call.bits == "16"   ? WordFormat::pcm16
                          : call.bits == "24" ? WordFormat::pcm24
                                              : WordFormat::float32;
  const Job job = session.watched(master.name);
  const auto m = Clip::open(master.file, job.part(0, 0.1)), r = Clip::open(ret.file, job.part(0.1, 0.2));
  const Aligned a = write_aligned(m, r, to, word, job.part(0.2, 1));
  // as `null` says it of the return: its delay at the master's first frame
  const double drift = 1 / a.fit.ratio(), delay = -a.fit.delay_samples * drift;
  if (call.shared.json)
    print({{"output", call.out},
           {"sample_rate_hz", a.sample_rate_hz},
           {"channels", m->format().channels},
           {"frames", a.frames},
           {"delay_samples", delay},
           {"drift_ppm", (drift - 1) * 1e6},
           {"agreement", a.fit.agreement}},
          call.shared.jsonl ? -1 : 2);
  session.say("{}: the master {} by {:.2f} samples, drift {:.2f} ppm, {} frames at {} Hz\n", printable(call.out),
              delay >= 0 ? "made late" : "cut short at its start", std::abs(delay), (drift - 1) * 1e6, a.frames,
              a.sample_rate_hz);
}

}  // namespace

void add_align(CLI::App& app) {
  auto call = std::make_shared<Call>();
  auto* verb = app.add_subcommand("align", "write a master on the clock of its return: delay and drift put in");
  verb->add_option("MASTER", call->master, "the good sound")->required();
  verb->add_option("RETURN", call->ret, "what it is laid on: a file with sound, a video too")->required();
  verb->add_option("-o", call->out, "where it goes (.wav or .flac)")->required();
  verb->add_option("--bits", call->bits, "its word length")
      ->check(CLI::IsMember({"16", "24", "32f"}))
      ->capture_default_str();
  add_common(*verb, call->shared);
  add_force(*verb, call->shared);
  verb->callback([call] { align(*call); });
}

}  // namespace heathmist::cli
