// reach: what each way to an outlet's loudness costs.
#include "core/delivery/reach.hpp"
#include "cli/verbs.hpp"
#include "core/printable.hpp"

namespace heathmist::cli {

namespace {

struct ReachCall {
  Shared shared;
  std::string master, outlet;
};

void reach(const ReachCall& call) {
  Session session(call.shared);
  const Source master = session.source(call.master);
  const Outlet outlet = outlet_named(call.outlet);
  if (outlet.encode) session.take(*outlet.encode);
  session.say("    LUFS    dBTP   PLR  range  residual  moves\n");
  const Reach found =
      ways_to(outlet, Clip::open(master.file), session.watched(master.name), session.grant(), [&](const Way& w) {
        session.say("{:>8} {:>7} {:>5} {:>6} {:>9} {:>6.0f}  {}{}\n", shown(w.loudness_lufs),
                    shown(w.true_peak_dbtp, 2), shown(w.plr_db), shown(w.range_lu), shown(w.residual_relative_db),
                    w.moves_a_minute, w.name, w.reaches ? "" : "; does not reach it");
      });
  Json ways = Json::array();
  for (const Way& w : found.ways) ways.push_back(way_json(w));
  if (found.best) session.say("least harmful: {}\n", found.ways[*found.best].name);
  if (call.shared.wants_json())
    print(
        {{"target_lufs", found.target_lufs}, {"ways", ways}, {"best", found.best ? Json(*found.best) : Json(nullptr)}},
        call.shared);
}

}  // namespace

void add_reach(CLI::App& app) {
  auto call = std::make_shared<ReachCall>();
  auto* verb = app.add_subcommand("reach", "ways to an outlet's loudness, and what each of them costs");
  verb->add_option("MASTER", call->master, "the audio that is to get there")->required();
  verb->add_option("--outlet", call->outlet, "where it is delivered to")->required();
  add_common(*verb, call->shared);
  add_allow(*verb, call->shared);
  verb->callback([call] { reach(*call); });
}

}  // namespace heathmist::cli
