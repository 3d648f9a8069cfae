#include "core/compare/causes/beside_coding.hpp"

#include <algorithm>

namespace heathmist::causes {

namespace {

constexpr double coders_top_hz = 10000;  // above it, what is taken away is the end of the band
constexpr double way_to_end = 1.6;       // ... and in this share of where it ends, where much is taken

double gain_of(const Json& section) { return section.value("gain_db", -1e300); }

bool turns_no_phase(const Json& section) { return section.contains("phase"); }

/// Much of the treble is taken away shortly before the band ends: that is how it ends.
bool is_way_to_end(const Json& section, std::optional<double> band_hz) {
  constexpr double much_db = 6, treble_hz = 3000;
  const double hz = section["hz"].get<double>();
  return band_hz && gain_of(section) <= -much_db && hz > treble_hz && hz < *band_hz && *band_hz < way_to_end * hz;
}

/// Treble that is taken away without a phase of its own, and little of it below the top: beside coding, what the coder
/// left out.
bool is_left_out_by_a_coder(const Json& section, std::optional<double> band_hz) {
  constexpr double little_db = 1.5, treble_hz = 800;
  const double hz = section["hz"].get<double>(), gain = gain_of(section);
  return hz > treble_hz && gain <= 0 && (gain >= -little_db || hz > coders_top_hz || is_way_to_end(section, band_hz));
}

/// Takes out of an EQ's sections what the coder left out, and returns that. Of a linear EQ it is all of them, or none.
Json taken_out(Json& sections, bool linear, std::optional<double> band_hz) {
  Json set = Json::array(), left_out = Json::array();
  for (const Json& s : sections) {
    const bool coders = (linear || turns_no_phase(s)) && is_left_out_by_a_coder(s, band_hz);
    (coders ? left_out : set).push_back(s);
  }
  if (linear && !set.empty()) return Json::array();
  sections = std::move(set);
  return left_out;
}

/// What is set of an EQ. Its flat part lies where it does without what was left out.
Cause as_a_coder_does(Cause c, std::optional<double> band_hz) {
  if (c.code != "eq" || c.values.contains("of")) return c;  // a coder knows no mid and side
  const bool linear = c.values["phase"] == "linear";
  Json& sections = c.values["sections"];
  const Json left_out = taken_out(sections, linear, band_hz);
  if (c.values.contains("flat_alone_db") && std::none_of(sections.begin(), sections.end(), turns_no_phase))
    c.values["flat_db"] = c.values["flat_alone_db"];
  bool is_set = !sections.empty();
  if (c.values.contains("by_channel"))
    for (Json& own : c.values["by_channel"]) {
      taken_out(own, linear, band_hz);
      if (sections.empty()) sections = own;
      is_set = is_set || !own.empty();
    }
  if (is_set) return c;
  double hz = 0, most = 0;
  for (const Json& s : left_out)
    if (gain_of(s) < most) most = gain_of(s), hz = is_way_to_end(s, band_hz) ? *band_hz : s["hz"].get<double>();
  const bool ends =
      std::any_of(left_out.begin(), left_out.end(), [&](const Json& s) { return is_way_to_end(s, band_hz); });
  c.code = c.values.contains("band_limit_hz") || hz > coders_top_hz || ends ? "band_limit" : "lossy";
  c.values = {{"hz", c.values.value("band_limit_hz", hz)}, {"flat_db", c.values["flat_db"]}};
  return c;
}

}  // namespace

Cause told_beside_coding(const Found& found, std::optional<double> band_hz) {
  return as_a_coder_does(found.beside_coding ? found.beside_coding() : found.cause, band_hz);
}

}  // namespace heathmist::causes
