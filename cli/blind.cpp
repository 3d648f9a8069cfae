// heathmist-cli blind: what so many right answers show.
#include "cli/verbs.hpp"
#include "core/hearing/chance.hpp"

namespace heathmist::cli {

namespace {

struct BlindCall {
  Shared shared;
  int right = 0, of = 0, choices = 2;
};

void blind(const BlindCall& call) {
  Session session(call.shared);
  const Verdict v = judge_answers(call.right, call.of, call.choices);
  if (call.shared.wants_json())
    return print({{"right", v.right},
                  {"of", v.of},
                  {"choices", v.choices},
                  {"p_value", v.p_value},
                  {"share", v.share},
                  {"low", v.low},
                  {"high", v.high},
                  {"enough", v.enough},
                  {"needed", needed_right(v.of, v.choices)},
                  {"sentence", v.sentence}},
                 call.shared);
  session.say("{}\n", v.sentence);
  session.say("  right      {:.1f} % (95 % interval {:.1f} to {:.1f} %)\n", 100 * v.share, 100 * v.low, 100 * v.high);
  session.say("  guessing   {:.4g}\n", v.p_value);
  const int needed = needed_right(v.of, v.choices);
  if (v.enough) session.say("  for 5 %    {} of {} are needed\n", needed, v.of);
}

}  // namespace

void add_blind(CLI::App& app) {
  auto call = std::make_shared<BlindCall>();
  auto* verb = app.add_subcommand("blind", "what so many right answers of a blind test show");
  verb->add_option("--right", call->right, "how many were right")->required();
  verb->add_option("--of", call->of, "of how many")->required();
  verb->add_option("--choices", call->choices, "that each was one of; a guesser is right once in so many");
  add_common(*verb, call->shared);
  verb->callback([call] { blind(*call); });
}

}  // namespace heathmist::cli
