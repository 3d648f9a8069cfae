// listeners: what listeners get of a master from an outlet, and a file that was brought back from there beside that.
#include "core/delivery/listeners.hpp"
#include "cli/verbs.hpp"
#include "core/compare/json.hpp"
#include "core/compare/null.hpp"
#include "core/delivery/measured.hpp"
#include "core/printable.hpp"

namespace heathmist::cli {

namespace {

struct ListenersCall {
  Shared shared;
  std::string master, outlet, brought;
};

/// A quality as it is heard: at the player's gain.
Json heard(const Session& session, std::shared_ptr<const Clip> master, const Chain& chain, const Job& job) {
  const auto ret = heathmist::pass(master, chain, job.part(0, 0.4), {session.grant()}).ret;
  const Loudness loudness = measure_loudness(*ret, {}, job.part(0.4, 0.5));
  const auto report = null_test(*master, *ret, comparable(master, ret, job.part(0.5, 0.6)), {}, job.part(0.6, 1));
  session.say("{:<44} {:>6} LUFS {:>7} dBTP  {:>7} dBr\n", printable(chain.name), shown(loudness.integrated_lufs),
              shown(loudness.true_peak_dbtp, 2), shown(report.residual_relative_db()));
  return {{"quality", chain.name},
          {"chain", chain_json(chain)},
          {"loudness_lufs", number_or_null(loudness.integrated_lufs)},
          {"true_peak_dbtp", number_or_null(loudness.true_peak_dbtp)},
          {"residual_relative_db", number_or_null(report.residual_relative_db())}};
}

void listeners(const ListenersCall& call) {
  Session session(call.shared);
  const Source master = session.source(call.master);
  std::optional<Source> brought;
  if (!call.brought.empty()) brought = session.source(call.brought);
  const Outlet outlet = outlet_named(call.outlet);
  if (outlet.encode) session.take(*outlet.encode);
  for (const Quality& q : outlet.qualities) session.take(q.chain);
  const Job job = session.watched(master.name);
  const auto clip = Clip::open(master.file, job.part(0, 0.1));
  const double gain = deliver(outlet, measure_loudness(*clip, {}, job.part(0.1, 0.2))).gain_db;
  session.say("the player turns it by {:+.2f} dB\n", gain);
  const auto chains = what_listeners_get(outlet, gain);
  Json gets = Json::array();
  for (size_t n = 0; n < chains.size(); ++n)
    gets.push_back(heard(
        session, clip, chains[n],
        job.part(0.2 + 0.4 * double(n) / double(chains.size()), 0.2 + 0.4 * double(n + 1) / double(chains.size()))));
  Json json{{"outlet", outlet.key}, {"player_gain_db", gain}, {"gets", gets}, {"brought", nullptr}};
  if (brought) {
    const auto b = lay_beside(outlet, gain, clip, Clip::open(brought->file), job.part(0.6, 1), session.grant());
    json["brought"] = brought_back_json(b);
    for (const auto& sentence : b.sentences) session.say("{}\n", sentence);
  }
  if (call.shared.wants_json()) print(json, call.shared);
}

}  // namespace

void add_listeners(CLI::App& app) {
  auto call = std::make_shared<ListenersCall>();
  auto* verb = app.add_subcommand("listeners", "what listeners get of a master: every quality, at the player's gain");
  verb->add_option("MASTER", call->master, "the audio that was delivered")->required();
  verb->add_option("--outlet", call->outlet, "where to")->required();
  verb->add_option("--brought", call->brought,
                   "a file brought back from there: was it the codec, the rate, the level?");
  add_common(*verb, call->shared);
  add_allow(*verb, call->shared);
  verb->callback([call] { listeners(*call); });
}

}  // namespace heathmist::cli
