#include "core/bench/armed.hpp"

#include <sys/stat.h>

#include <algorithm>

#include "core/audio/atomic_file.hpp"
#include "core/audio/folders.hpp"

namespace heathmist {

namespace {

struct Armed {
  std::vector<Json> stages;                    // type and values, filled up: what is compared is what runs
  std::vector<std::filesystem::path> folders;  // canonical
};

/// A stage's type with all its values, so that a default that is written out is no other stage.
Json whole_of(const Stage& stage) {
  Json values = Json::object();
  for (const Parameter& p : stage_type(stage.type)->parameters)
    values[p.key] = stage.values.contains(p.key) ? stage.values[p.key] : p.initial;
  return {{"type", stage.type}, {"values", values}};
}

std::filesystem::path folder_of_kept(const Stage& stage) {
  std::error_code trouble;
  const std::filesystem::path file = stage.values.value("keep", std::string());
  return std::filesystem::weakly_canonical(std::filesystem::absolute(file).parent_path(), trouble);
}

/// Allowed where the file is this user's own, and no one else may write to it.
Armed load() {
  Armed armed;
  struct ::stat facts {};
  if (::stat(armed_file().c_str(), &facts) != 0 || facts.st_uid != ::geteuid() || (facts.st_mode & 022)) return armed;
  try {
    const Json json = json_from_file(armed_file());
    for (const Json& stage : json.at("stages")) armed.stages.push_back(stage);
    for (const Json& folder : json.at("folders")) armed.folders.emplace_back(folder.get<std::string>());
  } catch (const std::exception&) {
    return {};
  }
  return armed;
}

void store(const Armed& armed) {
  Json folders = Json::array();
  for (const auto& folder : armed.folders) folders.push_back(folder.string());
  AtomicFile out({armed_file(), true});
  ::fchmod(out.descriptor(), 0600);
  out.write(text_of({{"stages", armed.stages}, {"folders", folders}}) + "\n");
  out.commit();
}

bool allows(const Armed& armed, const Stage& stage) {
  const auto wanted = capability_of(stage);
  if (!wanted) return true;
  if (*wanted == Capability::write_file)
    return std::find(armed.folders.begin(), armed.folders.end(), folder_of_kept(stage)) != armed.folders.end();
  return std::find(armed.stages.begin(), armed.stages.end(), whole_of(stage)) != armed.stages.end();
}

}  // namespace

std::filesystem::path armed_file() { return config_folder() / "armed.json"; }

void arm(const Stage& stage) {
  Armed armed = load();
  const auto wanted = capability_of(stage);
  if (!wanted || allows(armed, stage)) return;
  if (*wanted == Capability::write_file)
    armed.folders.push_back(folder_of_kept(stage));
  else
    armed.stages.push_back(whole_of(stage));
  store(armed);
}

void disarm_everything() { store({}); }

Grant grant_here() {
  return [armed = load()](const Stage& stage) { return allows(armed, stage); };
}

}  // namespace heathmist
