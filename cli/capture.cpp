// devices and capture: what audio devices there are, and recording from one while a file is played to it.
#include <pthread.h>
#include <signal.h>

#include <cmath>

#include "cli/verbs.hpp"
#include "core/devices/loop_check.hpp"
#include "core/measure/survey.hpp"
#include "core/printable.hpp"
#include "core/probes/engine_answers.hpp"

namespace heathmist::cli {

namespace {

void list_devices(const Shared& shared) {
  Session session(shared);
  Answer answer(session, "devices");
  for (const Device& d : devices()) {
    answer.add({{"name", printable(d.name)},
                {"backend", d.backend},
                {"inputs", d.inputs},
                {"outputs", d.outputs},
                {"rates", d.rates_hz},
                {"own_rate_hz", d.own_rate_hz ? Json(*d.own_rate_hz) : Json(nullptr)},
                {"default_input", d.default_input},
                {"default_output", d.default_output},
                {"stand_in", d.stand_in}});
    session.say("{:<32} {:<10} {} in, {} out, {} Hz\n", printable(d.name), d.backend, d.inputs, d.outputs,
                fmt::join(d.rates_hz, " "));
  }
  answer.print();
}

/// Ctrl C and a polite end stop a recording and keep it: both signals come to a thread that waits for them. To be made
/// before any other thread is, which would be ended by them.
class StopBySignal {
 public:
  StopBySignal() {
    sigemptyset(&signals_);
    sigaddset(&signals_, SIGINT), sigaddset(&signals_, SIGTERM);
    pthread_sigmask(SIG_BLOCK, &signals_, nullptr);
    thread_ = std::jthread([this](std::stop_token end) {
      const timespec moment{0, 50'000'000};
      while (!end.stop_requested())
        if (sigtimedwait(&signals_, nullptr, &moment) > 0) stop_.request_stop();
    });
  }
  std::stop_token token() const { return stop_.get_token(); }

 private:
  sigset_t signals_;
  std::stop_source stop_;
  std::jthread thread_;
};

struct CaptureCall {
  Shared shared;
  std::string out, play, device, output_device, bits = "24", loop;
  double seconds = 0;
  int rate_hz = 0, inputs = 0, first_input = 1, first_output = 1;
  bool no_chirp = false, loop_check = false;
};

WordFormat word_of(const std::string& bits) {
  return bits == "16" ? WordFormat::pcm16 : bits == "24" ? WordFormat::pcm24 : WordFormat::float32;
}

const Device& chosen_output(const std::vector<Device>& all, const CaptureCall& call, const Device& input) {
  if (!call.output_device.empty()) return device_of(all, call.output_device);
  if (input.outputs > 0) return input;
  if (const Device* own = counterpart_of(all, input)) return *own;
  const Device* best = nullptr;
  for (const Device& d : all)
    if (d.outputs > 0 && d.backend == input.backend && (!best || d.default_output)) best = &d;
  if (!best)
    throw DeviceError(printable(input.name) + ": nothing that belongs to it can play; name one with --output-device");
  return *best;
}

/// What is watched here is stopped by a signal.
Job job_of(const Session& session, const std::string& what, const StopBySignal& by_signal) {
  Job job = session.watched(what);
  job.stop = by_signal.token();
  return job;
}

CapturePlan plan_of(const CaptureCall& call, Session& session, const StopBySignal& by_signal) {
  const auto all = devices();
  const Device* input = call.device.empty() ? default_input(all) : &device_of(all, call.device);
  if (input->inputs == 0)
    if (const Device* monitor = counterpart_of(all, *input)) input = monitor;
  if (input->inputs == 0)
    throw DeviceError(printable(input->name) + ": nothing can be recorded from it; name another with --device");
  CapturePlan plan{.to = Destination(std::filesystem::path())};
  plan.word = word_of(call.bits), plan.chirp = !call.no_chirp;
  if (call.seconds > 0) plan.seconds = call.seconds;
  plan.stream.loop = loop_settings(call.loop);
  plan.stream.input = input->name;
  plan.stream.inputs = call.inputs > 0 ? call.inputs : std::min(2, input->inputs);
  plan.stream.first_input = call.first_input - 1, plan.stream.first_output = call.first_output - 1;
  plan.stream.sample_rate_hz =
      call.rate_hz > 0 ? call.rate_hz
                       : input->own_rate_hz.value_or(input->has_rate(48000) ? 48000 : input->rates_hz.front());
  if (call.loop_check) {
    const Device& output = chosen_output(all, call, *input);
    plan.stream.output = output.name;
    plan.stream.outputs = std::min(2, output.outputs);
  }
  if (!call.play.empty()) {
    const Device& output = chosen_output(all, call, *input);
    plan.play = Clip::open(session.source(call.play).file, job_of(session, call.play, by_signal));
    const int rate = plan.play->format().sample_rate_hz;
    if (call.rate_hz == 0) plan.stream.sample_rate_hz = rate;
    if (rate != plan.stream.sample_rate_hz) {
      session.warn(fmt::format("{}: it is converted from {} to {} Hz before it is played", call.play, rate,
                               plan.stream.sample_rate_hz));
      plan.play = Clip::at_rate(plan.play, plan.stream.sample_rate_hz, job_of(session, call.play, by_signal));
    }
    plan.stream.output = output.name;
    plan.stream.outputs = std::max(plan.play->format().channels, std::min(2, output.outputs));
    if (output.converts(plan.stream.sample_rate_hz))
      session.warn(fmt::format("{}: it runs at {} Hz and converts what is played at {}; --rate {} asks for its own",
                               printable(output.name), *output.own_rate_hz, plan.stream.sample_rate_hz,
                               *output.own_rate_hz));
  }
  if (input->converts(plan.stream.sample_rate_hz))
    session.warn(fmt::format("{}: it runs at {} Hz and what is recorded at {} is converted on the way",
                             printable(input->name), *input->own_rate_hz, plan.stream.sample_rate_hz));
  return plan;
}

Json json_of(const Captured& c, const CaptureCall& call, const CapturePlan& plan) {
  const auto levels = survey(*Clip::open(c.file)).levels;
  Json json{{"output", call.out},
            {"device", printable(plan.stream.input)},
            {"sample_rate_hz", c.sample_rate_hz},
            {"channels", c.channels},
            {"bits", call.bits},
            {"frames", c.frames},
            {"interruptions", c.interruptions},
            {"interrupted_s", c.interrupted_s},
            {"sample_peak_dbfs", levels.sample_peak > 0 ? Json(20 * std::log10(levels.sample_peak)) : Json(nullptr)},
            {"clipped_runs", levels.clipped_runs},
            {"latency_samples", c.latency_samples ? Json(*c.latency_samples) : Json(nullptr)}};
  if (plan.play) json["played_through"] = printable(plan.stream.output);
  if (!c.cut_short.empty()) json["cut_short"] = c.cut_short;
  return json;
}

/// The transit probe goes round; nothing is written.
void check_loop_of(const CaptureCall& call, Session& session) {
  const StopBySignal by_signal;
  const CapturePlan plan = plan_of(call, session, by_signal);
  const auto check = check_loop(plan.stream, plan.word, job_of(session, "loop check", by_signal));
  Json json{{"device", printable(plan.stream.input)},
            {"played_through", printable(plan.stream.output)},
            {"sample_rate_hz", plan.stream.sample_rate_hz},
            {"interruptions", check.captured.interruptions},
            {"latency_samples", check.captured.latency_samples ? Json(*check.captured.latency_samples) : Json(nullptr)},
            {"transit", engine_json(check.reading)}};
  if (call.shared.wants_json()) print(json, call.shared);
  for (const Finding& f : engine_findings(check.reading)) session.say("{}\n", f.text);
}

void capture_call(const CaptureCall& call) {
  Session session(call.shared);
  if (call.loop_check) return check_loop_of(call, session);
  if (call.out.empty()) throw std::invalid_argument("capture: -o OUT.wav is missing");
  if (call.out == "-") throw std::invalid_argument("capture: -o: a recording needs a file of its own; name one");
  if (std::filesystem::path(call.out).extension() != ".wav")
    throw std::invalid_argument("-o: a recording is written as .wav, which can be played at any moment");
  session.check_output(call.out);
  const StopBySignal by_signal;
  CapturePlan plan = plan_of(call, session, by_signal);
  plan.to = session.destination(call.out);
  const auto done = capture(plan, job_of(session, call.out, by_signal));
  const Json json = json_of(done, call, plan);
  if (call.shared.wants_json()) print(json, call.shared);
  session.say(
      "{}: {:.3f} s from {}, peak {} dBFS, {} interruption{}, round trip {} samples\n", call.out,
      double(done.frames) / done.sample_rate_hz, printable(plan.stream.input),
      json["sample_peak_dbfs"].is_null() ? "none" : fmt::format("{:.2f}", json["sample_peak_dbfs"].get<double>()),
      done.interruptions, done.interruptions == 1 ? "" : "s", shown(done.latency_samples, 2));
  if (done.interruptions > 0) session.warn(fmt::format("{}: sound was lost {} times", call.out, done.interruptions));
  if (plan.play && plan.chirp && !done.latency_samples)
    session.warn(
        fmt::format("{}: the chirp in front did not come back, so that the round trip is not known; look whether "
                    "the device is wired to itself",
                    printable(plan.stream.input)));
  if (done.cut_short.empty()) return;
  complain(done.cut_short + (done.file != call.out ? fmt::format(" as {}", printable(done.file)) : ""));
  throw SomeFailed();
}

}  // namespace

void add_devices(CLI::App& app) {
  auto shared = std::make_shared<Shared>();
  auto* verb = app.add_subcommand("devices", "audio devices that there are just now");
  add_common(*verb, *shared);
  verb->callback([shared] { list_devices(*shared); });
}

void add_capture(CLI::App& app) {
  auto call = std::make_shared<CaptureCall>();
  auto* verb = app.add_subcommand("capture", "record from an audio device, and play a file to it meanwhile");
  verb->add_option("-o,--output", call->out, "the recording, .wav");
  verb->add_option("--seconds", call->seconds,
                   "record at least so long; without it as long as it plays, or until Ctrl C")
      ->check(between(0.001, 1e7, "s"));
  verb->add_option("--play", call->play,
                   "an audio file that is played meanwhile, at its own rate unless --rate is given");
  verb->add_option("--device", call->device, "what is recorded from; heathmist-cli devices lists them");
  verb->add_option("--output-device", call->output_device, "what is played through, where it is another");
  verb->add_option("--rate", call->rate_hz, "Hz")->check(CLI::Range(1000, 1536000));
  verb->add_option("--bits", call->bits, "16, 24 or 32f")
      ->capture_default_str()
      ->check(CLI::IsMember({"16", "24", "32f"}));
  verb->add_option("--channels", call->inputs, "how many are recorded")->check(CLI::Range(1, 64));
  verb->add_option("--first-input", call->first_input, "the first of them")->check(CLI::Range(1, 256));
  verb->add_option("--first-output", call->first_output, "the first channel that is played through")
      ->check(CLI::Range(1, 256));
  verb->add_flag("--loop-check", call->loop_check,
                 "send the transit probe round instead, and say whether the loop is transparent to the bit");
  verb->add_flag("--no-chirp", call->no_chirp, "nothing is sent in front of the file to measure the round trip");
  verb->add_option("--stand-in", call->loop,
                   "how the stand-in behaves: delay_samples=2000.5,drift_ppm=20,noise_dbfs=-100,...");
  add_common(*verb, call->shared);
  add_force(*verb, call->shared);
  verb->callback([call] { capture_call(*call); });
}

}  // namespace heathmist::cli
