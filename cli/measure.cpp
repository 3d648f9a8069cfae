// measure: loudness, true peak, range and levels of files.
#include "cli/verbs.hpp"
#include "core/delivery/measured.hpp"
#include "core/measure/coding.hpp"
#include "core/printable.hpp"

namespace heathmist::cli {

namespace {

struct MeasureCall {
  Shared shared;
  std::vector<std::string> files;
  Range range;
  bool album = false, dual_mono = false;
  double rms_window_s = 0.3;
  std::string csv;
};

Measured measured(const Session& session, const Source& source, const MeasureCall& call, Json& origin) {
  const Job job = session.watched(source.name);
  const auto clip = Clip::open(source.file, job.part(0, 0.3));
  MeterOptions options = listening(call.range.listen);
  options.dual_mono = call.dual_mono;
  options.rms_window_s = call.rms_window_s;
  std::tie(options.first, options.last) = frames_of(call.range, source, clip->format());
  if (options.listen == MeterOptions::Listen::one && options.channel >= clip->format().channels)
    throw InputError(source.name, fmt::format("it has {} channel{}, not {}; choose one it has", clip->format().channels,
                                              clip->format().channels == 1 ? "" : "s", options.channel + 1));
  origin = lossy_origin_json(*clip, job.part(0.3, 0.5));
  return measure(*clip, options, job.part(0.5, 1));
}

void print_row(const Session& session, const std::string& name, const Loudness& l) {
  session.say("{:>8} {:>6} {:>7} {:>7} {:>8} {:>6}  {}\n", shown(l.integrated_lufs),
              shown(l.range ? std::optional(l.range->lu()) : std::nullopt), shown(l.short_term_max_lufs),
              shown(l.momentary_max_lufs), shown(l.true_peak_dbtp, 2), shown(l.plr_db), printable(name));
}

void measure_files(const MeasureCall& call) {
  check(call.range);
  Session session(call.shared);
  const auto sources = session.sources(call.files);
  session.check_output(call.csv);
  std::deque<Measured> rows;
  std::vector<Json> table;
  Answer answer(session, "files");
  session.say("    LUFS  range   short moment.     dBTP    PLR\n");
  answer.each(sources, [&](const Source& source) {
    Json origin;
    rows.push_back(measured(session, source, call, origin));
    print_row(session, source.name, rows.back().loudness);
    Json& json = table.emplace_back(measured_json(source.name, rows.back()));
    json["lossy_origin"] = origin;
    return json;
  });
  if (call.album) {
    std::vector<const Loudness*> programmes;
    for (const Measured& m : rows) programmes.push_back(&m.loudness);
    const bool whole = !answer.failed();  // a part of an album is not the album
    const Loudness album = whole ? album_of(programmes) : Loudness();
    answer.set("album", whole ? album_json(album) : Json(nullptr));
    if (whole) print_row(session, "all of them as one programme", album);
  }
  if (!call.csv.empty()) session.write_text(call.csv, measured_csv(table));
  answer.print();
}

}  // namespace

void add_measure(CLI::App& app) {
  auto call = std::make_shared<MeasureCall>();
  auto* verb = app.add_subcommand("measure", "loudness, true peak, range and levels of files");
  verb->add_option("FILE", call->files, "audio files (- for standard input)");
  verb->add_flag("--album", call->album, "all files as one programme, too");
  verb->add_flag("--dual-mono", call->dual_mono, "a single channel counts as from two loudspeakers");
  verb->add_option("--rms-window", call->rms_window_s, "window of the highest RMS, in s")
      ->capture_default_str()
      ->check(between(0.01, 60, "s"));
  verb->add_option("--csv", call->csv, "write the numbers to this file (- for standard output)");
  add_range(*verb, call->range);
  add_common(*verb, call->shared);
  add_lists(*verb, call->shared);
  add_force(*verb, call->shared);
  verb->callback([call] { measure_files(*call); });
}

}  // namespace heathmist::cli
