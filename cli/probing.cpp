// Spectra, probes and converters.
#include <fmt/format.h>

#include <algorithm>

#include "cli/verbs.hpp"
#include "cli/words.hpp"
#include "core/audio/write.hpp"
#include "core/bench/converter_board.hpp"

namespace heathmist::cli {

namespace {

void print(const Json& json) { fmt::print("{}\n", json.dump(2)); }

std::string shown(const std::optional<double>& value, const char* unit) {
  return value ? fmt::format("{:.1f} {}", *value, unit) : "none";
}

dsp::Window window_named(const std::string& name) {
  for (const auto w : {dsp::Window::hann, dsp::Window::blackman_harris, dsp::Window::flat_top, dsp::Window::kaiser})
    if (name == dsp::name_of(w)) return w;
  throw std::invalid_argument("--window: there is no window '" + name + "'");
}

SpectraOptions options_of(const SpectrumCall& call, const Clip& clip) {
  SpectraOptions o;
  o.fft_size = size_t(call.fft_size);
  o.window = window_named(call.window);
  o.side_lobe_db = call.side_lobe_db;
  o.overlap = call.overlap;
  o.most_blocks = 1 << 30;
  const auto listen = listening(call.listen);
  o.listen = listen.listen, o.channel = listen.channel;
  const auto rate = double(clip.format().sample_rate_hz);
  o.first = int64_t(call.from_s * rate);
  if (call.to_s >= 0) o.last = int64_t(call.to_s * rate);
  if (o.last >= 0 && o.last <= o.first) throw std::invalid_argument("--to: it must lie after --from");
  return o;
}

Json curve_json(const Spectra& spectra, const SpectrumCall& call) {
  Showing showing;
  showing.unit = call.unit == "root_hz"        ? SpectrumUnit::per_root_hz
                 : call.unit == "third_octave" ? SpectrumUnit::third_octave
                                               : SpectrumUnit::per_line;
  showing.slope_db_per_octave = call.slope_db;
  showing.points = call.points;
  const auto average = shown(spectra, spectra.average, showing), hold = shown(spectra, spectra.hold, showing);
  return {{"hz", average.hz}, {"average_db", average.db}, {"hold_db", hold.db}};
}

}  // namespace

void spectrum(const SpectrumCall& call) {
  Json files = Json::array();
  std::vector<Json> table;
  for (const auto& file : call.files) {
    const Job job = watched(file);
    const auto clip = Clip::open(file, job);
    const auto wanted = options_of(call, *clip);
    const auto spectra = spectra_of(*clip, wanted, job);
    LineOptions options;
    options.sources_hz = call.sources_hz;
    options.source_rate_hz = call.source_rate_hz;
    const bool suited = wanted.window == dsp::Window::kaiser && wanted.side_lobe_db >= 190;
    const auto lines = suited ? read_lines(spectra.average, options) : lines_of(*clip, wanted, options, job);
    Json json{{"path", file},
              {"sample_rate_hz", clip->format().sample_rate_hz},
              {"bin_hz", spectra.average.bin_hz},
              {"blocks", spectra.blocks}};
    json.update(lines_json(lines));
    if (call.points > 0) json["curve"] = curve_json(spectra, call);
    for (const auto& l : lines.lines) {
      table.push_back({{"path", file}});
      table.back().update(line_json(l));
    }
    files.push_back(std::move(json));
    if (call.json) continue;
    fmt::print("{}\n    THD+N {}, THD {}, noise {} ({})\n", file, shown(lines.thd_n_db, "dB"),
               shown(lines.thd_db, "dB"), shown(lines.noise_dbfs, "dBFS"),
               shown(lines.noise_per_root_hz_dbfs, "dBFS per root Hz"));
    for (size_t n = 0; n < std::min<size_t>(12, lines.lines.size()); ++n)
      fmt::print("{:>14.2f} Hz {:>9.2f} dBFS  {}\n", lines.lines[n].hz, lines.lines[n].dbfs, lines.lines[n].name);
  }
  if (!call.csv.empty()) write_whole(call.csv, csv_of(table));
  if (call.json) print({{"files", files}});
}

namespace {

void list_probes(bool json) {
  Json all = Json::array();
  for (const auto& kind : probe_kinds()) {
    all.push_back({{"kind", kind.key},
                   {"title", kind.title},
                   {"what", kind.what},
                   {"seconds", probe_score(kind.key, 48000).length_s}});
    if (!json) fmt::print("{:<12} {}: {}\n", kind.key, kind.title, kind.what);
  }
  if (json) print({{"probes", all}, {"rates_hz", probe_rates()}});
}

}  // namespace

void probe(const ProbeCall& call) {
  if (call.list) return list_probes(call.json);
  if (call.kind.empty()) throw std::invalid_argument("probe: name a kind, or --list them");
  if (call.out.empty()) throw std::invalid_argument("probe: -o OUT.wav is missing");
  if (std::filesystem::path(call.out).extension() != ".wav")
    throw std::invalid_argument("-o: a probe is written as .wav");
  const auto score = probe_score(call.kind, call.rate_hz);
  const auto word = call.bits == "16" ? ProbeWord::pcm16 : call.bits == "24" ? ProbeWord::pcm24 : ProbeWord::float32;
  write_probe(score, call.out, word);
  const auto lines = instructions(score);
  if (call.json)
    return print({{"output", call.out},
                  {"kind", call.kind},
                  {"rate_hz", score.rate_hz},
                  {"bits", call.bits},
                  {"frames", std::llround(score.length_s * score.rate_hz)},
                  {"instructions", lines},
                  {"score", score_json(score)}});
  for (const auto& line : lines) fmt::print("{}\n", line);
}

void read(const ReadCall& call) {
  if (!probe_kind(call.kind)) probe_score(call.kind, 48000);  // says what there is
  Json returns = Json::array();
  std::vector<Json> table;
  for (const auto& file : call.files) {
    const Job job = watched(file);
    const auto reading = read_probe(*Clip::open(file, job), call.kind, call.channel - 1, job);
    Json json{{"path", file}};
    json.update(probe_json(reading));
    for (const Json& point : points_of(reading)) {
      table.push_back({{"path", file}});
      table.back().update(point);
    }
    if (!call.json) {
      fmt::print("{}: written at {} Hz, came back at {} Hz, {:.2f} samples late\n", file, reading.score.rate_hz,
                 reading.return_rate_hz, reading.delay_s * reading.return_rate_hz);
      if (reading.sweep) fmt::print("    {}: {}\n", name_of(grade_of(*reading.sweep)), words_for(*reading.sweep));
      for (const auto& s : reading.steps)
        fmt::print("    {:>10} {}\n",
                   s.step.tones_hz.empty() ? "silence" : fmt::format("{:.1f} Hz", s.step.tones_hz.front()),
                   s.lines.thd_n_db ? fmt::format("THD+N {:.1f} dB", *s.lines.thd_n_db)
                                    : "noise " + shown(s.lines.noise_dbfs, "dBFS"));
      if (reading.impulse)
        fmt::print("    rings {:.2f} ms before and {:.2f} ms after\n", 1000 * reading.impulse->pre_ringing_s,
                   1000 * reading.impulse->post_ringing_s);
    }
    returns.push_back(std::move(json));
  }
  if (!call.csv.empty()) write_whole(call.csv, csv_of(table));
  if (call.json) print({{"kind", call.kind}, {"returns", returns}});
}

void converters(const ConvertersCall& call) {
  if (call.from_hz == call.to_hz) throw std::invalid_argument("--to: it is the rate that comes in; name another");
  probe_score("sweep", call.from_hz);  // refuses a rate there is no probe for
  std::vector<BoardRow> rows;
  int asked = 0;
  for (const Chain& chain : board_converters(call.to_hz)) {
    const std::string name = title_of(chain);
    if (!call.only.empty() && name.find(call.only) == std::string::npos) continue;
    ++asked;
    try {
      rows.push_back(read_converter(chain, call.from_hz, watched(name)));
    } catch (const ChainError& error) {  // some libraries take not every ratio
      fmt::print(stderr, "heathmist-cli: {}: {}\n", name, error.what());
    }
  }
  if (asked == 0 && call.files.empty())
    throw std::invalid_argument("--only: no converter's name holds '" + call.only + "'");
  for (const auto& file : call.files) rows.push_back(read_returned_sweep(file, watched(file)));
  std::sort(rows.begin(), rows.end(),
            [](const BoardRow& a, const BoardRow& b) { return a.sweep.audible.db < b.sweep.audible.db; });
  Json all = Json::array();
  std::vector<Json> table;
  for (const BoardRow& row : rows) {
    all.push_back(board_json(row)), table.push_back(board_line(row));
    if (!call.json) fmt::print("{:<40} {:<9} {}\n", row.name, name_of(grade_of(row.sweep)), words_for(row.sweep));
  }
  if (!call.csv.empty()) write_whole(call.csv, csv_of(table));
  if (call.json) print({{"from_hz", call.from_hz}, {"to_hz", call.to_hz}, {"converters", all}});
}

}  // namespace heathmist::cli
