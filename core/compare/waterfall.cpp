#include "core/compare/waterfall.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <map>

#include "core/compare/phrases.hpp"

namespace heathmist {

namespace {

std::string label_of(const std::string& code) {
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

double level(std::optional<double> db) { return std::clamp(db.value_or(budget_bottom_db), budget_bottom_db, 20.0); }

std::string level_text(std::optional<double> db) {
  return db && *db > budget_bottom_db ? number_text(*db, 1) + " dBr" : "nothing";
}

}  // namespace

std::vector<BudgetStep> budget_steps(const NullReport& report) {
  std::vector<const Cause*> beyond;
  for (const Cause& c : report.causes)
    if (!c.is_of_the_fit()) beyond.push_back(&c);
  if (beyond.empty()) return {};
  const auto first = beyond.front()->before_db, last = beyond.back()->after_db;
  std::vector<BudgetStep> steps{
      {"residual", fmt::format("As subtracted: {}.", level_text(first)), level(first), budget_bottom_db, false}};
  for (const Cause* c : beyond)
    steps.push_back(
        {label_of(c->code), c->text, level(c->before_db), std::min(level(c->before_db), level(c->after_db))});
  steps.push_back(
      {"remainder", fmt::format("All causes taken out: {}.", level_text(last)), level(last), budget_bottom_db, false});
  return steps;
}

}  // namespace heathmist
