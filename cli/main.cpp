// heathmist-cli: the headless face of the core.
#include "cli/verbs.hpp"
#include "core/engines/engine.hpp"

namespace {

using namespace heathmist;

/// What is wrong with the words of a call: where one of them is nearly another, that is said.
std::string sentence_for(const CLI::App& app, const CLI::ParseError& error, const std::vector<std::string>& words) {
  std::vector<std::string> verbs;
  for (const auto* verb : app.get_subcommands([](const CLI::App*) { return true; })) verbs.push_back(verb->get_name());
  const bool no_verb = words.empty() || std::find(verbs.begin(), verbs.end(), words.front()) == verbs.end();
  if (no_verb && !words.empty() && !words.front().starts_with('-')) {
    const auto near = cli::nearest(words.front(), verbs);
    return fmt::format("there is no verb '{}'{} heathmist-cli --help lists them", words.front(),
                       near.empty() ? ";" : fmt::format(", did you mean '{}'?", near));
  }
  if (no_verb) return std::string(error.what()) + "; heathmist-cli --help lists what there is";
  std::vector<std::string> options;
  for (const auto* option : app.get_subcommand(words.front())->get_options())
    for (const auto& name : option->get_lnames()) options.push_back("--" + name);
  for (const auto& word : words) {
    const auto name = word.substr(0, word.find('='));
    if (!name.starts_with("--") || std::find(options.begin(), options.end(), name) != options.end()) continue;
    const auto near = cli::nearest(name, options);
    return fmt::format("{} has no option '{}'{}", words.front(), name,
                       near.empty() ? fmt::format("; heathmist-cli {} --help lists them", words.front())
                                    : fmt::format(", did you mean '{}'?", near));
  }
  return error.what();
}

int run(CLI::App& app, int argc, char** argv) {
  try {
    app.parse(argc, argv);
    return 0;
  } catch (const CLI::Success& asked) {  // --help, --version
    return app.exit(asked);
  } catch (const CLI::ParseError& error) {
    cli::complain(sentence_for(app, error, {argv + 1, argv + argc}));
    return 2;
  } catch (const cli::SomeFailed&) {
    return 1;
  } catch (const cli::SomeDidNotPass&) {
    return 3;
  } catch (const std::invalid_argument& error) {
    cli::complain(error.what());
    return 2;
  } catch (const std::exception& error) {
    cli::complain(error.what());
    return 1;
  }
}

}  // namespace

int main(int argc, char** argv) {
  heathmist::offer_engine_stage();
  CLI::App app{"Heathmist: what changed in the audio, by how much, where, and does it matter", "heathmist-cli"};
  app.set_version_flag("--version", HEATHMIST_VERSION);
  app.require_subcommand(1);
  for (const auto add : {cli::add_facts, cli::add_measure, cli::add_null,       cli::add_spectrum,    cli::add_outlets,
                         cli::add_level, cli::add_pass,    cli::add_stages,     cli::add_matrix,      cli::add_ceiling,
                         cli::add_probe, cli::add_read,    cli::add_converters, cli::add_engines,     cli::add_perform,
                         cli::add_blind, cli::add_devices, cli::add_capture,    cli::add_check,       cli::add_pair,
                         cli::add_align, cli::add_reach,   cli::add_listeners,  cli::add_deliverables})
    add(app);
  const int status = run(app, argc, argv);
  if (std::fflush(stdout) == 0 && !std::ferror(stdout)) return status;
  cli::complain("standard output cannot be written to its end; check where it leads");
  return 1;
}
