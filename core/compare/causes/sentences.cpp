// The catalogue: one sentence a cause.
#include <fmt/format.h>

#include <cmath>
#include <map>

#include "core/compare/causes/of_pair.hpp"
#include "core/compare/phrases.hpp"

namespace heathmist::causes {

namespace {

double number(const Json& values, const char* key) {
  return values.contains(key) && values[key].is_number() ? values[key].get<double>() : 0;
}
std::string word(const Json& values, const char* key) {
  return values.contains(key) && values[key].is_string() ? values[key].get<std::string>() : "";
}

std::string db_text(double db) { return number_text(std::abs(db), std::abs(db) < 1 ? 2 : 1) + " dB"; }
std::string signed_db(double db) { return (db < 0 ? "−" : "+") + db_text(db); }
std::string seconds_text(double s) {
  return s < 0.1 ? number_text(1000 * s, 1) + " ms"
         : s < 1 ? number_text(1000 * s, 0) + " ms"
                 : number_text(s, 1) + " s";
}
std::string plural(double count, const char* one) { return fmt::format("{} {}{}", count, one, count == 1 ? "" : "s"); }

/// How much a jump skips or puts in, with its verb: so few that a time would not tell it are counted.
std::string jumped_text(const Json& v, const char* one, const char* many) {
  constexpr double few = 48;
  const double count = std::round(std::abs(number(v, "jump_samples")));
  return count < few ? fmt::format("{} {}", plural(count, "sample"), count == 1 ? one : many)
                     : fmt::format("{} {}", seconds_text(number(v, "length_s")), many);
}

/// Of a curve with a threshold: above −20 dBFS; of one whose threshold is not seen: at every level that occurs.
std::string where_it_acts(const Json& v) {
  if (!v["threshold_dbfs"].is_number()) return "at every level that occurs";
  return fmt::format("{} {} dBFS", v.value("above", true) ? "above" : "under",
                     number_text(number(v, "threshold_dbfs"), 0));
}

std::string law_text(const std::string& law) {
  static const std::map<std::string, std::string> names{{"linear", "linear"},
                                                        {"raised_cosine", "raised cosine"},
                                                        {"equal_power", "equal power"},
                                                        {"square_root", "square root"},
                                                        {"logarithmic", "straight in dB"},
                                                        {"quadratic", "quadratic"},
                                                        {"cubic", "cubic"},
                                                        {"parabola", "parabola"},
                                                        {"cube_root", "cube root"},
                                                        {"one_minus_sine", "one minus sine"}};
  const auto known = names.find(law);
  return known == names.end() ? law : known->second;
}

std::string section_text(const Json& s) {
  const std::string type = word(s, "type"), hz = hertz_text(number(s, "hz"));
  if (type == "high_pass" || type == "low_pass")
    return fmt::format("a {} at {}, {} dB an octave", type == "high_pass" ? "high pass" : "low pass", hz,
                       6 * int(number(s, "order")));
  const std::string gain = signed_db(number(s, "gain_db"));
  if (type == "bell") return fmt::format("{} at {} (Q {})", gain, hz, number_text(number(s, "q"), 1));
  return fmt::format("a {} of {} at {}", type == "low_shelf" ? "low shelf" : "high shelf", gain, hz);
}

std::string sections_text(const Json& sections) {
  std::string list;
  for (size_t n = 0; n < sections.size(); ++n)
    list += (n == 0 ? "" : n + 1 == sections.size() ? " and " : ", ") + section_text(sections[n]);
  return list;
}

/// Whose it is, where it is not everybody's.
std::string eq_of(const Cause& c) {
  if (c.values.contains("of")) return c.values["of"] == "both" ? " of mid and side" : " of the " + word(c.values, "of");
  const bool others = c.values["channel_flat_db"].size() > 1;
  return others && c.channels.size() == 1 ? fmt::format(" in channel {} only", c.channels[0] + 1) : "";
}

/// The end of the band, where a good part of what the filter does is done there.
std::string and_its_limit(const Json& eq) {
  constexpr double good_part = 0.1;
  if (eq.value("beyond_limit_share", 0.0) < good_part) return "";
  return "; the band ends at " + hertz_text(number(eq, "band_limit_hz"));
}

std::string eq_text(const Cause& c) {
  const Json& sections = c.values["sections"];
  const std::string phase = std::string(word(c.values, "phase") == "linear" ? ", linear phase" : "") +
                            (c.values.contains("inverted") ? ", polarity inverted" : "") + and_its_limit(c.values);
  if (sections.empty() || number(c.values, "fit_error_db") > 1)
    return fmt::format("EQ{}: {} at {}{}", eq_of(c), signed_db(number(c.values, "most_db")),
                       hertz_text(number(c.values, "most_hz")), phase);
  const bool both = word(c.values, "of") == "both" && !c.values["mid"].empty() && !c.values["side"].empty();
  if (both)
    return fmt::format("EQ of the mid: {}; of the side: {}{}", sections_text(c.values["mid"]),
                       sections_text(c.values["side"]), phase);
  return fmt::format("EQ{}: {}{}", eq_of(c), sections_text(sections), phase);
}

std::string steps_text(const Json& v) {
  const Json& steps = v["steps"];
  if (steps.size() == 1)
    return fmt::format("Gain step of {} at {}", signed_db(number(steps[0], "step_db")),
                       clock_text(number(steps[0], "at_s")));
  return fmt::format("{} gain steps, the first of {} at {}", steps.size(), signed_db(number(steps[0], "step_db")),
                     clock_text(number(steps[0], "at_s")));
}

std::string channel_list(const Cause& c) {
  std::string list;
  for (size_t n = 0; n < c.channels.size(); ++n)
    list += (n == 0 ? "" : n + 1 == c.channels.size() ? " and " : ", ") + std::to_string(c.channels[n] + 1);
  return (c.channels.size() == 1 ? "channel " : "channels ") + list;
}

/// Where it is not there throughout.
std::string in_part(const Cause& c) {
  return c.from_s && c.until_s ? fmt::format(", from {} to {}", clock_text(*c.from_s), clock_text(*c.until_s)) : "";
}

std::string level_text(const Json& v) { return number_text(number(v, "level_dbfs"), 1) + " dBFS"; }

using Writer = std::string (*)(const Cause&, const Json&);
const std::map<std::string, Writer>& writers() {
  static const std::map<std::string, Writer> all{
      {"delay",
       [](const Cause&, const Json& v) {
         const std::string most = delay_text(number(v, "delay_samples"));
         if (!v.contains("at_start_samples")) return "Delay: " + most;
         return fmt::format("Delay: {} at the start, {} behind the break", delay_text(number(v, "at_start_samples")),
                            most);
       }},
      {"drift",
       [](const Cause&, const Json& v) {
         const double d = number(v, "drift_ppm");
         return fmt::format("Drift: {} ppm {}", number_text(std::abs(d), 2), d > 0 ? "slow" : "fast");
       }},
      {"wow",
       [](const Cause&, const Json& v) {
         return fmt::format("The speed moves: ±{} samples, up to {} %, at {} Hz",
                            samples_text(number(v, "depth_samples")), number_text(number(v, "depth_percent"), 3),
                            number_text(number(v, "rate_hz"), 1));
       }},
      {"conversion",
       [](const Cause&, const Json& v) {
         return fmt::format("Converted from {} to {}", hertz_text(number(v, "from_hz")),
                            hertz_text(number(v, "to_hz")));
       }},
      {"channel_delay",
       [](const Cause& c, const Json& v) {
         const double d = number(v, "delay_samples");
         return fmt::format("Channel {} comes {} samples {} than channel 1", c.channels.empty() ? 2 : c.channels[0] + 1,
                            samples_text(std::abs(d)), d > 0 ? "later" : "earlier");
       }},
      {"swap", [](const Cause&, const Json&) { return std::string("Channels swapped"); }},
      {"polarity",
       [](const Cause& c, const Json& v) {
         return word(v, "polarity") == "inverted" ? std::string("Polarity inverted")
                                                  : "Polarity inverted in " + channel_list(c);
       }},
      {"gain",
       [](const Cause&, const Json& v) {
         const double g = number(v, "gain_db");
         return fmt::format("Gain of {}{} dB", g < 0 ? "−" : "+", number_text(std::abs(g), std::abs(g) < 0.1 ? 3 : 2));
       }},
      {"channel_gain",
       [](const Cause&, const Json& v) {
         const double g = number(v, "gain_db");
         return fmt::format("Channel 2 comes back {} {} against channel 1", db_text(g), g > 0 ? "louder" : "quieter");
       }},
      {"fade",
       [](const Cause&, const Json& v) {
         return fmt::format("Fade {} of {} from {} ({})", word(v, "direction"), seconds_text(number(v, "length_s")),
                            clock_text(std::max(0.0, number(v, "start_s"))), law_text(word(v, "law")));
       }},
      {"gain_step", [](const Cause&, const Json& v) { return steps_text(v); }},
      {"gain_ride",
       [](const Cause& c, const Json& v) {
         if (v.contains("opposite"))
           return fmt::format("Auto-pan: one side goes up as the other goes down, by {}, {} times a second",
                              db_text(number(v, "range_db")), number_text(number(v, "rate_hz"), 2));
         if (v.contains("rate_hz"))
           return fmt::format("Tremolo{}: the gain goes up and down by {}, {} times a second",
                              v["in_all"].get<bool>() ? std::string() : " in " + channel_list(c),
                              db_text(number(v, "range_db")), number_text(number(v, "rate_hz"), 2));
         return fmt::format("The gain rides over {}", db_text(number(v, "range_db")));
       }},
      {"mute",
       [](const Cause& c, const Json& v) {
         const bool everywhere = v.contains("in_all") && v["in_all"].get<bool>();
         return fmt::format("Muted for {} at {}{}", seconds_text(number(v, "length_s")), clock_text(number(v, "at_s")),
                            everywhere ? std::string() : " in " + channel_list(c));
       }},
      {"dropout",
       [](const Cause&, const Json& v) {
         const double count = number(v, "count");
         return count > 1 ? fmt::format("{} dropouts, the longest {} at {}", count, seconds_text(number(v, "length_s")),
                                        clock_text(number(v, "at_s")))
                          : fmt::format("Dropout of {} at {}", seconds_text(number(v, "length_s")),
                                        clock_text(number(v, "at_s")));
       }},
      {"silent_channel",
       [](const Cause& c, const Json& v) {
         return v.contains("all") && v["all"].get<bool>()
                    ? std::string("The return is silent")
                    : fmt::format("{} of the return {} silent",
                                  c.channels.size() == 1 ? "Channel " + std::to_string(c.channels[0] + 1)
                                                         : "C" + channel_list(c).substr(1),
                                  c.channels.size() == 1 ? "is" : "are");
       }},
      {"splice",
       [](const Cause&, const Json& v) {
         return fmt::format("{} missing at {}", jumped_text(v, "is", "are"), clock_text(number(v, "at_s")));
       }},
      {"insert",
       [](const Cause&, const Json& v) {
         return fmt::format("{} put in at {}", jumped_text(v, "was", "were"), clock_text(number(v, "at_s")));
       }},
      {"repeat",
       [](const Cause&, const Json& v) {
         return fmt::format("{} stand there twice at {}", seconds_text(number(v, "length_s")),
                            clock_text(number(v, "at_s")));
       }},
      {"width",
       [](const Cause&, const Json& v) {
         if (v.contains("only_side_db")) return std::string("Only the side comes back: the mid is gone");
         const double side = number(v, "side_db");
         return fmt::format("Stereo width changed: the side comes back {} {} against the mid", db_text(side),
                            side > 0 ? "louder" : "quieter");
       }},
      {"mono",
       [](const Cause&, const Json& v) {
         return std::string(
             v.value("of", "sum") == "sum"
                 ? "Folded to mono"
                 : "Folded to mono with one side inverted, so that only the difference of the channels is left");
       }},
      {"copied_channel",
       [](const Cause&, const Json& v) {
         if (v.contains("of_mono")) return std::string("The mono master comes back in every channel");
         return fmt::format("Channel {} of the master comes back in both", int(number(v, "from")) + 1);
       }},
      {"crosstalk",
       [](const Cause&, const Json& v) {
         return fmt::format("Crosstalk at {} dB", number_text(number(v, "level_db"), 1));
       }},
      {"eq", [](const Cause& c, const Json&) { return eq_text(c); }},
      {"phase",
       [](const Cause&, const Json& v) {
         const double from = number(v, "from_hz"), until = number(v, "until_hz");
         const std::string where = from > 0 && until > 0
                                       ? fmt::format(" from {} to {}", hertz_text(from), hertz_text(until))
                                   : from > 0  ? " above " + hertz_text(from)
                                   : until > 0 ? " below " + hertz_text(until)
                                               : std::string();
         const std::string deg = number_text(std::abs(number(v, "most_deg")), 0);
         if (!v.contains("level_range_db"))
           return fmt::format("Phase alone is turned{}, by up to {}°: no level is lost", where, deg);
         return fmt::format("The phase is turned{}, by up to {}°; levels move little beside it", where, deg);
       }},
      {"band_limit",
       [](const Cause&, const Json& v) { return fmt::format("The band ends at {}", hertz_text(number(v, "hz"))); }},
      {"echo",
       [](const Cause& c, const Json& v) {
         const size_t count = v.contains("echoes") ? v["echoes"].size() : 1;
         const bool everywhere = !v.contains("in_all") || v["in_all"].get<bool>();
         return fmt::format("{} after {} ms at {} dB{}",
                            count > 1 ? fmt::format("{} echoes, the strongest", count) : "An echo",
                            number_text(number(v, "time_ms"), 1), number_text(number(v, "level_db"), 1),
                            everywhere ? std::string() : " in " + channel_list(c) + " only");
       }},
      {"reverb",
       [](const Cause&, const Json& v) {
         return fmt::format("Reverberation, {} s to fall by 60 dB, {} dB under the direct sound",
                            number_text(number(v, "t60_s"), 1), number_text(number(v, "direct_to_reverberant_db"), 1));
       }},
      {"clip",
       [](const Cause&, const Json& v) {
         if (!v.contains("runs")) return fmt::format("Clipped at {} dBFS", number_text(number(v, "level_dbfs"), 2));
         return fmt::format("Clipped at {} dBFS in {}", number_text(number(v, "level_dbfs"), 2),
                            plural(number(v, "runs"), "place"));
       }},
      {"distortion",
       [](const Cause&, const Json& v) {
         const double thd = number(v, "thd_percent");
         return fmt::format("A curve bends the wave: {} % THD at {} dBFS", number_text(thd, thd < 0.1 ? 3 : 1),
                            number_text(number(v, "at_dbfs"), 1));
       }},
      {"limiter",
       [](const Cause&, const Json& v) {
         return fmt::format("Limited: the gain comes down by up to {}", db_text(number(v, "most_reduction_db")));
       }},
      {"compressor",
       [](const Cause&, const Json& v) {
         return fmt::format("Compressed, about {} : 1 {}, by up to {}", number_text(number(v, "ratio"), 1),
                            where_it_acts(v), db_text(number(v, "most_reduction_db")));
       }},
      {"expander",
       [](const Cause&, const Json& v) {
         const std::string by = db_text(number(v, "most_reduction_db"));
         if (!v["threshold_dbfs"].is_number())
           return "Expanded: the quieter, the more it is turned down, by up to " + by;
         return fmt::format("Expanded: what is {} comes back {}, by up to {}", where_it_acts(v),
                            v.value("above", false) ? "louder" : "quieter", by);
       }},
      {"dc", [](const Cause&, const Json& v) { return "A DC offset of " + level_text(v); }},
      {"hum",
       [](const Cause& c, const Json& v) {
         return fmt::format("{} Hz hum at {}{}", number_text(number(v, "hz"), 0), level_text(v), in_part(c));
       }},
      {"tone",
       [](const Cause& c, const Json& v) {
         const size_t count = v.contains("lines") ? v["lines"].size() : 1;
         return (count > 1 ? fmt::format("{} steady tones, the strongest at {}, {} in all", count,
                                         hertz_text(number(v, "hz")), level_text(v))
                           : fmt::format("A steady tone at {}, {}", hertz_text(number(v, "hz")), level_text(v))) +
                in_part(c);
       }},
      {"clicks",
       [](const Cause&, const Json& v) {
         const bool some = v.contains("whole") && !v["whole"].get<bool>();
         return fmt::format("{}{}, up to {} dBFS", some ? "At least " : "", plural(number(v, "count"), "click"),
                            number_text(number(v, "peak_dbfs"), 1));
       }},
      {"noise",
       [](const Cause& c, const Json& v) {
         const std::string where = c.channels.size() == 1 ? " to " + channel_list(c) : "";
         return fmt::format("Noise was added{}, at {}{}", where, level_text(v), in_part(c));
       }},
      {"other_programme",
       [](const Cause&, const Json& v) {
         return fmt::format("Another programme lies on top, {} dB under the master",
                            number_text(-number(v, "level_db"), 1));
       }},
      {"word_length",
       [](const Cause&, const Json& v) {
         const std::string d = word(v, "dither");
         if (d.empty()) return fmt::format("Written to {} bits", int(number(v, "bits")));
         const auto is = [&](const char* name) {
           return v.contains(name) && v[name].is_boolean() && v[name].get<bool>();
         };
         return word_length_text(is("truncated"), is("towards_zero"), int(number(v, "bits")), d);
       }},
      {"lossy",
       [](const Cause&, const Json& v) {
         const std::string codec = codec_text(word(v, "family"));
         return codec.empty() ? std::string("Lossy coding") : "Lossy coding: " + codec;
       }},
      {"alias", [](const Cause&,
                   const Json& v) { return fmt::format("Aliases, folded at {}", hertz_text(number(v, "rate_hz"))); }},
  };
  return all;
}

}  // namespace

std::string sentence_of(const Cause& cause) {
  const auto writer = writers().find(cause.code);
  return writer == writers().end() ? cause.code + "." : writer->second(cause, cause.values) + ".";
}

}  // namespace heathmist::causes
