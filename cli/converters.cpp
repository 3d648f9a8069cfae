// converters: every converter for one pair of rates, and sweeps that came back from other programs.
#include "cli/verbs.hpp"
#include "core/boards/converter_board.hpp"
#include "core/printable.hpp"

namespace heathmist::cli {

namespace {

struct ConvertersCall {
  Shared shared;
  std::vector<std::string> files;
  int from_hz = 96000, to_hz = 44100;
  std::string only, csv;
};

/// The converters whose names hold what was asked for.
std::vector<BoardRow> own_rows(const Session& session, const ConvertersCall& call, bool alone) {
  std::vector<BoardRow> rows;
  int asked = 0;
  for (const Chain& chain : board_converters(call.to_hz)) {
    const std::string name = title_of(chain);
    if (!call.only.empty() && name.find(call.only) == std::string::npos) continue;
    ++asked;
    try {
      rows.push_back(read_converter(chain, call.from_hz, session.watched(name)));
    } catch (const ChainError& error) {  // some libraries take not every ratio
      session.warn(name + ": " + error.what());
    }
  }
  if (asked == 0 && alone)
    throw std::invalid_argument("--only: no converter's name holds '" + printable(call.only) + "'");
  return rows;
}

void converters(const ConvertersCall& call) {
  if (call.from_hz == call.to_hz) throw std::invalid_argument("--to: it is the rate that comes in; name another");
  probe_score("sweep", call.from_hz);  // refuses a rate there is no probe for
  Session session(call.shared);
  std::vector<Source> sources;
  if (!call.files.empty() || !call.shared.from_file.empty()) sources = session.sources(call.files);
  session.check_output(call.csv);
  auto rows = own_rows(session, call, sources.empty());
  std::vector<std::pair<std::string, std::string>> bad;
  for (const Source& source : sources) {
    try {
      rows.push_back(read_returned_sweep(source.file, session.watched(source.name)));
    } catch (const InputError& error) {
      bad.emplace_back(source.name, error.what());
    }
  }
  std::sort(rows.begin(), rows.end(),  // the best first: there is no line before all are read
            [](const BoardRow& a, const BoardRow& b) { return a.sweep.audible.db < b.sweep.audible.db; });
  std::vector<Json> table;
  Answer answer(session, "converters");
  answer.set("from_hz", call.from_hz), answer.set("to_hz", call.to_hz);
  for (const BoardRow& row : rows) {
    answer.add(board_json(row)), table.push_back(board_line(row));
    session.say("{:<40} {:<9} {}\n", printable(row.name), name_of(grade_of(row.sweep)), label_of(row.sweep));
  }
  for (const auto& [name, sentence] : bad) answer.fail(name, sentence);
  if (!call.csv.empty()) session.write_text(call.csv, csv_of(table));
  answer.print();
}

}  // namespace

void add_converters(CLI::App& app) {
  auto call = std::make_shared<ConvertersCall>();
  auto* verb = app.add_subcommand("converters", "the converter board for a pair of rates");
  verb->add_option("RETURN", call->files, "sweep probes that came back from other programs");
  verb->add_option("--from", call->from_hz, "the rate that comes in, Hz")
      ->capture_default_str()
      ->check(between(8000, 384000, "Hz"));
  verb->add_option("--to", call->to_hz, "the rate that goes out, Hz")
      ->capture_default_str()
      ->check(between(8000, 384000, "Hz"));
  verb->add_option("--only", call->only, "only those whose name holds this");
  verb->add_option("--csv", call->csv, "write the table to this file (- for standard output)");
  add_common(*verb, call->shared);
  add_lists(*verb, call->shared);
  add_force(*verb, call->shared);
  verb->callback([call] { converters(*call); });
}

}  // namespace heathmist::cli
