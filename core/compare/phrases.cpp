#include "core/compare/phrases.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <cmath>

namespace heathmist {

std::string number_text(double value, int decimals) {
  auto text = fmt::format("{:.{}f}", value, decimals);
  if (text.find_first_not_of("-0.") == std::string::npos && text[0] == '-') text.erase(0, 1);
  if (text[0] == '-') text = "−" + text.substr(1);
  return text;
}

std::string samples_text(double value) {
  if (value == std::round(value)) return number_text(value, 0);
  return number_text(value, std::abs(value) < 1 ? 4 : 2);
}

std::string delay_text(double samples) {
  constexpr double in_place = 0.002;
  if (std::abs(samples) < in_place) return "in place";
  return samples_text(std::abs(samples)) + (samples > 0 ? " samples late" : " samples early");
}

std::string over_text(double db) {
  return fmt::format("{} dB {}", number_text(std::abs(db), 1), db > 0 ? "over" : "under");
}

std::string clock_text(double seconds) {
  const int minutes = int(seconds / 60);
  return fmt::format("{}:{:05.2f}", minutes, seconds - 60 * minutes);
}

std::string hertz_text(double hz) {
  return hz < 1000 ? number_text(hz, 0) + " Hz" : number_text(hz / 1000, 1) + " kHz";
}

std::string word_length_text(bool truncated, bool towards_zero, int bits, const std::string& dither) {
  return fmt::format("{} to {} bits, {}",
                     towards_zero ? "Truncated towards zero"
                     : truncated  ? "Truncated"
                                  : "Rounded",
                     bits,
                     dither == "none"          ? "no dither"
                     : dither == "rectangular" ? "rectangular dither"
                     : dither == "triangular"  ? "triangular dither (TPDF)"
                     : dither == "shaped"      ? "noise shaping"
                                               : "dither of another kind");
}

std::string codec_text(const std::string& codec) {
  if (codec == "vorbis") return "Vorbis";
  if (codec == "opus") return "Opus";
  std::string words = codec;
  std::transform(words.begin(), words.end(), words.begin(), [](unsigned char c) { return char(std::toupper(c)); });
  return words;
}

}  // namespace heathmist
