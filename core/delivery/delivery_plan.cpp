#include "core/delivery/delivery_plan.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "core/printable.hpp"

namespace heathmist {

namespace {

/// The rules that say which file it is, and no others.
Rules format_of(const Rules& rules) {
  Rules format;
  format.sample_rates_hz = rules.sample_rates_hz, format.container_bits = rules.container_bits;
  format.channels = rules.channels, format.codecs = rules.codecs;
  return format;
}

}  // namespace

DeliveryPlan plan_from_json(const Json& json) {
  constexpr const char* takes = "a plan is {\"deliverables\": [{\"name\": \"CD\", \"sample_rate_hz\": 44100}, ...]}";
  if (!json.is_object() || json.size() != 1 || !json.contains("deliverables") || !json["deliverables"].is_array() ||
      json["deliverables"].empty())
    throw RulesError(takes);
  DeliveryPlan plan;
  for (const Json& one : json["deliverables"]) {
    plan.push_back(rules_from_json(one));
    const std::string& name = plan.back().name;
    if (name.empty()) throw RulesError("a deliverable without a name; give each one");
    if (std::count_if(plan.begin(), plan.end(), [&](const Rules& r) { return r.name == name; }) > 1)
      throw RulesError(fmt::format("two deliverables are called '{}'; give each a name of its own", printable(name)));
    if (format_of(plan.back()) == Rules{})
      throw RulesError(
          fmt::format("'{}' says no rate, word length, channels or codec, so that no file could be told "
                      "to be it",
                      printable(name)));
  }
  return plan;
}

DeliveryPlan load_plan(const std::filesystem::path& file) {
  try {
    return plan_from_json(json_from_file(file));
  } catch (const JsonError& error) {
    throw InputError(file, std::string(error.what()) + "; mend it, or choose another plan");
  } catch (const RulesError& error) {
    throw InputError(file, error.what());
  }
}

}  // namespace heathmist
