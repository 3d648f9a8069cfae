#include "core/boards/converter_board.hpp"

#include <fmt/format.h>

#include <chrono>

#include "core/audio/kept.hpp"
#include "core/rules.hpp"
#include "core/stages/returns.hpp"

namespace heathmist {

namespace {

constexpr int kept_version = 4, points = 320;

ProbeFit in_place(const ProbeScore& score) { return {score.rate_hz, -score.body_s, 1, 0, false}; }

std::string name_of(const Chain& chain, int from_hz) {
  return fmt::format("{}-{}-{}-{}.converter", chain_fingerprint(chain), from_hz, kept_version, rules_fingerprint);
}

/// Every plain number of a reading, to be written and read in the same order.
std::vector<double*> numbers(SweepReading& r) {
  std::vector<double*> all{&r.level_dbfs, &r.pass_band_hz, &r.gain_db,       &r.ripple_db,
                           &r.rest_db,    &r.delay_s,      &r.delay_spread_s};
  for (auto* w : {&r.alias, &r.audible, &r.harmonic}) all.insert(all.end(), {&w->db, &w->in_hz, &w->out_hz});
  return all;
}
std::vector<std::optional<double>*> edges(SweepReading& r) {
  return {&r.edges.minus_0_1_db, &r.edges.minus_3_db, &r.edges.minus_60_db};
}

Json pack(SweepReading r) {
  Json json{{"rates", {r.from_hz, r.to_hz}},
            {"images", r.images},
            {"worst", {r.alias.image, r.audible.image, r.harmonic.image}},
            {"numbers", Json::array()},
            {"edges", Json::array()},
            {"points", Json::array()}};
  for (const double* n : numbers(r)) json["numbers"].push_back(*n);
  for (const auto* e : edges(r)) json["edges"].push_back(number_or_null(*e));
  for (const auto& p : r.points)
    json["points"].push_back({p.in_hz, p.wanted.real(), p.wanted.imag(), p.image_db, p.harmonic_db, p.rest_db});
  return json;
}

SweepReading unpack_sweep(const Json& json) {
  SweepReading r;
  r.from_hz = json.at("rates").at(0), r.to_hz = json.at("rates").at(1);
  r.images = json.at("images").get<std::vector<int>>();
  size_t n = 0;
  for (auto* w : {&r.alias, &r.audible, &r.harmonic}) w->image = json.at("worst").at(n++);
  n = 0;
  for (double* number : numbers(r)) *number = json.at("numbers").at(n++);
  n = 0;
  for (auto* edge : edges(r)) *edge = number_from(json.at("edges").at(n++));
  for (const Json& p : json.at("points"))
    r.points.push_back({p.at(0),
                        {p.at(1).get<double>(), p.at(2).get<double>()},
                        p.at(3).get<std::vector<double>>(),
                        p.at(4).get<std::array<double, SweepPoint::harmonics>>(),
                        p.at(5)});
  return r;
}

void keep(const std::string& name, const BoardRow& row) {
  const auto& i = *row.impulse;
  keep_value(name, {{"sweep", pack(row.sweep)},
                    {"impulse", {i.peak_dbfs, i.delay_s, i.pre_ringing_s, i.post_ringing_s}},
                    {"inverted", i.inverted},
                    {"thd_n_db", number_or_null(row.thd_n_db)},
                    {"speed", number_or_null(row.speed)},
                    {"map", {row.map.columns, row.map.rows, row.map.in_top_hz, row.map.out_top_hz}},
                    {"cells", row.map.db}});
}

BoardRow unpack_row(const Json& json) {
  BoardRow row;
  row.sweep = unpack_sweep(json.at("sweep"));
  const Json& i = json.at("impulse");
  row.impulse = ImpulseReading{i.at(0), json.at("inverted"), i.at(1), i.at(2), i.at(3), {}, {}};
  row.thd_n_db = number_from(json.at("thd_n_db")), row.speed = number_from(json.at("speed"));
  const Json& m = json.at("map");
  row.map = {m.at(0), m.at(1), m.at(2), m.at(3), json.at("cells").get<std::vector<float>>()};
  return row;
}

Json stage_json(int to_hz, const char* by) { return {{"type", "converter"}, {"rate_hz", to_hz}, {"by", by}}; }

}  // namespace

std::vector<Chain> board_converters(int to_hz) {
  std::vector<Json> stages;
  auto add = [&](const char* by, const char* key, const std::vector<Json>& values) {
    for (const Json& value : values) {
      stages.push_back(stage_json(to_hz, by));
      stages.back()[key] = value;
    }
  };
  add("libsoxr", "soxr_quality", {"very_high", "high", "medium", "low", "quick"});
  add("libsamplerate", "samplerate_quality", {"sinc_best", "sinc_medium", "sinc_fastest", "linear"});
  add("speexdsp", "speex_quality", {10, 5, 0});
  add("zita_resampler", "zita_half_length", {96, 48, 16});
  add("libswresample", "swresample_filter_size", {128, 32});
  add("sinc", "sinc_taps", {32});
  for (const char* by : {"cubic", "linear", "hold"}) stages.push_back(stage_json(to_hz, by));
  std::vector<Chain> chains;
  for (const Json& stage : stages) chains.push_back(chain_from_json({{"stages", Json::array({stage})}}));
  return chains;
}

std::optional<BoardRow> kept_converter(const Chain& chain, int from_hz) {
  auto row = kept_value(name_of(chain, from_hz), unpack_row);
  if (row) row->name = title_of(chain), row->chain = chain;
  return row;
}

BoardRow read_converter(const Chain& chain, int from_hz, const Job& job) {
  if (auto kept = kept_converter(chain, from_hz)) return std::move(*kept);
  BoardRow row;
  row.name = title_of(chain);
  row.chain = chain;
  const auto sweep = probe_score("sweep", from_hz), impulse = probe_score("impulse", from_hz),
             tone = probe_score("tone", from_hz);
  const auto body = body_clip(sweep);
  const auto before = std::chrono::steady_clock::now();
  const auto ret = pass(body, chain, job.part(0, 0.2)).ret;
  const std::chrono::duration<double> took = std::chrono::steady_clock::now() - before;
  row.speed = sweep.body_seconds / std::max(1e-9, took.count());
  SweepReadingOptions options;
  options.points = points;
  row.sweep = read_sweep(*ret, sweep, in_place(sweep), options, job.part(0.2, 0.7));
  row.map = alias_map(*ret, sweep, in_place(sweep), 240, 160, 0, job.part(0.7, 0.9));
  row.impulse = read_impulses(*pass(body_clip(impulse), chain, job.part(0.9, 0.93)).ret, impulse, in_place(impulse));
  SpectraOptions spectra;
  spectra.first = int64_t(row.sweep.to_hz), spectra.last = int64_t(5 * row.sweep.to_hz);
  LineOptions lines;
  lines.sources_hz = tone.steps.front().tones_hz;
  row.thd_n_db = lines_of(*pass(body_clip(tone), chain, job.part(0.93, 1)).ret, spectra, lines).thd_n_db;
  keep(name_of(chain, from_hz), row);
  return row;
}

namespace {

/// Both sweeps have their chirps at the same places: the one that is not there is told by its level.
ProbeReading read_any_sweep(const Clip& clip, const Job& job) {
  try {
    return read_probe(clip, "sweep", 0, job);
  } catch (const InputError&) {
    if (!find_probe(clip, "log_sweep", 0, job)) throw;
    return read_probe(clip, "log_sweep", 0, job);
  }
}

}  // namespace

BoardRow read_returned_sweep(const std::filesystem::path& file, const Job& job) {
  BoardRow row;
  row.name = file.stem().string();
  row.file = file;
  const auto clip = Clip::open(file, job);
  const auto reading = read_any_sweep(*clip, job.part(0, 0.7));
  row.sweep = *reading.sweep;
  row.map = alias_map(*clip, reading.score, reading.fit, 240, 160, 0, job.part(0.7, 1));
  return row;
}

Json board_line(const BoardRow& row) {
  const auto level = [](double db) { return db > -399 ? Json(db) : Json(nullptr); };
  const auto& r = row.sweep;
  return {{"name", row.name},
          {"from_hz", r.from_hz},
          {"to_hz", r.to_hz},
          {"grade", name_of(grade_of(r))},
          {"words", label_of(r)},
          {"worst_alias_db", level(r.alias.db)},
          {"worst_alias_in_hz", r.alias.in_hz},
          {"worst_alias_out_hz", r.alias.out_hz},
          {"worst_audible_alias_db", level(r.audible.db)},
          {"worst_audible_alias_in_hz", r.audible.in_hz},
          {"worst_audible_alias_out_hz", r.audible.out_hz},
          {"ripple_db", r.ripple_db},
          {"edge_minus_0_1_db_hz", number_or_null(r.edges.minus_0_1_db)},
          {"edge_minus_3_db_hz", number_or_null(r.edges.minus_3_db)},
          {"edge_minus_60_db_hz", number_or_null(r.edges.minus_60_db)},
          {"pre_ringing_s", row.impulse ? Json(row.impulse->pre_ringing_s) : Json(nullptr)},
          {"post_ringing_s", row.impulse ? Json(row.impulse->post_ringing_s) : Json(nullptr)},
          {"group_delay_s", r.delay_s},
          {"thd_n_db", number_or_null(row.thd_n_db)},
          {"rest_db", level(r.rest_db)},
          {"speed", number_or_null(row.speed)}};
}

Json board_json(const BoardRow& row) {
  Json json = board_line(row);
  json["sweep"] = sweep_json(row.sweep);
  if (row.impulse) json["impulse"] = impulse_json(*row.impulse);
  return json;
}

}  // namespace heathmist
