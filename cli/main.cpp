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

  cli::SpectrumCall seen;
  auto* spectrum = app.add_subcommand("spectrum", "the lines of a spectrum, each named, and the noise between them");
  spectrum->add_option("FILE", seen.files, "audio files")->required();
  spectrum->add_option("--fft", seen.fft_size, "points, 512 to 1048576")
      ->capture_default_str()
      ->check(CLI::Range(512, 1 << 20));
  spectrum->add_option("--window", seen.window, "hann, blackman_harris, flat_top or kaiser")
      ->capture_default_str()
      ->check(CLI::IsMember({"hann", "blackman_harris", "flat_top", "kaiser"}));
  spectrum->add_option("--side-lobe", seen.side_lobe_db, "of the Kaiser window, dB under its peak")
      ->capture_default_str()
      ->check(CLI::Range(40.0, 240.0));
  spectrum->add_option("--overlap", seen.overlap, "of blocks, 0 to 0.95")
      ->capture_default_str()
      ->check(CLI::Range(0.0, 0.95));
  spectrum->add_option("--listen", seen.listen, "all, mid, side, or a channel's number from 1")->capture_default_str();
  spectrum->add_option("--from", seen.from_s, "start of what is measured, in s")->check(CLI::NonNegativeNumber);
  spectrum->add_option("--to", seen.to_s, "its end, in s")->check(CLI::NonNegativeNumber);
  spectrum->add_option("--source", seen.sources_hz, "tones that went in, in Hz: they may come back folded")
      ->delimiter(',');
  spectrum->add_option("--source-rate", seen.source_rate_hz, "the rate they went in at, in Hz")
      ->check(CLI::Range(1000.0, 10e6));
  spectrum->add_option("--curve", seen.points, "this many points of average and peak-hold spectrum in the answer")
      ->check(CLI::Range(2, 1 << 20));
  spectrum->add_option("--unit", seen.unit, "of the curve: line, root_hz or third_octave")
      ->capture_default_str()
      ->check(CLI::IsMember({"line", "root_hz", "third_octave"}));
  spectrum->add_option("--slope", seen.slope_db, "of the curve, dB per octave about 1 kHz")
      ->check(CLI::Range(-12.0, 12.0));
  spectrum->add_option("--csv", seen.csv, "write the lines to this file");
  spectrum->add_flag("--json", seen.json, "one JSON object on standard output");

  cli::ProbeCall signal;
  auto* probe = app.add_subcommand("probe", "write a test signal whose truth is known, with sync marks");
  probe->add_option("KIND", signal.kind, "which; --list tells them");
  probe->add_option("-o,--output", signal.out, "the .wav to write");
  probe->add_option("--rate", signal.rate_hz, "sample rate, Hz")->capture_default_str();
  probe->add_option("--bits", signal.bits, "16, 24 or 32f")
      ->capture_default_str()
      ->check(CLI::IsMember({"16", "24", "32f"}));
  probe->add_flag("--list", signal.list, "the kinds there are");
  probe->add_flag("--json", signal.json, "one JSON object on standard output");
  cli::ReadCall back;
  auto* read = app.add_subcommand("read", "read a probe in what came back of it, whatever its delay, rate or level");
  read->add_option("KIND", back.kind, "which probe it was")->required();
  read->add_option("RETURN", back.files, "audio files")->required();
  read->add_option("--channel", back.channel, "which channel, from 1")->capture_default_str()->check(CLI::Range(1, 64));
  read->add_option("--csv", back.csv, "write its points to this file");
  read->add_flag("--json", back.json, "one JSON object on standard output");
  cli::ConvertersCall rates;
  auto* converters = app.add_subcommand("converters", "the converter board for a pair of rates");
  converters->add_option("RETURN", rates.files, "sweep probes that came back from other programs");
  converters->add_option("--from", rates.from_hz, "the rate that comes in, Hz")->capture_default_str();
  converters->add_option("--to", rates.to_hz, "the rate that goes out, Hz")
      ->capture_default_str()
      ->check(CLI::Range(8000, 384000));
  converters->add_option("--only", rates.only, "only those whose name holds this");
  converters->add_option("--csv", rates.csv, "write the table to this file");
  converters->add_flag("--json", rates.json, "one JSON object on standard output");

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
    if (*spectrum) cli::spectrum(seen);
    if (*probe) cli::probe(signal);
    if (*read) cli::read(back);
    if (*converters) cli::converters(rates);
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
               : *spectrum     ? seen.files.front()
               : *read         ? back.files.front()
               : *probe        ? signal.out
               : files.empty() ? "input"
                               : files.front(),
               error.what());
    return 1;
  }
}
