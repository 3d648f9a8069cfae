// probe and read: test signals whose truth is known, written and read back.
#include "cli/verbs.hpp"
#include "core/boards/converter_board.hpp"
#include "core/printable.hpp"

namespace heathmist::cli {

namespace {

struct ProbeCall {
  Shared shared;
  std::string kind, out, bits = "24";
  int rate_hz = 48000;
  bool list = false;
};

void list_probes(const Session& session) {
  Answer answer(session, "probes");
  for (const auto& kind : probe_kinds()) {
    answer.add({{"kind", kind.key},
                {"title", kind.title},
                {"what", kind.what},
                {"seconds", probe_score(kind.key, 48000).length_s}});
    session.say("{:<12} {}: {}\n", kind.key, kind.title, kind.what);
  }
  answer.set("rates_hz", probe_rates());
  answer.print();
}

void probe(const ProbeCall& call) {
  Session session(call.shared);
  if (call.list) return list_probes(session);
  if (call.kind.empty()) throw std::invalid_argument("probe: name a kind, or --list them");
  if (call.out.empty()) throw std::invalid_argument("probe: -o OUT.wav is missing");
  if (call.out != "-" && std::filesystem::path(call.out).extension() != ".wav")
    throw std::invalid_argument("-o: a probe is written as .wav");
  session.check_output(call.out);
  const auto score = probe_score(call.kind, call.rate_hz);
  const auto word = call.bits == "16" ? ProbeWord::pcm16 : call.bits == "24" ? ProbeWord::pcm24 : ProbeWord::float32;
  session.write_file(call.out, ".wav", [&](const Destination& to) { write_probe(score, to, word); });
  const auto lines = instructions(score);
  if (call.shared.json)
    return print({{"output", call.out},
                  {"kind", call.kind},
                  {"rate_hz", score.rate_hz},
                  {"bits", call.bits},
                  {"frames", std::llround(score.length_s * score.rate_hz)},
                  {"instructions", lines},
                  {"score", score_json(score)}});
  if (call.out == "-") return;
  for (const auto& line : lines) session.say("{}\n", line);
}

struct ReadCall {
  Shared shared;
  std::string kind, csv;
  std::vector<std::string> files;
  int channel = 1;
};

void print_reading(const Session& session, const std::string& name, const ProbeReading& reading) {
  session.say("{}: written at {} Hz, came back at {} Hz, {:.2f} samples late\n", printable(name), reading.score.rate_hz,
              reading.return_rate_hz, reading.delay_s * reading.return_rate_hz);
  if (reading.sweep) session.say("    {}: {}\n", name_of(grade_of(*reading.sweep)), label_of(*reading.sweep));
  for (const auto& s : reading.steps)
    session.say("    {:>10} {}\n",
                s.step.tones_hz.empty() ? "silence" : fmt::format("{:.1f} Hz", s.step.tones_hz.front()),
                s.lines.thd_n_db ? fmt::format("THD+N {:.1f} dB", *s.lines.thd_n_db)
                                 : "noise " + shown(s.lines.noise_dbfs, 1, "dBFS"));
  if (reading.impulse)
    session.say("    rings {:.2f} ms before and {:.2f} ms after\n", 1000 * reading.impulse->pre_ringing_s,
                1000 * reading.impulse->post_ringing_s);
}

void read(const ReadCall& call) {
  if (!probe_kind(call.kind)) probe_score(call.kind, 48000);  // says what there is
  Session session(call.shared);
  const auto sources = session.sources(call.files);
  session.check_output(call.csv);
  std::vector<Json> table;
  Answer answer(session, "returns");
  answer.set("kind", call.kind);
  answer.each(sources, [&](const Source& source) {
    const Job job = session.watched(source.name);
    const auto clip = Clip::open(source.file, job.part(0, 0.3));
    if (call.channel > clip->format().channels)
      throw InputError(source.name,
                       fmt::format("it has {} channel{}, not {}; choose one it has", clip->format().channels,
                                   clip->format().channels == 1 ? "" : "s", call.channel));
    const auto reading = read_probe(*clip, call.kind, call.channel - 1, job.part(0.3, 1));
    Json json{{"path", source.name}};
    json.update(probe_json(reading));
    for (const Json& point : points_of(reading)) {
      table.push_back({{"path", source.name}});
      table.back().update(point);
    }
    print_reading(session, source.name, reading);
    return json;
  });
  if (!call.csv.empty()) session.write_text(call.csv, csv_of(table, {"path"}));
  answer.print();
}

}  // namespace

void add_probe(CLI::App& app) {
  auto call = std::make_shared<ProbeCall>();
  auto* verb = app.add_subcommand("probe", "write a test signal whose truth is known, with sync marks");
  verb->add_option("KIND", call->kind, "which; --list tells them");
  verb->add_option("-o,--output", call->out, "the .wav to write (- for standard output)");
  verb->add_option("--rate", call->rate_hz, "sample rate, Hz")
      ->capture_default_str()
      ->check(between(8000, 384000, "Hz"));
  verb->add_option("--bits", call->bits, "16, 24 or 32f")
      ->capture_default_str()
      ->check(CLI::IsMember({"16", "24", "32f"}));
  verb->add_flag("--list", call->list, "the kinds there are");
  add_common(*verb, call->shared);
  add_force(*verb, call->shared);
  verb->callback([call] { probe(*call); });
}

void add_read(CLI::App& app) {
  auto call = std::make_shared<ReadCall>();
  auto* verb = app.add_subcommand("read", "read a probe in what came back of it, whatever its delay, rate or level");
  verb->add_option("KIND", call->kind, "which probe it was")->required();
  verb->add_option("RETURN", call->files, "audio files (- for standard input)");
  verb->add_option("--channel", call->channel, "which channel, from 1")
      ->capture_default_str()
      ->check(between(1, most_channels, ""));
  verb->add_option("--csv", call->csv, "write its points to this file (- for standard output)");
  add_common(*verb, call->shared);
  add_lists(*verb, call->shared);
  add_force(*verb, call->shared);
  verb->callback([call] { read(*call); });
}

}  // namespace heathmist::cli
