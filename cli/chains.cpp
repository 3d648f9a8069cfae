// The verbs about chains: stages, pass.
#include <fmt/format.h>

#include <fstream>

#include "cli/verbs.hpp"
#include "core/audio/write.hpp"
#include "core/bench/ceiling.hpp"
#include "core/bench/json.hpp"
#include "core/bench/matrix.hpp"

namespace heathmist::cli {

namespace {

template <class T>
Json or_null(const std::optional<T>& value) {
  return value ? Json(*value) : Json(nullptr);
}

std::string range_of(const Parameter& p) {
  switch (p.kind) {
    case Parameter::Kind::number:
    case Parameter::Kind::whole:
      return fmt::format("{:g} to {:g} {}", p.low, p.high, p.unit);
    case Parameter::Kind::choice:
      return fmt::format("{}", fmt::join(p.choices, ", "));
    case Parameter::Kind::flag:
      return "true, false";
    default:
      return p.kind == Parameter::Kind::file ? "a file" : "text";
  }
}

}  // namespace

void stages(bool json) {
  if (json) {
    fmt::print("{}\n", stages_json().dump(2));
    return;
  }
  for (const StageType& t : stage_types()) {
    fmt::print("{}: {}\n", t.type, t.what);
    for (const Parameter& p : t.parameters)
      fmt::print("  {:<24} {} [{}], {}\n", p.key, range_of(p), p.initial.dump(), p.what);
  }
}

void pass(const std::string& master, const std::string& chain_file, const std::string& out, bool json) {
  const Chain chain = load_chain(chain_file);
  if (!out.ends_with(".wav") && !out.ends_with(".flac"))
    throw std::invalid_argument(fmt::format("-o writes a .wav or .flac file, not '{}'", out));
  const Job job = watched("pass");
  Passed passed;
  try {
    passed = heathmist::pass(Clip::open(master, job.part(0, 0.1)), chain, job.part(0.1, 0.95));
  } catch (const ChainError& error) {
    throw InputError(chain_file, error.what());
  }
  write_return(passed, chain, out, job.part(0.95, 1));
  const auto& f = passed.ret->format();
  if (!json) {
    fmt::print("{}: {} frames at {} Hz through {}\n", out, f.frames, f.sample_rate_hz, words_of(chain));
    return;
  }
  Json list = Json::array();
  for (const StageReport& s : passed.stages)
    list.push_back({{"type", s.type},
                    {"encoded_bytes", or_null(s.encoded_bytes)},
                    {"bit_rate_bps", or_null(s.bit_rate_bps)},
                    {"delay_samples", or_null(s.delay_samples)},
                    {"note", s.note}});
  fmt::print(
      "{}\n",
      Json{{"output", out}, {"frames", f.frames}, {"sample_rate_hz", f.sample_rate_hz}, {"stages", list}}.dump(2));
}

namespace {

/// A list of chains: [{...}, ...], {"chains": [...]}, or one chain alone.
std::vector<Chain> load_chains(const std::string& file) {
  std::ifstream in(file, std::ios::binary);
  if (!in) throw InputError(file, "these chains cannot be opened; check the name and its permissions");
  Json json;
  try {
    json = Json::parse(in);
  } catch (const std::exception&) {
    throw InputError(file, "this is no JSON; write {\"chains\": [{\"stages\": [...]}, ...]}");
  }
  if (json.is_object() && json.contains("chains")) json = Json(json["chains"]);
  if (json.is_object()) json = Json::array({json});
  if (!json.is_array() || json.empty())
    throw InputError(file, "it holds no chains; write {\"chains\": [{\"stages\": [...]}, ...]}");
  const auto folder = std::filesystem::absolute(file).lexically_normal().parent_path();
  std::vector<Chain> chains;
  for (const Json& c : json) {
    try {
      chains.push_back(chain_from_json(c, folder));
    } catch (const ChainError& error) {
      throw InputError(file, fmt::format("chain {}: {}", chains.size() + 1, error.what()));
    }
  }
  return chains;
}

std::vector<MatrixRow> rows_of(const MatrixCall& call) {
  std::vector<MatrixRow> rows;
  for (const auto& m : call.masters) {
    Clip::open(m);  // a file that cannot be read is refused before anything runs
    rows.push_back({std::filesystem::path(m).stem().string(), m, ""});
  }
  for (const auto& key : call.probes) {
    if (key == "all") {
      for (const auto& s : probe_signals()) rows.push_back({s.title, {}, s.key});
      continue;
    }
    const ProbeSignal* signal = probe_signal(key);
    if (!signal) {
      std::string known;
      for (const auto& s : probe_signals()) known += (known.empty() ? "" : ", ") + s.key;
      throw std::invalid_argument(fmt::format("there is no probe signal '{}'; there are all, {}", key, known));
    }
    rows.push_back({signal->title, {}, signal->key});
  }
  if (rows.empty()) throw std::invalid_argument("matrix takes masters, --probes, or both");
  return rows;
}

}  // namespace

void matrix(const MatrixCall& call) {
  const auto chains = load_chains(call.chains);
  const auto made = run_matrix(rows_of(call), chains, watched("matrix"));
  if (!call.csv.empty()) write_whole(call.csv, matrix_csv(made));
  if (call.json) {
    fmt::print("{}\n", matrix_json(made).dump(2));
    return;
  }
  for (size_t r = 0; r < made.rows.size(); ++r)
    for (size_t c = 0; c < made.columns.size(); ++c) {
      const MatrixCell& cell = made.at(r, c);
      if (!cell.failure.empty())
        fmt::print("{:<24} {:<32} {}\n", made.rows[r].name, title_of(made.columns[c]), cell.failure);
      else
        fmt::print("{:<24} {:<32} {:<12} {:>9} {:>10} {:>10}\n", made.rows[r].name, title_of(made.columns[c]),
                   cell.kind, cell.depth_db ? fmt::format("{:.1f} dBr", *cell.depth_db) : "-inf",
                   cell.tones ? fmt::format("{:.1f} dB", cell.tones->thd_n_db) : "",
                   cell.encoded_bytes ? fmt::format("{} kB", *cell.encoded_bytes / 1000) : "");
    }
}

void ceiling(const CeilingCall& call) {
  const auto chains = load_chains(call.chains);
  CeilingOptions options;
  options.limit_dbtp = call.limit_dbtp;
  options.limiter = call.limiter;
  const auto found = find_ceiling(Clip::open(call.master), chains, options, watched("ceiling"));
  if (call.json) {
    fmt::print("{}\n", ceiling_json(found).dump(2));
    return;
  }
  const char* unit = call.limiter ? "dBTP" : "dB";
  for (const auto& a : found.answers)
    fmt::print("{:<32} {}\n", a.name,
               !a.failure.empty() ? a.failure
               : a.set_db         ? fmt::format("{:+.2f} {}", *a.set_db, unit)
                                  : "nothing in range is enough");
  if (const auto all = found.for_all_db()) fmt::print("{:+.2f} {} is enough for all\n", *all, unit);
}

}  // namespace heathmist::cli
