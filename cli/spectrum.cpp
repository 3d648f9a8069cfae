// spectrum: the lines of a spectrum, named; noise; a curve where points are asked for.
#include <bit>

#include "cli/verbs.hpp"
#include "core/boards/converter_board.hpp"
#include "core/printable.hpp"

namespace heathmist::cli {

namespace {

struct SpectrumCall {
  Shared shared;
  std::vector<std::string> files;
  Range range;
  int fft_size = 65536, points = 0;
  std::string window = "kaiser", unit = "line", csv;
  double side_lobe_db = 200, overlap = 0.5, slope_db = 0, source_rate_hz = 0;
  std::vector<double> sources_hz;
};

dsp::Window window_named(const std::string& name) {
  for (const auto w : {dsp::Window::hann, dsp::Window::blackman_harris, dsp::Window::flat_top, dsp::Window::kaiser})
    if (name == dsp::name_of(w)) return w;
  throw std::invalid_argument("--window: there is no window '" + name + "'");
}

SpectraOptions options_of(const SpectrumCall& call, const Source& source, const Clip& clip) {
  SpectraOptions o;
  o.fft_size = size_t(call.fft_size);
  o.window = window_named(call.window);
  o.side_lobe_db = call.side_lobe_db;
  o.overlap = call.overlap;
  o.most_blocks = 1 << 30;
  const auto listen = listening(call.range.listen);
  o.listen = listen.listen, o.channel = listen.channel;
  std::tie(o.first, o.last) = frames_of(call.range, source, clip.format());
  return o;
}

Json curve_json(const Spectra& spectra, const SpectrumCall& call) {
  Showing showing;
  showing.unit = call.unit == "root_hz"        ? SpectrumUnit::per_root_hz
                 : call.unit == "third_octave" ? SpectrumUnit::third_octave
                                               : SpectrumUnit::per_line;
  showing.slope_db_per_octave = call.slope_db;
  showing.points = call.points;
  const auto average = heathmist::shown(spectra, spectra.average, showing),
             hold = heathmist::shown(spectra, spectra.hold, showing);
  return {{"hz", average.hz}, {"average_db", average.db}, {"hold_db", hold.db}};
}

void print_lines(const Session& session, const std::string& name, const LineReading& lines) {
  session.say("{}\n    THD+N {}, THD {}, noise {} ({})\n", printable(name), shown(lines.thd_n_db, 1, "dB"),
              shown(lines.thd_db, 1, "dB"), shown(lines.noise_dbfs, 1, "dBFS"),
              shown(lines.noise_per_root_hz_dbfs, 1, "dBFS per root Hz"));
  if (lines.imd_db)
    session.say("    intermodulation {:.1f} dB against {}\n", *lines.imd_db, imd_against(lines.imd_method));
  if (const auto text = unresolved_text(lines); !text.empty()) session.say("    {}\n", text);
  for (size_t n = 0; n < std::min<size_t>(12, lines.lines.size()); ++n)
    session.say("{:>14.2f} Hz {:>9.2f} dBFS  {}\n", lines.lines[n].hz, lines.lines[n].dbfs, lines.lines[n].name);
}

Json spectrum_of(const Session& session, const Source& source, const SpectrumCall& call, std::vector<Json>& table) {
  const Job job = session.watched(source.name);
  const auto clip = Clip::open(source.file, job.part(0, 0.3));
  const auto wanted = options_of(call, source, *clip);
  const auto spectra = spectra_of(*clip, wanted, job.part(0.3, 0.8));
  LineOptions options;
  options.sources_hz = call.sources_hz;
  options.source_rate_hz = call.source_rate_hz;
  const bool suited = wanted.window == dsp::Window::kaiser && wanted.side_lobe_db >= 190;
  const auto lines = suited ? read_lines(spectra.average, options) : lines_of(*clip, wanted, options, job.part(0.8, 1));
  Json json{{"path", source.name},
            {"sample_rate_hz", clip->format().sample_rate_hz},
            {"bin_hz", spectra.average.bin_hz},
            {"blocks", spectra.blocks}};
  json.update(lines_json(lines));
  if (call.points > 0) json["curve"] = curve_json(spectra, call);
  for (const auto& l : lines.lines) {
    table.push_back({{"path", source.name}});
    table.back().update(line_json(l));
  }
  print_lines(session, source.name, lines);
  return json;
}

void spectrum(const SpectrumCall& call) {
  if (!std::has_single_bit(unsigned(call.fft_size)))
    throw std::invalid_argument(fmt::format("--fft takes a power of two from 512 to 1048576, not {}; {} is the next",
                                            call.fft_size, std::bit_ceil(unsigned(call.fft_size))));
  check(call.range);
  Session session(call.shared);
  const auto sources = session.sources(call.files);
  session.check_output(call.csv);
  std::vector<Json> table;
  Answer answer(session, "files");
  answer.each(sources, [&](const Source& source) { return spectrum_of(session, source, call, table); });
  if (!call.csv.empty()) session.write_text(call.csv, csv_of(table, line_heads()));
  answer.print();
}

}  // namespace

void add_spectrum(CLI::App& app) {
  auto call = std::make_shared<SpectrumCall>();
  auto* verb = app.add_subcommand("spectrum", "the lines of a spectrum, each named, and the noise between them");
  verb->add_option("FILE", call->files, "audio files (- for standard input)");
  verb->add_option("--fft", call->fft_size, "points, a power of two from 512 to 1048576")
      ->capture_default_str()
      ->check(between(int(least_fft_size), int(most_fft_size), "points"));
  verb->add_option("--window", call->window, "hann, blackman_harris, flat_top or kaiser")
      ->capture_default_str()
      ->check(CLI::IsMember({"hann", "blackman_harris", "flat_top", "kaiser"}));
  verb->add_option("--side-lobe", call->side_lobe_db, "of the Kaiser window, dB under its peak")
      ->capture_default_str()
      ->check(between(40, 240, "dB"));
  verb->add_option("--overlap", call->overlap, "of blocks, 0 to 0.95")
      ->capture_default_str()
      ->check(between(0, 0.95, ""));
  verb->add_option("--source", call->sources_hz,
                   "a tone that went in, in Hz: it may come back folded; more after commas")
      ->delimiter(',')
      ->allow_extra_args(false);
  verb->add_option("--source-rate", call->source_rate_hz, "the rate they went in at, in Hz")
      ->check(between(1000, 10e6, "Hz"));
  verb->add_option("--curve", call->points, "this many points of average and peak-hold spectrum in the answer")
      ->check(between(2, 1 << 20, "points"));
  verb->add_option("--unit", call->unit, "of the curve: line, root_hz or third_octave")
      ->capture_default_str()
      ->check(CLI::IsMember({"line", "root_hz", "third_octave"}));
  verb->add_option("--slope", call->slope_db, "of the curve, dB per octave about 1 kHz")
      ->check(between(-12, 12, "dB per octave"));
  verb->add_option("--csv", call->csv, "write the lines to this file (- for standard output)");
  add_range(*verb, call->range);
  add_common(*verb, call->shared);
  add_lists(*verb, call->shared);
  add_force(*verb, call->shared);
  verb->callback([call] { spectrum(*call); });
}

}  // namespace heathmist::cli
