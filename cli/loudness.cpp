// measure, outlets and level: what is heard, what an outlet makes of it, and copies at a target.
#include <fmt/format.h>

#include <algorithm>
#include <charconv>

#include "cli/verbs.hpp"
#include "cli/words.hpp"
#include "core/audio/write.hpp"
#include "core/bench/levelled.hpp"
#include "core/bench/outlet.hpp"

namespace heathmist::cli {

MeterOptions listening(const std::string& words) {
  using Listen = MeterOptions::Listen;
  MeterOptions options;
  if (words == "all") return options;
  if (words == "mid" || words == "side") {
    options.listen = words == "mid" ? Listen::mid : Listen::side;
    return options;
  }
  int channel = 0;
  const char* end = words.data() + words.size();
  if (std::from_chars(words.data(), end, channel).ptr != end || channel < 1)
    throw std::invalid_argument(fmt::format("--listen takes all, mid, side or a channel's number, not '{}'", words));
  options.listen = Listen::one;
  options.channel = channel - 1;
  return options;
}

namespace {

std::string shown(std::optional<double> value, int decimals = 1) {
  return value ? fmt::format("{:.{}f}", *value, decimals) : std::string("none");
}

MeterOptions options_of(const MeasureCall& call, const ClipFormat& format) {
  MeterOptions options = listening(call.listen);
  options.dual_mono = call.dual_mono;
  options.rms_window_s = call.rms_window_s;
  const double rate = format.sample_rate_hz;
  options.first = int64_t(call.from_s * rate);
  options.last = call.to_s < 0 ? -1 : int64_t(call.to_s * rate);
  return options;
}

Measured measured(const std::string& file, const MeasureCall& call) {
  const Job job = watched(file);
  const auto clip = Clip::open(file, job.part(0, 0.3));
  const auto options = options_of(call, clip->format());
  if (options.listen == MeterOptions::Listen::one && options.channel >= clip->format().channels)
    throw InputError(file, fmt::format("it has {} channel{}, not {}; choose one it has", clip->format().channels,
                                       clip->format().channels == 1 ? "" : "s", options.channel + 1));
  return measure(*clip, options, job.part(0.3, 1));
}

void print(const std::string& name, const Loudness& l) {
  fmt::print("{:>8} {:>6} {:>7} {:>7} {:>8} {:>6}  {}\n", shown(l.integrated_lufs),
             shown(l.range ? std::optional(l.range->lu()) : std::nullopt), shown(l.short_term_max_lufs),
             shown(l.momentary_max_lufs), shown(l.true_peak_dbtp, 2), shown(l.plr_db), name);
}

}  // namespace

void measure(const MeasureCall& call) {
  std::vector<Measured> rows;
  Json all = Json::array();
  for (const auto& file : call.files) {
    rows.push_back(measured(file, call));
    all.push_back(measured_json(file, rows.back()));
  }
  Json answer{{"files", all}};
  std::vector<const Loudness*> programmes;
  for (const Measured& m : rows) programmes.push_back(&m.loudness);
  const Loudness album = call.album ? album_of(programmes) : Loudness();
  if (call.album) answer["album"] = album_json(album);
  if (!call.csv.empty()) write_whole(call.csv, measured_csv(call.files, rows));
  if (call.json) {
    fmt::print("{}\n", answer.dump(2));
    return;
  }
  fmt::print("    LUFS  range   short moment.     dBTP    PLR\n");
  for (size_t n = 0; n < rows.size(); ++n) print(call.files[n], rows[n].loudness);
  if (call.album) print("all of them as one programme", album);
}

namespace {

std::vector<Outlet> chosen(const std::vector<std::string>& keys) {
  std::vector<std::string> refused, known;
  const auto all = known_outlets(&refused);
  for (const auto& sentence : refused) fmt::print(stderr, "heathmist-cli: {}\n", sentence);
  if (keys.empty()) return all;
  std::vector<Outlet> list;
  for (const Outlet& o : all) known.push_back(o.key);
  for (const auto& key : keys) {
    const auto it = std::find(known.begin(), known.end(), key);
    if (it == known.end())
      throw std::invalid_argument(
          fmt::format("--outlet: there is no outlet '{}'; there are {}", key, fmt::join(known, ", ")));
    list.push_back(all[size_t(it - known.begin())]);
  }
  return list;
}

void list_outlets(const std::vector<Outlet>& outlets, bool json) {
  Json list = Json::array();
  for (const Outlet& o : outlets) {
    Json one{{"key", o.key}, {"shipped", o.shipped}};
    one.update(outlet_json(o));
    list.push_back(one);
    if (!json) fmt::print("{:<24} {:>6.1f} LUFS  {}\n", o.key, o.target_lufs, o.what);
  }
  if (json) fmt::print("{}\n", Json{{"outlets", list}}.dump(2));
}

void print(const std::string& file, const Outlet& outlet, const Delivery& d) {
  fmt::print("{}, {}: player {:+.2f} dB{}, heard at {} LUFS, {} dBTP{}\n", file, outlet.name, d.gain_db,
             d.limited == Delivery::Limited::nothing ? "" : fmt::format(" ({})", words_for(d.limited)),
             shown(d.loudness_lufs), shown(d.true_peak_dbtp, 2), d.passes() ? "; passes" : "");
  for (const auto& fault : d.faults) fmt::print("    {}\n", fault);
}

}  // namespace

void outlets(const OutletsCall& call) {
  const auto list = chosen(call.keys);
  if (call.files.empty()) return list_outlets(list, call.json);
  std::vector<Measured> rows;
  for (const auto& file : call.files) rows.push_back(measure_file(file, watched(file)));
  std::vector<const Loudness*> masters;
  for (const Measured& m : rows) masters.push_back(&m.loudness);
  const auto album = call.album ? std::optional(album_levels(masters)) : std::nullopt;
  Json files = Json::array();
  for (size_t n = 0; n < rows.size(); ++n) {
    Json deliveries = Json::array();
    for (const Outlet& outlet : list) {
      std::optional<Loudness> encoded;
      if (call.encode && outlet.encode) {
        try {
          encoded =
              measure_loudness(*heathmist::pass(Clip::open(call.files[n]), *outlet.encode, watched(outlet.name)).ret);
        } catch (const ChainError& error) {
          throw InputError(call.files[n], outlet.name + ", " + error.what());
        }
      }
      const auto d =
          deliver(outlet, rows[n].loudness, album ? &*album : nullptr, encoded ? &*encoded : nullptr, call.live);
      Json json = delivery_json(outlet, d);
      json["after_encode"] = encoded.has_value();
      deliveries.push_back(json);
      if (!call.json) print(call.files[n], outlet, d);
    }
    files.push_back({{"path", call.files[n]}, {"outlets", deliveries}});
  }
  if (!call.csv.empty()) {
    std::vector<Json> table;
    for (const Json& file : files)
      for (const Json& d : file["outlets"]) {
        table.push_back(d);
        table.back()["file"] = file["path"];
      }
    write_whole(call.csv, csv_of(table));
  }
  if (call.json) fmt::print("{}\n", Json{{"files", files}}.dump(2));
}

void level(const LevelCall& call) {
  LevelPlan plan{call.target_lufs, call.limiter, call.ceiling_dbtp, 24, call.dither, call.format == "flac"};
  plan.bits = call.bits == "16" ? 16 : call.bits == "24" ? 24 : 32;
  const std::filesystem::path folder = call.folder;
  std::error_code trouble;
  std::filesystem::create_directories(folder, trouble);
  if (!std::filesystem::is_directory(folder, trouble))
    throw InputError(folder, "it is no folder and none can be made there; name another");
  std::vector<Measured> rows;
  std::vector<const Loudness*> album;
  for (const auto& file : call.files) rows.push_back(measure_file(file, watched(file)));
  if (call.album)
    for (const Measured& m : rows) album.push_back(&m.loudness);
  const auto names = copy_names({call.files.begin(), call.files.end()}, folder, plan.flac);
  Json copies = Json::array();
  bool sound = true;
  for (size_t n = 0; n < rows.size(); ++n) {
    const auto& to = names[n];
    try {
      const auto made =
          write_levelled(Clip::open(call.files[n]), rows[n].loudness, plan, to, album, watched(to.string()));
      copies.push_back(levelled_json(made));
      sound &= made.fault.empty();
      if (!call.json)
        fmt::print("{}: {:+.2f} dB, {} LUFS, {} dBTP{}{}\n", to.string(), made.gain_db,
                   shown(made.loudness.integrated_lufs, 2), shown(made.loudness.true_peak_dbtp, 2),
                   made.stopped ? ", stopped by the ceiling" : "",
                   made.fault.empty() ? "; read back and right" : "; WRONG: " + made.fault);
    } catch (const ChainError& error) {
      throw InputError(call.files[n], error.what());
    }
  }
  if (call.json) fmt::print("{}\n", Json{{"copies", copies}}.dump(2));
  if (!sound) throw InputError(folder, "a copy is not what was asked for; see the list");
}

}  // namespace heathmist::cli
