#include "core/stages/permission.hpp"

#include <algorithm>

#include "core/stages/chain.hpp"

namespace heathmist {

namespace {
constexpr const char* words[] = {"external", "lv2", "keep"};
}

const char* word_of(Capability capability) { return words[int(capability)]; }

std::optional<Capability> capability_named(const std::string& word) {
  const auto at = std::find(std::begin(words), std::end(words), word);
  return at == std::end(words) ? std::nullopt : std::optional(Capability(at - std::begin(words)));
}

std::optional<Capability> capability_of(const Stage& stage) {
  const StageType* type = stage_type(stage.type);
  if (!type || !type->may) return {};
  if (type->may_when.empty()) return type->may;
  const auto value = stage.values.find(type->may_when);
  const bool asked = value != stage.values.end() && value->is_string() && !value->get<std::string>().empty();
  return asked ? type->may : std::nullopt;
}

std::string deed_of(const Stage& stage) {
  const auto text = [&](const char* key) {
    const auto value = stage.values.find(key);
    return value != stage.values.end() && value->is_string() ? value->get<std::string>() : std::string();
  };
  const auto capability = capability_of(stage);
  if (!capability) return {};
  switch (*capability) {
    case Capability::run_program:
      return "run the program: " + text("command");
    case Capability::load_plugin:
      return "load the plug-in: " + text("uri") + (text("controls").empty() ? "" : " with " + text("controls"));
    case Capability::write_file:
      return "write the file: " + text("keep");
  }
  return {};
}

bool grant_nothing(const Stage&) { return false; }

Grant grant_of(std::vector<Capability> capabilities) {
  return [capabilities = std::move(capabilities)](const Stage& stage) {
    const auto wanted = capability_of(stage);
    return !wanted || std::find(capabilities.begin(), capabilities.end(), *wanted) != capabilities.end();
  };
}

std::vector<const Stage*> disarmed_stages(const Chain& chain, const Grant& grant) {
  std::vector<const Stage*> found;
  for (const Stage& stage : chain.stages)
    if (stage.on && capability_of(stage) && !grant(stage)) found.push_back(&stage);
  return found;
}

}  // namespace heathmist
