// check: many files against one set of rules.
#include "cli/verbs.hpp"
#include "core/delivery/sheet.hpp"
#include "core/printable.hpp"

namespace heathmist::cli {

namespace {

struct CheckCall {
  Shared shared;
  std::vector<std::string> files;
  std::string outlet, rules, csv, html;
  bool album = false;
};

Rules rules_for(Session& session, const CheckCall& call) {
  if (call.outlet.empty() == call.rules.empty())
    throw std::invalid_argument(
        "say what the files are checked against: --outlet KEY or --rules FILE.json, one of the two");
  if (!call.rules.empty()) {
    session.also_reads(call.rules);
    return load_rules(call.rules);
  }
  return rules_of(outlet_named(call.outlet));
}

void print_row(const Session& session, const std::string& name, const Checked& c) {
  session.say("{}  {:>8} LUFS {:>7} dBTP  {}\n", c.passes() ? "passes" : "FAILS ",
              shown(c.measured.loudness.integrated_lufs), shown(c.measured.loudness.true_peak_dbtp), printable(name));
  for (const Fault& f : c.faults)
    session.say("        {}{}\n", f.text, f.at_s ? fmt::format(" (at {:.2f} s)", *f.at_s) : "");
}

/// Of an album: what it is as one programme, and what is wrong with that.
Json album_entry(const Session& session, const std::vector<Checked>& tracks, const Rules& rules, size_t& failed) {
  std::vector<const Loudness*> programmes;
  for (const Checked& c : tracks) programmes.push_back(&c.measured.loudness);
  const auto faults = check_album(programmes, rules);
  failed += faults.empty() ? 0 : 1;
  session.say("{}  all of them as one programme\n", faults.empty() ? "passes" : "FAILS ");
  for (const Fault& f : faults) session.say("        {}\n", f.text);
  Json json{{"passes", faults.empty()}, {"faults", faults_json(faults)}};
  json.update(album_json(album_of(programmes)));
  return json;
}

void check_files(const CheckCall& call) {
  Session session(call.shared);
  const Rules rules = rules_for(session, call);
  const auto sources = session.sources(call.files);
  session.check_output(call.csv), session.check_output(call.html);
  if (call.csv == "-" && call.html == "-")
    throw std::invalid_argument("--csv and --html cannot both go to standard output");
  Answer answer(session, "files");
  std::vector<Checked> tracks;
  size_t passed = 0, failed = 0;
  answer.each(sources, [&](const Source& source) {
    const Job job = session.watched(source.name);
    const Job most = job.part(0, 0.7);
    Checked c = call.album ? check_track(source.file, rules, most) : check_file(source.file, rules, most);
    know_origin(source.file, c, job.part(0.7, 1));  // an entry says all that `measure` does
    print_row(session, source.name, c);
    ++(c.passes() ? passed : failed);
    Json entry = checked_json(source.name, c);
    if (call.album) tracks.push_back(std::move(c));
    return entry;
  });
  answer.set("passed", passed), answer.set("failed", failed);
  if (call.album)  // a part of an album is not the album
    answer.set("album", answer.failed() ? Json(nullptr) : album_entry(session, tracks, rules, failed));
  session.say("{} pass, {} fail\n", passed, failed);
  const auto all = answer.entries();
  session.write_text(call.csv, call.csv.empty() ? "" : sheet_csv(all));
  session.write_text(call.html, call.html.empty() ? "" : sheet_html(rules.name.empty() ? "Sheet" : rules.name, all));
  answer.print();
  if (failed > 0) throw SomeDidNotPass();
}

}  // namespace

void add_check(CLI::App& app) {
  auto call = std::make_shared<CheckCall>();
  auto* verb = app.add_subcommand("check", "many files against an outlet or a file of rules: pass or fail");
  verb->add_option("FILE", call->files, "audio files (- for standard input)");
  verb->add_option("--outlet", call->outlet, "the outlet whose rules count");
  verb->add_option("--rules", call->rules, "rules of your own, a JSON file");
  verb->add_flag("--album", call->album, "loudness and range count for all of them together");
  verb->add_option("--csv", call->csv, "write the sheet to this file (- for standard output)");
  verb->add_option("--html", call->html, "the same as a page");
  add_common(*verb, call->shared);
  add_lists(*verb, call->shared);
  add_force(*verb, call->shared);
  verb->callback([call] { check_files(*call); });
}

}  // namespace heathmist::cli
