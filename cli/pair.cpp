// pair: which return belongs to which master, by sound alone.
#include "cli/verbs.hpp"
#include "core/compare/json.hpp"
#include "core/delivery/pairing.hpp"
#include "core/printable.hpp"

namespace heathmist::cli {

namespace {

struct PairCall {
  Shared shared;
  std::vector<std::string> masters, returns;
  bool quick = false;
  std::string csv;
};

struct Heard {
  Source source;
  AcousticPrint print;
};

/// The prints of those that can be read; the others have their entry.
std::vector<Heard> hear(const Session& session, const std::vector<Source>& sources, Answer& unread) {
  std::vector<Heard> heard;
  for (const Source& source : sources) {
    try {
      heard.push_back({source, acoustic_print_of(source.file, session.watched(source.name))});
    } catch (const InputError& error) {
      unread.fail(source.name, error.what());
    }
  }
  return heard;
}

std::vector<AcousticPrint> prints_of(const std::vector<Heard>& heard) {
  std::vector<AcousticPrint> prints;
  for (const Heard& h : heard) prints.push_back(h.print);
  return prints;
}

std::vector<std::filesystem::path> files_of(const std::vector<Heard>& heard) {
  std::vector<std::filesystem::path> files;
  for (const Heard& h : heard) files.push_back(h.source.file);
  return files;
}

Json names_of(const std::vector<Heard>& heard, const std::vector<size_t>& which) {
  Json names = Json::array();
  for (const size_t n : which) names.push_back(heard[n].source.name);
  return names;
}

/// In samples of the master: as near as it was paired, or exactly.
double delay_of(const Pairing::Pair& pair, const Source& master, const Source& ret, bool quick) {
  if (pair.delay_samples) return *pair.delay_samples;
  const auto m = Clip::open(master.file);
  const double about = pair.delay_s * m->format().sample_rate_hz;
  return quick ? about : exact_delay_samples(m, Clip::open(ret.file), pair.delay_s).value_or(about);
}

std::vector<double> delays_of(const std::vector<Pairing::Pair>& pairs, const std::vector<Heard>& masters,
                              const std::vector<Heard>& returns, bool quick, const Job& job) {
  std::vector<double> delays(pairs.size());
  for_each_segment(
      std::ssize(pairs), job, [] { return 0; },
      [&](int, int64_t n) {
        const auto& pair = pairs[size_t(n)];
        delays[size_t(n)] = delay_of(pair, masters[pair.master].source, returns[pair.ret].source, quick);
      });
  return delays;
}

Json pair_json(const Session& session, const Pairing::Pair& p, double delay_samples, const std::vector<Heard>& masters,
               const std::vector<Heard>& returns) {
  const Source &master = masters[p.master].source, &ret = returns[p.ret].source;
  Json json{{"master", master.name},    {"return", ret.name},
            {"agreement", p.agreement}, {"delay_samples", delay_samples},
            {"overlap_s", p.overlap_s}, {"as_well", p.as_well ? Json(masters[*p.as_well].source.name) : Json(nullptr)}};
  session.say("{:.2f}  {}  {}\n", p.agreement, printable(master.name), printable(ret.name));
  if (p.as_well)
    session.warn(fmt::format("{}: {} and {} sound alike; nobody can tell by the sound which of the two it came from",
                             ret.name, master.name, masters[*p.as_well].source.name));
  return json;
}

void pair_files(const PairCall& call) {
  Session session(call.shared);
  if (call.returns.empty()) throw std::invalid_argument("name the returns after --with");
  const auto master_sources = session.sources(call.masters);
  std::vector<Source> return_sources;
  for (const auto& name : call.returns) return_sources.push_back(session.source(name));
  session.check_output(call.csv);
  Answer pairs(session, "pairs"), unread(session, "unread");
  const auto masters = hear(session, master_sources, unread), returns = hear(session, return_sources, unread);
  Pairing found = pair_by_sound(prints_of(masters), prints_of(returns));
  if (!call.quick) leave_other_takes(found, files_of(masters), files_of(returns), session.watched("other takes"));
  const auto delays = delays_of(found.pairs, masters, returns, call.quick, session.watched("delays"));
  for (size_t n = 0; n < found.pairs.size(); ++n)
    pairs.add(pair_json(session, found.pairs[n], delays[n], masters, returns));
  pairs.set("masters_left", names_of(masters, found.masters_left));
  pairs.set("returns_left", names_of(returns, found.returns_left));
  pairs.set("unread", unread.entries());
  for (const size_t n : found.masters_left) session.say("      {}  has no return\n", printable(masters[n].source.name));
  for (const size_t n : found.returns_left) session.say("      {}  has no master\n", printable(returns[n].source.name));
  session.write_text(call.csv, call.csv.empty() ? "" : csv_of(pairs.entries(), {"master", "return", "agreement"}));
  pairs.print();
  if (unread.failed()) throw SomeFailed();
}

}  // namespace

void add_pair(CLI::App& app) {
  auto call = std::make_shared<PairCall>();
  auto* verb = app.add_subcommand("pair", "which return belongs to which master, by sound alone");
  verb->add_option("MASTER", call->masters, "masters (- for standard input)");
  verb->add_option("--with", call->returns, "what came back");
  verb->add_flag("--quick", call->quick, "delays to about 12 ms, without a look at the samples");
  verb->add_option("--csv", call->csv, "write the pairs to this file (- for standard output)");
  add_common(*verb, call->shared);
  add_lists(*verb, call->shared);
  add_force(*verb, call->shared);
  verb->callback([call] { pair_files(*call); });
}

}  // namespace heathmist::cli
