#include "core/compare/finding_place.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "core/compare/phrases.hpp"

namespace heathmist {

namespace {

constexpr double takes_out_db = 1;  // in an octave, that a cause holds there
constexpr double weighs_db = 20;    // of what it takes out of the greatest one

bool apart(std::pair<double, double> a, std::pair<double, double> b) {
  return a.second < b.first || b.second < a.first;
}

double power_taken(const LeftAt& l) { return std::pow(10, l.before_db / 10) - std::pow(10, l.after_db / 10); }

}  // namespace

std::optional<std::pair<double, double>> band_of(const Cause& cause) {
  const auto& octaves = cause.by_octave;
  double most = 0;
  for (const LeftAt& l : octaves) most = std::max(most, power_taken(l));
  const auto holds = [&](const LeftAt& l) {
    return l.before_db - l.after_db > takes_out_db && power_taken(l) > most * std::pow(10, -weighs_db / 10);
  };
  const auto first = std::find_if(octaves.begin(), octaves.end(), holds);
  if (first == octaves.end()) return {};
  const auto last = std::find_if(octaves.rbegin(), octaves.rend(), holds);
  if (first == octaves.begin() && last == octaves.rbegin()) return {};
  return std::pair{first->at / std::sqrt(2.0), last->at * std::sqrt(2.0)};
}

bool lies_elsewhere(const Finding& f, const std::optional<std::pair<double, double>>& seconds,
                    const std::optional<std::pair<double, double>>& hz) {
  return (seconds && f.when_s && apart(*f.when_s, *seconds)) || (hz && f.band_hz && apart(*f.band_hz, *hz));
}

std::string technical_line(const Finding& f) {
  std::string line = fmt::format("{}, {}", f.code, name_of(f.severity));
  if (f.value) line += fmt::format("; {:.6g}{}{}", *f.value, f.unit.empty() ? "" : " ", f.unit);
  if (f.when_s && f.when_s->second > f.when_s->first)
    line += fmt::format("; {} to {}", clock_text(f.when_s->first), clock_text(f.when_s->second));
  else if (f.when_s || f.at_s)
    line += fmt::format("; {}", clock_text(f.when_s ? f.when_s->first : *f.at_s));
  if (f.band_hz) line += fmt::format("; {} to {}", hertz_text(f.band_hz->first), hertz_text(f.band_hz->second));
  return line;
}

}  // namespace heathmist
