#include "core/delivery/outlet.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <cmath>

#include "core/audio/folders.hpp"
#include "core/audio/write.hpp"
#include "core/compare/json.hpp"
#include "core/delivery/shipped_outlets.hpp"
#include "core/printable.hpp"

namespace heathmist {

namespace {

constexpr const char* acts_words[] = {"file", "player"};
constexpr const char* turns_words[] = {"none", "down", "both"};
constexpr const char* anchor_words[] = {"programme", "dialogue"};
constexpr const char* rule_words[] = {"track", "album", "loudest"};

struct Level {
  const char* key;
  std::optional<double> Outlet::*member;
  double low, high;
  const char* unit;
};
const Level levels[] = {{"tolerance_lu", &Outlet::tolerance_lu, 0, 20, "LU"},
                        {"live_tolerance_lu", &Outlet::live_tolerance_lu, 0, 20, "LU"},
                        {"max_true_peak_dbtp", &Outlet::max_true_peak_dbtp, -40, 12, "dBTP"},
                        {"max_short_term_lufs", &Outlet::max_short_term_lufs, -70, 12, "LUFS"},
                        {"max_momentary_lufs", &Outlet::max_momentary_lufs, -70, 12, "LUFS"},
                        {"lift_ceiling_dbtp", &Outlet::lift_ceiling_dbtp, -40, 12, "dBTP"}};

double number_of(const std::string& key, const Json& value, double low, double high, const char* unit) {
  if (!value.is_number() || value.get<double>() < low || value.get<double>() > high)
    throw OutletError(fmt::format("{} is {}; it takes {} to {} {}", key, value.dump(), low, high, unit));
  return value;
}

template <class Words>
int choice_of(const std::string& key, const Json& value, const Words& words) {
  for (size_t n = 0; n < std::size(words); ++n)
    if (value == words[n]) return int(n);
  throw OutletError(fmt::format("{} is {}; it takes one of {}", key, value.dump(), fmt::join(words, ", ")));
}

std::string text_of(const std::string& key, const Json& value) {
  if (!value.is_string()) throw OutletError(fmt::format("{} is {}; it takes text", key, value.dump()));
  return value;
}

bool plain_key(const std::string& key) {
  return !key.empty() && std::all_of(key.begin(), key.end(), [](char c) {
    return (c >= 'a' && c <= 'z') || (c >= '0' && c <= '9') || c == '-';
  });
}

std::vector<Quality> qualities_of(const std::string& key, const Json& value) {
  constexpr const char* takes = "qualities takes a list of {\"name\": ..., \"chain\": {...}}, best first";
  if (!value.is_array()) throw OutletError(takes);
  std::vector<Quality> qualities;
  for (const Json& one : value) {
    if (!one.is_object() || one.size() != 2 || !one.contains("name") || !one.contains("chain"))
      throw OutletError(takes);
    try {
      qualities.push_back({text_of(key, one["name"]), chain_from_json(one["chain"], outlets_folder())});
    } catch (const ChainError& error) {
      throw OutletError(std::string("qualities: ") + error.what());
    }
  }
  return qualities;
}

void put(Outlet& outlet, const std::string& key, const Json& value) {
  for (const Level& level : levels)
    if (key == level.key) {
      outlet.*level.member = number_of(key, value, level.low, level.high, level.unit);
      return;
    }
  if (key == "name")
    outlet.name = text_of(key, value);
  else if (key == "what")
    outlet.what = text_of(key, value);
  else if (key == "edition")
    outlet.edition = text_of(key, value);
  else if (key == "anchor")
    outlet.anchor = Outlet::Anchor(choice_of(key, value, anchor_words));
  else if (key == "acts")
    outlet.acts = Outlet::Acts(choice_of(key, value, acts_words));
  else if (key == "turns")
    outlet.turns = Outlet::Turns(choice_of(key, value, turns_words));
  else if (key == "rule")
    outlet.rule = Outlet::Rule(choice_of(key, value, rule_words));
  else if (key == "target_lufs")
    outlet.target_lufs = number_of(key, value, -70, 0, "LUFS");
  else if (key == "encode") {
    try {
      outlet.encode = chain_from_json(value, outlets_folder());
    } catch (const ChainError& error) {
      throw OutletError(std::string("encode: ") + error.what());
    }
  } else if (key == "qualities") {
    outlet.qualities = qualities_of(key, value);
  } else {
    throw OutletError(fmt::format("there is no '{}' in an outlet; see docs/formats.md", key));
  }
}

}  // namespace

Outlet outlet_from_json(const std::string& key, const Json& json) {
  if (!json.is_object() || !json.contains("name") || !json.contains("target_lufs"))
    throw OutletError("this is no outlet; write {\"name\": ..., \"target_lufs\": ...}");
  Outlet outlet;
  outlet.key = key;
  for (const auto& [k, value] : json.items()) put(outlet, k, value);
  if (outlet.name.empty()) throw OutletError("name is empty; give the outlet a name");
  return outlet;
}

Json outlet_json(const Outlet& o) {
  Json json{{"name", o.name}, {"what", o.what}};
  if (!o.edition.empty()) json["edition"] = o.edition;
  json["acts"] = acts_words[int(o.acts)], json["target_lufs"] = o.target_lufs;
  for (const Level& level : levels)
    if (o.*level.member) json[level.key] = *(o.*level.member);
  json["turns"] = turns_words[int(o.turns)];
  json["rule"] = rule_words[int(o.rule)];
  if (o.anchor != Outlet::Anchor::programme) json["anchor"] = anchor_words[int(o.anchor)];
  if (o.encode) json["encode"] = chain_json(*o.encode, outlets_folder());
  for (const Quality& q : o.qualities)
    json["qualities"].push_back({{"name", q.name}, {"chain", chain_json(q.chain, outlets_folder())}});
  return json;
}

std::filesystem::path outlets_folder() { return config_folder() / "outlets"; }

std::vector<Outlet> known_outlets(std::vector<std::string>* refused) {
  std::vector<Outlet> known;
  for (const auto& [key, text] : shipped_outlets) {
    known.push_back(outlet_from_json(key, json_from(text)));
    known.back().shipped = true;
  }
  std::error_code none;
  std::vector<std::filesystem::path> files;
  for (const auto& entry : std::filesystem::directory_iterator(outlets_folder(), none))
    if (entry.path().extension() == ".json") files.push_back(entry.path());
  std::sort(files.begin(), files.end());
  for (const auto& file : files) try {
      const Outlet own = outlet_from_json(file.stem().string(), json_from_file(file));
      const auto same = std::find_if(known.begin(), known.end(), [&](const Outlet& o) { return o.key == own.key; });
      if (same != known.end())
        *same = own;
      else
        known.push_back(own);
    } catch (const OutletError& error) {
      if (refused) refused->push_back(printable(file) + ": " + error.what());
    } catch (const JsonError& error) {
      if (refused)
        refused->push_back(printable(file) + ": " + error.what() + ", so no outlet; mend it or take it away");
    } catch (const InputError& error) {
      if (refused) refused->push_back(error.what());
    }
  return known;
}

void save_outlet(const Outlet& outlet) {
  if (!plain_key(outlet.key))
    throw OutletError(fmt::format("key '{}' is no file's name; use small letters, digits and hyphens", outlet.key));
  const Json json = outlet_json(outlet);
  outlet_from_json(outlet.key, json);  // what is written can be read
  std::error_code ignored;
  std::filesystem::create_directories(outlets_folder(), ignored);
  write_whole({outlets_folder() / (outlet.key + ".json"), true}, text_of(json) + "\n");
}

bool drop_outlet(const std::string& key) {
  std::error_code ignored;
  return plain_key(key) && std::filesystem::remove(outlets_folder() / (key + ".json"), ignored);
}

std::optional<double> tolerance_of(const Outlet& outlet, bool live) {
  return live && outlet.live_tolerance_lu ? outlet.live_tolerance_lu : outlet.tolerance_lu;
}

bool Delivery::has_fault(std::string_view code) const {
  return std::ranges::any_of(faults, [&](const Fault& fault) { return fault.code == code; });
}

namespace {

/// The loudness the gain is taken from.
std::optional<double> measured_by(const Outlet& outlet, const Loudness& file, const AlbumLevels* album) {
  if (outlet.rule == Outlet::Rule::track || !album) return file.integrated_lufs;
  return outlet.rule == Outlet::Rule::album ? album->whole.integrated_lufs : album->loudest_lufs;
}

void turn(const Outlet& outlet, const Loudness& file, const AlbumLevels* album, Delivery& d) {
  const auto loud = measured_by(outlet, file, album);
  if (!loud || outlet.turns == Outlet::Turns::none) return;
  const double wanted = outlet.target_lufs - *loud;
  d.gain_db = wanted;
  if (wanted <= 0) return;
  if (outlet.turns == Outlet::Turns::down) {
    d.gain_db = 0;
    d.limited = Delivery::Limited::down_only;
  }
  const bool alone = outlet.rule == Outlet::Rule::track || !album;  // one gain for an album: its highest peak counts
  const auto peak = alone ? file.true_peak_dbtp : album->whole.true_peak_dbtp;
  if (!outlet.lift_ceiling_dbtp || !peak) return;
  const double room = std::max(0.0, *outlet.lift_ceiling_dbtp - *peak);
  if (d.gain_db <= room) return;
  d.gain_db = room;
  d.limited = Delivery::Limited::ceiling;
}

/// As it is shown.
double tenth(double value) { return std::round(value * 10) / 10; }

void judge(const Outlet& outlet, const Loudness& file, bool live, Delivery& d) {
  const auto tolerance = tolerance_of(outlet, live);
  const auto loud = d.anchor_lufs                       ? d.anchor_lufs
                    : outlet.acts == Outlet::Acts::file ? file.integrated_lufs
                                                        : d.loudness_lufs;
  const double apart = loud ? std::abs(tenth(*loud) - outlet.target_lufs) : 0;
  if (tolerance && !loud)
    d.faults.push_back({"integrated_lufs", "It is silent: there is no loudness to bring to the target."});
  else if (tolerance && apart > *tolerance + 1e-6)
    d.faults.push_back({"integrated_lufs",
                        fmt::format("{:.1f} LU {} the target, {:g} are allowed.", apart,
                                    *loud > outlet.target_lufs ? "over" : "under", *tolerance),
                        loud, outlet.target_lufs + (*loud > outlet.target_lufs ? 1 : -1) * *tolerance, "LUFS"});
  auto above = [&](const char* code, std::optional<double> value, std::optional<double> limit, const char* what,
                   const char* unit, std::optional<double> at_s) {
    if (value && limit && tenth(*value) > *limit + 1e-6)
      d.faults.push_back(
          {code, fmt::format("{} {:.1f} {}, {:.1f} over the limit.", what, *value, unit, tenth(*value) - *limit), value,
           limit, unit, at_s});
  };
  above("true_peak_dbtp", file.true_peak_dbtp, outlet.max_true_peak_dbtp, "True peak", "dBTP", file.true_peak_at_s);
  if (outlet.encode && d.true_peak_dbtp)
    above("true_peak_after_encode_dbtp", *d.true_peak_dbtp, 0.0, "True peak as it is heard after the encode", "dBTP",
          std::nullopt);
  above("short_term_max_lufs", file.short_term_max_lufs, outlet.max_short_term_lufs, "Short-term loudness", "LUFS",
        file.short_term_max_at_s);
  above("momentary_max_lufs", file.momentary_max_lufs, outlet.max_momentary_lufs, "Momentary loudness", "LUFS",
        file.momentary_max_at_s);
}

/// Programmes that are long are anchored in their dialogue: which stretch that is, only the user knows.
void take_anchor(const Outlet& outlet, const DeliveryOptions& options, Delivery& d) {
  if (outlet.anchor != Outlet::Anchor::dialogue) return;
  d.anchor_lufs = options.dialogue_lufs;
  d.note = d.anchor_lufs
               ? fmt::format("Anchored in the stretch of dialogue that was named, {:.1f} LUFS.", *d.anchor_lufs)
               : std::string(
                     "Measured as a whole, as short programmes are; a long one is measured by its "
                     "dialogue: name a stretch of it.");
}

}  // namespace

AlbumLevels album_levels(const std::vector<const Loudness*>& masters) {
  AlbumLevels levels{album_of(masters), {}, {}};
  for (const Loudness* l : masters)
    if (const auto loud = l->integrated_lufs) {
      levels.loudest_lufs = std::max(levels.loudest_lufs.value_or(*loud), *loud);
      levels.quietest_lufs = std::min(levels.quietest_lufs.value_or(*loud), *loud);
    }
  return levels;
}

Delivery deliver(const Outlet& outlet, const Loudness& file, const DeliveryOptions& options) {
  Delivery d;
  take_anchor(outlet, options, d);
  if (outlet.acts == Outlet::Acts::player) turn(outlet, file, options.album, d);
  const Loudness& arrives = options.encoded ? *options.encoded : file;
  if (arrives.integrated_lufs) d.loudness_lufs = *arrives.integrated_lufs + d.gain_db;
  if (arrives.true_peak_dbtp) d.true_peak_dbtp = *arrives.true_peak_dbtp + d.gain_db;
  const auto measured = d.anchor_lufs ? d.anchor_lufs : file.integrated_lufs;
  if (outlet.acts == Outlet::Acts::file && measured) d.file_change_db = outlet.target_lufs - *measured;
  if (outlet.max_true_peak_dbtp && d.true_peak_dbtp) d.headroom_db = *outlet.max_true_peak_dbtp - *d.true_peak_dbtp;
  judge(outlet, file, options.live, d);
  return d;
}

const char* label_of(Delivery::Limited limited) {
  constexpr const char* words[] = {"nothing", "turns down only", "ceiling"};
  return words[int(limited)];
}

OutletGroup group_of(const Outlet& outlet) {
  if (!outlet.shipped) return OutletGroup::own;
  if (outlet.key.starts_with("stand-in-")) return OutletGroup::stand_ins;
  return outlet.acts == Outlet::Acts::file ? OutletGroup::broadcast : OutletGroup::players;
}

const char* name_of(OutletGroup group) {
  constexpr const char* names[] = {"broadcast", "player", "stand-in", "own"};
  return names[int(group)];
}

namespace {

/// The least and the greatest of some; nothing where there is none.
using Span = std::optional<std::pair<double, double>>;
void widen(Span& span, double value) {
  span = span ? std::pair{std::min(span->first, value), std::max(span->second, value)} : std::pair{value, value};
}

/// "5.5", or "5.5 to 6.5", of their sizes.
std::string sizes_of(double a, double b) {
  const double one = std::abs(tenth(a)), other = std::abs(tenth(b));
  const double less = std::min(one, other), more = std::max(one, other);
  return less == more ? fmt::format("{:.1f}", less) : fmt::format("{:.1f} to {:.1f}", less, more);
}

std::string broadcast_sentence(const std::pair<double, double>& change) {
  const auto [low, high] = change;
  if (high <= 0) return fmt::format("Broadcast wants it {} LU lower", sizes_of(low, high));
  if (low >= 0) return fmt::format("Broadcast wants it {} LU higher", sizes_of(low, high));
  return fmt::format("Broadcast wants it between {:.1f} LU lower and {:.1f} higher", -tenth(low), tenth(high));
}

std::string player_sentence(const std::pair<double, double>& gain) {
  constexpr double nearly_db = 1;
  const auto [low, high] = gain;
  if (low >= -nearly_db && high <= nearly_db) return "players leave it nearly as it is";
  if (tenth(low) == tenth(high)) return fmt::format("players turn it by {:+.1f} dB", low);
  return fmt::format("players turn it by {:+.1f} to {:+.1f} dB", low, high);
}

}  // namespace

std::string sentence_of(const std::vector<std::pair<Outlet, Delivery>>& deliveries) {
  size_t passed = 0;
  Span change, gain;
  bool has_broadcast = false;
  for (const auto& [outlet, d] : deliveries) {
    passed += d.passes();
    if (group_of(outlet) == OutletGroup::broadcast && d.file_change_db) {
      has_broadcast = true;
      if (d.has_fault("integrated_lufs")) widen(change, *d.file_change_db);
    }
    if (outlet.turns != Outlet::Turns::none) widen(gain, d.gain_db);
  }
  std::string sentence = fmt::format("Passes {} of {}.", passed, deliveries.size());
  std::vector<std::string> parts;
  if (has_broadcast) parts.push_back(change ? broadcast_sentence(*change) : "Broadcast has it where it wants it");
  if (gain) parts.push_back(player_sentence(*gain));
  if (parts.empty()) return sentence;
  std::string more = fmt::format("{}.", fmt::join(parts, "; "));
  more[0] = char(std::toupper(static_cast<unsigned char>(more[0])));
  return sentence + " " + more;
}

namespace {

Json texts_of(const std::vector<Fault>& faults) {
  Json texts = Json::array();
  for (const Fault& f : faults) texts.push_back(f.text);
  return texts;
}

}  // namespace

Json delivery_json(const Outlet& outlet, const Delivery& d) {
  return {{"outlet", outlet.key},
          {"name", outlet.name},
          {"acts", acts_words[int(outlet.acts)]},
          {"target_lufs", outlet.target_lufs},
          {"player_gain_db", d.gain_db},
          {"limited_by", d.limited == Delivery::Limited::nothing ? Json(nullptr) : Json(label_of(d.limited))},
          {"loudness_lufs", number_or_null(d.loudness_lufs)},
          {"true_peak_dbtp", number_or_null(d.true_peak_dbtp)},
          {"headroom_db", number_or_null(d.headroom_db)},
          {"file_change_db", number_or_null(d.file_change_db)},
          {"edition", outlet.edition.empty() ? Json(nullptr) : Json(outlet.edition)},
          {"anchor", anchor_words[int(outlet.anchor)]},
          {"anchor_lufs", number_or_null(d.anchor_lufs)},
          {"note", d.note.empty() ? Json(nullptr) : Json(d.note)},
          {"passes", d.passes()},
          {"faults", texts_of(d.faults)}};
}

}  // namespace heathmist
