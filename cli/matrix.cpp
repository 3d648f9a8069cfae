// matrix and ceiling: many chains at once.
#include "core/boards/matrix.hpp"
#include "cli/verbs.hpp"
#include "core/delivery/ceiling.hpp"
#include "core/printable.hpp"

namespace heathmist::cli {

namespace {

struct MatrixCall {
  Shared shared;
  std::vector<std::string> masters, probes;
  std::string chains, csv;
};

void add_probes(const std::vector<std::string>& keys, std::vector<MatrixRow>& rows) {
  for (const auto& key : keys) {
    if (key == "all") {
      for (const auto& s : probe_signals()) rows.push_back({s.title, {}, s.key});
      continue;
    }
    const ProbeSignal* signal = probe_signal(key);
    if (!signal) {
      std::vector<std::string> known{"all"};
      for (const auto& s : probe_signals()) known.push_back(s.key);
      throw std::invalid_argument(
          fmt::format("there is no probe signal '{}'; there are {}", printable(key), fmt::join(known, ", ")));
    }
    rows.push_back({signal->title, {}, signal->key});
  }
}

void print_cell(const Session& session, const MatrixRow& row, const Chain& chain, const MatrixCell& cell) {
  if (!cell.failure.empty())
    return session.say("{:<24} {:<32} {}\n", printable(row.name), title_of(chain), cell.failure);
  session.say("{:<24} {:<32} {:<12} {:>9} {:>10} {:>10}\n", printable(row.name), title_of(chain), cell.kind,
              cell.depth_db ? fmt::format("{:.1f} dBr", *cell.depth_db) : "-inf",
              cell.tones ? fmt::format("{:.1f} dB", cell.tones->thd_n_db) : "",
              cell.encoded_bytes ? fmt::format("{} kB", *cell.encoded_bytes / 1000) : "");
}

void matrix(const MatrixCall& call) {
  Session session(call.shared);
  std::vector<MatrixRow> rows;
  std::vector<std::string> bad;
  if (!call.masters.empty() || !call.shared.from_file.empty())
    for (const Source& source : session.sources(call.masters)) {
      rows.push_back({std::filesystem::path(source.name).stem().string(), source.file, ""});
      try {
        Clip::open(source.file);
      } catch (const InputError& error) {
        bad.push_back(error.what());
      }
    }
  add_probes(call.probes, rows);
  if (rows.empty()) throw std::invalid_argument("matrix takes masters, --probes, or both");
  const auto chains = chains_from(session, call.chains);
  session.check_output(call.csv);
  for (const auto& sentence : bad) complain(sentence);  // its cells say so, and the others stand
  const auto stream = [&](size_t row, size_t column, const MatrixCell& cell) {
    if (call.shared.jsonl) print(cell_json(rows[row], chains[column], cell), call.shared);
  };
  const auto made = run_matrix(rows, chains, session.watched("matrix"), stream, session.grant());
  if (!call.csv.empty()) session.write_text(call.csv, matrix_csv(made));
  if (call.shared.json) print(matrix_json(made), call.shared);
  for (size_t r = 0; r < made.rows.size(); ++r)
    for (size_t c = 0; c < made.columns.size(); ++c) print_cell(session, made.rows[r], made.columns[c], made.at(r, c));
  if (!bad.empty()) throw SomeFailed();
}

struct CeilingCall {
  Shared shared;
  std::string master, chains;
  double limit_dbtp = 0;
  bool limiter = false;
};

void ceiling(const CeilingCall& call) {
  Session session(call.shared);
  const Source master = session.source(call.master);
  const auto chains = chains_from(session, call.chains);
  CeilingOptions options;
  options.limit_dbtp = call.limit_dbtp;
  options.limiter = call.limiter;
  const auto found = find_ceiling(master.file, chains, options, session.watched("ceiling"), {}, session.grant());
  if (call.shared.wants_json()) return print(ceiling_json(found), call.shared);
  const char* unit = call.limiter ? "dBTP" : "dB";
  for (const auto& a : found.answers)
    session.say("{:<32} {}\n", a.name,
                !a.failure.empty() ? a.failure
                : a.set_db         ? fmt::format("{:+.2f} {}", *a.set_db, unit)
                                   : "nothing in range is enough");
  for (const auto& a : found.answers) {
    if (!a.risk_at_most) continue;
    session.say(
        "{}: all of {} encodes at it and to 0.2 dB under it held, {:.2f} dB to spare; at most {:.0f} % of such may "
        "not (95 % confidence)\n",
        a.name, a.neighbours, *a.margin_db, 100 * *a.risk_at_most);
    for (const auto& p : a.lucky)
      session.say("    {:+.2f} {} held by luck: one lower came back over\n", p.set_db, unit);
  }
  if (const auto all = found.for_all_db()) session.say("{:+.2f} {} is enough for all\n", *all, unit);
}

}  // namespace

void add_matrix(CLI::App& app) {
  auto call = std::make_shared<MatrixCall>();
  auto* verb = app.add_subcommand("matrix", "null every master and probe signal against every chain");
  verb->add_option("MASTER", call->masters, "audio files");
  verb->add_option("--chains", call->chains, "chains as JSON: {\"chains\": [{\"stages\": [...]}, ...]}")->required();
  verb->add_option("--probes", call->probes, "a probe signal by key, or all; more after commas, or again")
      ->delimiter(',')
      ->allow_extra_args(false);
  verb->add_option("--csv", call->csv, "write the cells to this file (- for standard output)");
  add_common(*verb, call->shared);
  add_lists(*verb, call->shared);
  add_force(*verb, call->shared);
  add_allow(*verb, call->shared);
  verb->callback([call] { matrix(*call); });
}

void add_ceiling(CLI::App& app) {
  auto call = std::make_shared<CeilingCall>();
  auto* verb = app.add_subcommand("ceiling", "the highest gain at which no encode comes back over a limit");
  verb->add_option("MASTER", call->master, "the audio under test (- for standard input)")->required();
  verb->add_option("--chains", call->chains, "chains as JSON: {\"chains\": [{\"stages\": [...]}, ...]}")->required();
  verb->add_option("--limit", call->limit_dbtp, "dBTP that the decoded return may reach")
      ->capture_default_str()
      ->check(between(-60, 12, "dBTP"));
  verb->add_flag("--limiter", call->limiter, "search the ceiling of a true-peak limiter instead");
  add_common(*verb, call->shared);
  add_force(*verb, call->shared);
  add_allow(*verb, call->shared);
  verb->callback([call] { ceiling(*call); });
}

}  // namespace heathmist::cli
