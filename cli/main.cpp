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

  cli::MeasureCall heard;
  auto* measure = app.add_subcommand("measure", "loudness, true peak, range and levels of files");
  measure->add_option("FILE", heard.files, "audio files")->required();
  measure->add_flag("--album", heard.album, "all files as one programme, too");
  measure->add_option("--listen", heard.listen, "all, mid, side, or a channel's number from 1")->capture_default_str();
  measure->add_flag("--dual-mono", heard.dual_mono, "a single channel counts as from two loudspeakers");
  measure->add_option("--from", heard.from_s, "start of what is measured, in s")->check(CLI::NonNegativeNumber);
  measure->add_option("--to", heard.to_s, "its end, in s")->check(CLI::NonNegativeNumber);
  measure->add_option("--rms-window", heard.rms_window_s, "window of the highest RMS, in s")
      ->capture_default_str()
      ->check(CLI::Range(0.01, 60.0));
  measure->add_option("--csv", heard.csv, "write the numbers to this file");
  measure->add_flag("--json", heard.json, "one JSON object on standard output");

  cli::OutletsCall delivery;
  auto* outlets = app.add_subcommand("outlets", "what each outlet makes of each file; without files, the outlets");
  outlets->add_option("FILE", delivery.files, "audio files");
  outlets->add_option("--outlet", delivery.keys, "only these outlets, by key")->delimiter(',');
  outlets->add_flag("--album", delivery.album, "the files are one album");
  outlets->add_flag("--encode", delivery.encode, "send each file through the outlet's encode, too");
  outlets->add_flag("--live", delivery.live, "live tolerances count");
  outlets->add_option("--csv", delivery.csv, "write the table to this file");
  outlets->add_flag("--json", delivery.json, "one JSON object on standard output");
  cli::LevelCall copies;
  auto* level = app.add_subcommand("level", "write copies at a target of loudness, tagged, read back and checked");
  level->add_option("FILE", copies.files, "audio files")->required();
  level->add_option("-o,--output", copies.folder, "the folder for the copies")->required();
  level->add_option("--target", copies.target_lufs, "LUFS")->capture_default_str()->check(CLI::Range(-50.0, 0.0));
  level->add_flag("--limiter", copies.limiter,
                  "a true-peak limiter keeps to the ceiling; otherwise the gain stops there");
  level->add_option("--ceiling", copies.ceiling_dbtp, "dBTP")->capture_default_str()->check(CLI::Range(-40.0, 0.0));
  level->add_flag("--album", copies.album, "one gain for all files");
  level->add_option("--format", copies.format, "wav or flac")
      ->capture_default_str()
      ->check(CLI::IsMember({"wav", "flac"}));
  level->add_option("--bits", copies.bits, "16, 24 or 32f")
      ->capture_default_str()
      ->check(CLI::IsMember({"16", "24", "32f"}));
  level->add_option("--dither", copies.dither, "triangular, rectangular, triangular_high, gaussian or none")
      ->capture_default_str()
      ->check(CLI::IsMember({"triangular", "rectangular", "triangular_high", "gaussian", "none"}));
  level->add_flag("--json", copies.json, "one JSON object on standard output");

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
    if (*measure) cli::measure(heard);
    if (*outlets) cli::outlets(delivery);
    if (*level) cli::level(copies);
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
               : *measure      ? heard.files.front()
               : *level        ? copies.files.front()
               : files.empty() ? "input"
                               : files.front(),
               error.what());
    return 1;
  }
}
