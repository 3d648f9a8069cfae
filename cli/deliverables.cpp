// deliverables: for each master the set that should exist, and what of it is missing or made from an older version.
#include "core/delivery/deliverables.hpp"
#include "cli/verbs.hpp"
#include "core/compare/json.hpp"
#include "core/delivery/pairing.hpp"
#include "core/printable.hpp"

namespace heathmist::cli {

namespace {

struct DeliverablesCall {
  Shared shared;
  std::vector<std::string> masters, files, earlier;
  std::string plan, csv;
};

/// Earlier versions belong to the masters that they sound like, in the order in which they were named.
void assign(std::vector<MasterVersions>& masters, const std::vector<Source>& earlier, const Session& session) {
  if (earlier.empty()) return;
  std::vector<AcousticPrint> of_masters, of_earlier;
  for (const auto& m : masters) of_masters.push_back(acoustic_print_of(m.now));
  for (const Source& e : earlier) of_earlier.push_back(acoustic_print_of(e.file));
  const Pairing pairing = pair_by_sound(of_masters, of_earlier);
  for (const auto& pair : pairing.pairs) masters[pair.master].earlier.push_back(earlier[pair.ret].file);
  for (const size_t n : pairing.returns_left)
    session.warn(fmt::format("{}: no master sounds like this earlier version; it is not used", earlier[n].name));
}

void print_line(const Session& session, const Json& d) {
  const std::string file = d["file"].is_null() ? "" : d["file"].get<std::string>();
  session.say("{:<8} {:<28} {:<20} {}\n", d["state"].get<std::string>(),
              printable(std::filesystem::path(d["master"].get<std::string>()).filename()),
              printable(d["deliverable"].get<std::string>()), printable(file));
  if (!d["made_from"].is_null()) session.say("         made from {}\n", printable(d["made_from"].get<std::string>()));
  for (const Json& fault : d["faults"]) session.say("         {}\n", fault["text"].get<std::string>());
}

void deliverables(const DeliverablesCall& call) {
  Session session(call.shared);
  session.also_reads(call.plan);
  const DeliveryPlan plan = load_plan(call.plan);
  std::vector<MasterVersions> masters;
  for (const Source& s : session.sources(call.masters)) masters.push_back({s.file});
  std::vector<std::filesystem::path> files;
  for (const auto& name : call.files) files.push_back(session.source(name).file);
  std::vector<Source> earlier;
  for (const auto& name : call.earlier) earlier.push_back(session.source(name));
  session.check_output(call.csv);
  assign(masters, earlier, session);
  const Deliverables found = find_deliverables(plan, masters, files, session.watched("deliverables"));
  Answer answer(session, "deliverables");
  for (const Deliverable& d : found.wanted) {
    const Json json = deliverable_json(d, plan, masters);
    print_line(session, json);
    answer.add(json);
  }
  Json aside = Json::array();
  for (const auto& a : found.aside) {
    if (a.is_unread) answer.fault(a.sentence);
    aside.push_back({{"path", a.file.string()}, {"why", a.sentence}});
    session.say("aside    {}: {}\n", printable(a.file.filename()), a.sentence);
  }
  answer.set("missing", found.missing()), answer.set("complete", found.complete()), answer.set("aside", aside);
  session.write_text(call.csv, call.csv.empty() ? "" : csv_of(answer.entries(), {"master", "deliverable", "state"}));
  answer.print();
  if (!found.complete()) throw SomeDidNotPass();
}

}  // namespace

void add_deliverables(CLI::App& app) {
  auto call = std::make_shared<DeliverablesCall>();
  auto* verb = app.add_subcommand("deliverables", "for each master the files that should exist, and what is missing");
  verb->add_option("MASTER", call->masters, "masters (- for standard input)");
  verb->add_option("--with", call->files, "what there is");
  verb->add_option("--plan", call->plan, "what there should be, a JSON file")->required();
  verb->add_option("--earlier", call->earlier, "earlier versions of masters: what was made from them is told");
  verb->add_option("--csv", call->csv, "write the table to this file (- for standard output)");
  add_common(*verb, call->shared);
  add_lists(*verb, call->shared);
  add_force(*verb, call->shared);
  verb->callback([call] { deliverables(*call); });
}

}  // namespace heathmist::cli
