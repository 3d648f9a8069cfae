// probe and read: test signals whose truth is known, written and read back.
#include "cli/verbs.hpp"
#include "core/boards/converter_board.hpp"
#include "core/printable.hpp"
#include "core/probes/engine_answers.hpp"

namespace heathmist::cli {

namespace {

struct ProbeCall {
  Shared shared;
  std::string kind, out, bits = "24", score, csv, midi;
  int rate_hz = 48000;
  bool list = false, mono = false;
};

void list_probes(const Session& session) {
  Answer answer(session, "probes");
  for (const auto& kind : probe_kinds()) {
    answer.add({{"kind", kind.key},
                {"title", kind.title},
                {"what", kind.what},
                {"seconds", probe_score(kind.key, 48000).length_s},
                {"for_engines", kind.for_engines}});
    session.say("{:<12} {}: {}\n", kind.key, kind.title, kind.what);
  }
  answer.set("rates_hz", probe_rates());
  answer.print();
}

/// Of a crossfade OUT-a.wav and OUT-b.wav; else OUT.wav itself.
std::vector<std::string> files_of(const ProbeScore& score, const std::string& out) {
  if (score.files() == 1) return {out};
  if (out == "-")
    throw std::invalid_argument("probe: a crossfade has two files, and standard output takes one; name a file");
  const auto path = std::filesystem::path(out);
  const auto stem = (path.parent_path() / path.stem()).string();
  return {stem + "-a.wav", stem + "-b.wav"};
}

void write_scores(const Session& session, const ProbeCall& call, const ProbeScore& score) {
  if (!call.score.empty()) session.write_text(call.score, text_of(score_json(score)) + "\n");
  if (!call.csv.empty()) session.write_text(call.csv, score_csv(score));
  if (call.midi.empty()) return;
  const auto midi = score_midi(score);
  session.write_text(call.midi, std::string(midi.begin(), midi.end()));
}

void check_scores(const Session& session, const ProbeCall& call, const ProbeScore& score) {
  for (const auto* file : {&call.score, &call.csv, &call.midi}) session.check_output(*file);
  if ((!call.csv.empty() || !call.midi.empty()) && score_csv(score).empty())
    throw std::invalid_argument(fmt::format(
        "--score-csv and --score-midi: nothing moves in the score of '{}'; gain and pan have one", score.kind));
}

void probe(const ProbeCall& call) {
  Session session(call.shared);
  if (call.list) return list_probes(session);
  if (call.kind.empty()) throw std::invalid_argument("probe: name a kind, or --list them");
  const auto score = probe_score(call.kind, call.rate_hz, {call.mono});
  if (call.out.empty() && call.score.empty() && call.csv.empty() && call.midi.empty())
    throw std::invalid_argument("probe: -o OUT.wav is missing");
  check_scores(session, call, score);
  std::vector<std::string> files;
  if (!call.out.empty()) {
    if (call.out != "-" && std::filesystem::path(call.out).extension() != ".wav")
      throw std::invalid_argument("-o: a probe is written as .wav");
    files = files_of(score, call.out);
    for (const auto& file : files) session.check_output(file);
  }
  const auto word = call.bits == "16" ? ProbeWord::pcm16 : call.bits == "24" ? ProbeWord::pcm24 : ProbeWord::float32;
  for (size_t n = 0; n < files.size(); ++n)
    session.write_file(files[n], ".wav", [&](const Destination& to) { write_probe(score, to, word, int(n)); });
  write_scores(session, call, score);
  auto lines = instructions(score);
  if (call.shared.wants_json())
    return print({{"output", files.empty() ? Json(nullptr) : Json(files.front())},
                  {"outputs", files},
                  {"kind", call.kind},
                  {"rate_hz", score.rate_hz},
                  {"bits", call.bits},
                  {"frames", score.frames()},
                  {"instructions", lines},
                  {"score", score_json(score)}},
                 call.shared);
  if (call.out == "-" || call.score == "-" || call.csv == "-" || call.midi == "-") return;
  for (const auto& line : lines) session.say("{}\n", line);
}

struct ReadCall {
  Shared shared;
  std::string kind, csv, score;
  std::vector<std::string> files;
  std::vector<double> positions;
  int channel = 1;
};

void print_findings(const Session& session, const ProbeReading& reading) {
  for (const Finding& f : engine_findings(reading)) session.say("    {:<7} {}\n", name_of(f.severity), f.text);
}

void print_reading(const Session& session, const std::string& name, const ProbeReading& reading) {
  session.say("{}: written at {} Hz, came back at {} Hz, {:.2f} samples late\n", printable(name), reading.score.rate_hz,
              reading.return_rate_hz, reading.delay_s * reading.return_rate_hz);
  if (reading.sweep) session.say("    {}: {}\n", name_of(grade_of(*reading.sweep)), label_of(*reading.sweep));
  for (const auto& s : reading.steps)
    session.say("    {:>10} {}\n",
                s.step.tones_hz.empty() ? "silence" : fmt::format("{:.1f} Hz", s.step.tones_hz.front()),
                s.lines.thd_n_db ? fmt::format("THD+N {:.1f} dB", *s.lines.thd_n_db)
                                 : "noise " + shown(s.lines.noise_dbfs, 1, "dBFS"));
  print_findings(session, reading);
  if (reading.impulse)
    session.say("    rings {:.2f} ms before and {:.2f} ms after\n", 1000 * reading.impulse->pre_ringing_s,
                1000 * reading.impulse->post_ringing_s);
}

/// A score from a file is read, and refused, once.
ReadOptions options_of(Session& session, const ReadCall& call) {
  ReadOptions options{call.channel - 1, {}};
  if (!call.score.empty()) options.asked_score = score_from(session, call.score, call.kind);
  return options;
}

/// One render for each position.
Json held_at(double position) {
  return {{"moves", {{{"from_s", 0}, {"until_s", probe_score("pan", 48000).length_s}, {"position", position}}}}};
}

void check_positions(const ReadCall& call, size_t renders) {
  if (call.positions.empty()) return;
  if (call.kind != "pan") throw std::invalid_argument("--positions: only of renders of the probe 'pan'");
  if (!call.score.empty()) throw std::invalid_argument("--positions: give these or a --score, not both");
  if (call.positions.size() != renders)
    throw std::invalid_argument(
        fmt::format("--positions: {} given, and renders {}; give one for each", call.positions.size(), renders));
}

/// Law and kind of renders that were made at one position each.
void tell_together(const Session& session, Answer& answer, std::vector<PanPoint> points, int inputs) {
  ProbeReading together;
  together.pan = judge_pan(std::move(points), inputs);
  Json findings = Json::array();
  for (const Finding& f : engine_findings(together)) findings.push_back(finding_json(f));
  answer.set("together", {{"pan", engine_json(together)}, {"findings", findings}});
  session.say("together:\n");
  print_findings(session, together);
}

void read(const ReadCall& call) {
  if (!probe_kind(call.kind)) probe_score(call.kind, 48000);  // says what there is
  Session session(call.shared);
  const auto sources = session.sources(call.files);
  check_positions(call, sources.size());
  auto options = options_of(session, call);
  session.check_output(call.csv);
  std::vector<Json> table;
  std::vector<PanPoint> held;
  size_t place = 0;
  int inputs = 2;
  Answer answer(session, "returns");
  answer.set("kind", call.kind);
  answer.each(sources, [&](const Source& source) {
    const Job job = session.watched(source.name);
    if (!call.positions.empty()) options.asked_score = held_at(call.positions[place++]);
    const auto clip = Clip::open(source.file, job.part(0, 0.3));
    if (call.channel > clip->format().channels)
      throw InputError(source.name,
                       fmt::format("it has {} channel{}, not {}; choose one it has", clip->format().channels,
                                   clip->format().channels == 1 ? "" : "s", call.channel));
    const auto reading = read_probe(*clip, call.kind, options, job.part(0.3, 1));
    Json json{{"path", source.name}};
    json.update(probe_json(reading));
    for (const Json& point : points_of(reading)) {
      table.push_back({{"path", source.name}});
      table.back().update(point);
    }
    print_reading(session, source.name, reading);
    if (!call.positions.empty()) {
      held.insert(held.end(), reading.pan->positions.begin(), reading.pan->positions.end());
      inputs = std::min(inputs, reading.pan->inputs);
    }
    return json;
  });
  if (held.size() > 1) tell_together(session, answer, held, inputs);
  if (!call.csv.empty()) session.write_text(call.csv, csv_of(table, {"path"}));
  answer.print();
}

}  // namespace

Json score_from(Session& session, const std::string& name, const std::string& kind) {
  const Source file = session.source(name);
  session.also_reads(file.file);
  try {
    Json asked = json_from_file(file.file);
    if (asked.is_object() && asked.contains("score")) asked = Json(asked["score"]);
    with_score(probe_score(kind, 48000), asked);
    return asked;
  } catch (const JsonError& error) {
    throw InputError(name, error.what());
  }
}

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
  verb->add_flag("--mono", call->mono, "one channel; of probes for engines");
  verb->add_option("--score", call->score, "write what is to be done and when, as JSON (- for standard output)");
  verb->add_option("--score-csv", call->csv, "the same as CSV: time and value; of gain and pan");
  verb->add_option("--score-midi", call->midi, "the same as a Standard MIDI File, controller 7 or 10");
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
  verb->add_option("--positions", call->positions, "of several renders of 'pan', the position that each was made at")
      ->delimiter(',')
      ->check(between(-100, 100, ""));
  verb->add_option("--score", call->score, "what was asked instead of the kind's own score, as JSON");
  add_common(*verb, call->shared);
  add_lists(*verb, call->shared);
  add_force(*verb, call->shared);
  verb->callback([call] { read(*call); });
}

}  // namespace heathmist::cli
