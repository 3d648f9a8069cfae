#include "core/compare/waterfall.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>

#include "core/compare/phrases.hpp"

namespace heathmist {

namespace {

double level(std::optional<double> db) { return std::clamp(db.value_or(budget_bottom_db), budget_bottom_db, 20.0); }

std::string level_text(std::optional<double> db) {
  return db && *db > budget_bottom_db ? number_text(*db, 1) + " dBr" : "nothing";
}

}  // namespace

std::string cause_label(const std::string& code) {
  static const std::map<std::string, std::string> labels{{"channel_delay", "channel delay"},
                                                         {"gain_step", "gain steps"},
                                                         {"gain_ride", "gain ride"},
                                                         {"channel_gain", "channel gain"},
                                                         {"eq", "EQ"},
                                                         {"copied_channel", "copied channel"},
                                                         {"silent_channel", "silent channel"},
                                                         {"dc", "DC"},
                                                         {"other_programme", "other programme"},
                                                         {"word_length", "word length"},
                                                         {"lossy", "coding"},
                                                         {"band_limit", "band limit"}};
  const auto found = labels.find(code);
  return found == labels.end() ? code : found->second;
}

std::vector<BudgetStep> budget_steps(const NullReport& report) {
  std::vector<const Cause*> beyond;
  for (const Cause& c : report.causes)
    if (!c.is_of_the_fit()) beyond.push_back(&c);
  if (beyond.empty()) return {};
  const auto first = beyond.front()->before_db, last = beyond.back()->after_db;
  std::vector<BudgetStep> steps{
      {"residual", fmt::format("As subtracted: {}.", level_text(first)), level(first), budget_bottom_db, false}};
  for (const Cause* c : beyond)
    steps.push_back({cause_label(c->code), c->text, level(c->before_db),
                     std::min(level(c->before_db), level(c->after_db)), true, c->from_s, c->part, c->by_octave,
                     c->over_time});
  steps.push_back(
      {"remainder", fmt::format("All causes taken out: {}.", level_text(last)), level(last), budget_bottom_db, false});
  if (beyond.back()->part.what != CausePart::rest) steps.back().part = {CausePart::rest};
  return steps;
}

std::string top_causes(const NullReport& report, size_t most) {
  auto steps = budget_steps(report);
  std::erase_if(steps, [](const BudgetStep& s) { return !s.cause; });
  std::stable_sort(steps.begin(), steps.end(), [](const BudgetStep& a, const BudgetStep& b) {
    return std::pow(10, a.from_db / 10) - std::pow(10, a.to_db / 10) >
           std::pow(10, b.from_db / 10) - std::pow(10, b.to_db / 10);
  });
  std::string words;
  for (size_t n = 0; n < std::min(most, steps.size()); ++n) words += (n == 0 ? "" : ", ") + steps[n].label;
  return words;
}

bool has_gaps(const std::vector<LeftAt>& over_time) {
  constexpr double apart = 2.5;  // times what the first two lie apart
  for (size_t n = 2; n < over_time.size(); ++n)
    if (over_time[n].at - over_time[n - 1].at > apart * (over_time[1].at - over_time[0].at)) return true;
  return false;
}

}  // namespace heathmist
