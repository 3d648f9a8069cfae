// heathmist-cli: the headless face of the core.
#include <fmt/format.h>

#include <CLI/CLI.hpp>

#include "cli/verbs.hpp"
#include "core/audio/clip.hpp"

int main(int argc, char** argv) {
  using namespace heathmist;
  CLI::App app{"Heathmist: what changed in the audio, by how much, where, and does it matter", "heathmist-cli"};
  app.set_version_flag("--version", HEATHMIST_VERSION);
  app.require_subcommand(1);

  std::vector<std::string> files;
  bool facts_json = false;
  auto* facts = app.add_subcommand("facts", "what files say they are, and what their samples are");
  facts->add_option("FILE", files, "audio files")->required();
  facts->add_flag("--json", facts_json, "one JSON object on standard output");

  cli::NullCall call;
  auto* null = app.add_subcommand("null", "lay a return on its master and measure what is left");
  null->add_option("MASTER", call.master, "the audio under test")->required();
  null->add_option("RETURN", call.ret, "what came back")->required();
  null->add_option("--align", call.align, "auto, none, or the return's delay in samples")->capture_default_str();
  null->add_option("--gain", call.gain, "auto, none, or the return's gain in dB")->capture_default_str();
  null->add_option("--drift", call.drift, "auto or none")->capture_default_str();
  null->add_option("--residual", call.residual, "write the residual to this .wav (32-bit float)");
  null->add_option("--floor", call.floor, "a recording of silence through the same route: its baseline");
  null->add_flag("--json", call.json, "one JSON object on standard output");

  std::string master, chain, out;
  bool pass_json = false, stages_json = false;
  auto* pass = app.add_subcommand("pass", "send a master through a chain of stages and write the return");
  pass->add_option("MASTER", master, "the audio under test")->required();
  pass->add_option("--chain", chain, "a chain as JSON: {\"stages\": [{\"type\": ...}]}")->required();
  pass->add_option("-o,--output", out, "the return: .wav or .flac")->required();
  pass->add_flag("--json", pass_json, "one JSON object on standard output");
  auto* stages = app.add_subcommand("stages", "the types of stages and their parameters");
  stages->add_flag("--json", stages_json, "one JSON object on standard output");

  cli::MatrixCall board;
  auto* matrix = app.add_subcommand("matrix", "null every master and probe signal against every chain");
  matrix->add_option("MASTER", board.masters, "audio files");
  matrix->add_option("--chains", board.chains, "chains as JSON: {\"chains\": [{\"stages\": [...]}, ...]}")->required();
  matrix->add_option("--probes", board.probes, "probe signals by key, or all")->delimiter(',');
  matrix->add_option("--csv", board.csv, "write the cells to this file");
  matrix->add_flag("--json", board.json, "one JSON object on standard output");
  cli::CeilingCall search;
  auto* ceiling = app.add_subcommand("ceiling", "the highest gain at which no encode comes back over a limit");
  ceiling->add_option("MASTER", search.master, "the audio under test")->required();
  ceiling->add_option("--chains", search.chains, "chains as JSON: {\"chains\": [{\"stages\": [...]}, ...]}")
      ->required();
  ceiling->add_option("--limit", search.limit_dbtp, "dBTP that the decoded return may reach")
      ->capture_default_str()
      ->check(CLI::Range(-60.0, 12.0));
  ceiling->add_flag("--limiter", search.limiter, "search the ceiling of a true-peak limiter instead");
  ceiling->add_flag("--json", search.json, "one JSON object on standard output");

  try {
    app.parse(argc, argv);
  } catch (const CLI::ParseError& error) {
    return app.exit(error) == 0 ? 0 : 2;
  }
  try {
    if (*facts) cli::facts(files, facts_json);
    if (*null) cli::null(call);
    if (*pass) cli::pass(master, chain, out, pass_json);
    if (*matrix) cli::matrix(board);
    if (*ceiling) cli::ceiling(search);
    if (*stages) cli::stages(stages_json);
    return 0;
  } catch (const std::invalid_argument& error) {
    fmt::print(stderr, "heathmist-cli: {}\n", error.what());
    return 2;
  } catch (const InputError& error) {
    fmt::print(stderr, "heathmist-cli: {}\n", error.what());
    return 1;
  } catch (const std::exception& error) {
    fmt::print(stderr, "heathmist-cli: {}: it could not be worked on ({})\n",
               *null           ? call.master
               : *pass         ? master
               : files.empty() ? "input"
                               : files.front(),
               error.what());
    return 1;
  }
}
