// align: a master on the clock of its return.
#include "cli/verbs.hpp"
#include "core/audio/video.hpp"
#include "core/delivery/aligned.hpp"
#include "core/printable.hpp"

namespace heathmist::cli {

namespace {

struct AlignCall {
  Shared shared;
  std::string master, ret, out, video, bits;
};

/// Where the return was cut, in its time; "samples": how much later (of the master) it goes on there than it would
/// have.
Json splices_json(const std::vector<Break>& splices) {
  Json all = Json::array();
  for (const Break& b : splices) all.push_back({{"at_s", b.at_s}, {"samples", b.jump_samples}});
  return all;
}

/// What became of the picture, and how well the sound lies on it.
Json video_json(const std::string& name, const VideoWritten& v) {
  return {{"output", name},   {"pictures", v.pictures},           {"pictures_per_s", v.pictures_per_s},
          {"off_s", v.off_s}, {"off_pictures", v.off_pictures()}, {"left_out", v.left_out}};
}

/// FLAC has no floating point.
WordFormat word_of(const AlignCall& call) {
  if (call.bits == "16") return WordFormat::pcm16;
  const bool is_flac = std::filesystem::path(call.out).extension() == ".flac";
  return call.bits == "24" || (call.bits.empty() && is_flac) ? WordFormat::pcm24 : WordFormat::float32;
}

void say_video(const Session& session, const AlignCall& call, const VideoWritten& v) {
  session.say(
      "{}: {} pictures copied as they are; the sound lies on them as the return's did, within {:.4f} pictures\n",
      printable(call.video), v.pictures, std::abs(v.off_pictures()));
  for (const auto& what : v.left_out) session.warn(call.video + ": without " + what + ", which it does not take");
}

void align(const AlignCall& call) {
  Session session(call.shared);
  const Source master = session.source(call.master), ret = session.source(call.ret);
  const Destination to = session.destination(call.out);
  std::optional<Destination> video_to;
  if (!call.video.empty()) {
    if (call.video == call.out) throw std::invalid_argument("-o and --video cannot be one file");
    check_video(ret.file, video_to.emplace(session.destination(call.video)));
  }
  const WordFormat word = word_of(call);
  const Job job = session.watched(master.name);
  const auto m = Clip::open(master.file, job.part(0, 0.1)), r = Clip::open(ret.file, job.part(0.1, 0.2));
  AlignedVideo written;
  if (video_to)
    written = write_aligned_video(m, r, *video_to, SoundToo{to, word}, job.part(0.2, 1));
  else
    written.aligned = write_aligned(m, r, to, word, job.part(0.2, 1));
  const Aligned& a = written.aligned;
  // as `null` says it of the return: its delay at the master's first frame
  const double drift = 1 / a.fit.ratio(), delay = -a.fit.delay_samples * drift;
  Json json{{"output", call.out},
            {"sample_rate_hz", a.sample_rate_hz},
            {"channels", m->format().channels},
            {"frames", a.frames},
            {"delay_samples", delay},
            {"drift_ppm", (drift - 1) * 1e6},
            {"agreement", a.fit.agreement}};
  json["splices"] = splices_json(a.splices);
  session.say("{}: the master {} by {:.2f} samples, drift {:.2f} ppm, {} frames at {} Hz\n", printable(call.out),
              delay >= 0 ? "made late" : "cut short at its start", std::abs(delay), (drift - 1) * 1e6, a.frames,
              a.sample_rate_hz);
  for (const Break& b : a.splices)
    session.say("  cut at {:.3f} s of the return: {:+.0f} samples of the master from there on\n", b.at_s,
                b.jump_samples);
  if (video_to) {
    say_video(session, call, written.video);
    json["video"] = video_json(call.video, written.video);
  }
  if (call.shared.wants_json()) print(json, call.shared);
}

}  // namespace

void add_align(CLI::App& app) {
  auto call = std::make_shared<AlignCall>();
  auto* verb = app.add_subcommand("align", "write a master on the clock of its return: delay and drift put in");
  verb->add_option("MASTER", call->master, "the good sound")->required();
  verb->add_option("RETURN", call->ret, "what it is laid on: a file with sound, a video too")->required();
  verb->add_option("-o", call->out, "where it goes (.wav or .flac)")->required();
  verb->add_option("--video", call->video, "and the return's picture with that sound, copied as it is (.mkv or .mov)");
  verb->add_option("--bits", call->bits, "its word length: 32f where nothing is said, in .flac 24")
      ->check(CLI::IsMember({"16", "24", "32f"}));
  add_common(*verb, call->shared);
  add_force(*verb, call->shared);
  verb->callback([call] { align(*call); });
}

}  // namespace heathmist::cli
