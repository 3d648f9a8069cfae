#include "core/bench/document.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <random>

#include "core/audio/clip.hpp"
#include "core/audio/fingerprint.hpp"
#include "core/audio/sound_name.hpp"

namespace heathmist {

FileState state_of(const FileRef& ref) {
  std::error_code trouble;
  if (!std::filesystem::is_regular_file(file_behind(ref.file), trouble)) return FileState::missing;
  return ref.fingerprint.empty() || fingerprint(ref.file) == ref.fingerprint ? FileState::present : FileState::changed;
}

Fit with_hold(Fit fit, const FitHold& hold) {
  fit.delay_samples = hold.delay_samples.value_or(fit.delay_samples);
  fit.drift_ppm = hold.drift_ppm.value_or(fit.drift_ppm);
  fit.gain_db = hold.gain_db.value_or(fit.gain_db);
  if (hold.inverted)
    for (auto& p : fit.pairs) p.inverted = *hold.inverted;
  if (hold.swapped && fit.pairs.size() >= 2 && *hold.swapped != fit.swapped())
    std::swap(fit.pairs[0].ret, fit.pairs[1].ret);
  if (hold.any()) fit.trusted = true;
  return fit;
}

std::string title_of(const Trial& trial) {
  return trial.name.empty() && trial.chain ? title_of(*trial.chain) : trial.name;
}

Master* Bench::master(const std::string& id) {
  const auto it = std::find_if(masters.begin(), masters.end(), [&](const Master& m) { return m.id == id; });
  return it == masters.end() ? nullptr : &*it;
}

Master* Bench::master_of(const std::string& trial_id) {
  const auto it = std::find_if(masters.begin(), masters.end(), [&](const Master& m) {
    return std::any_of(m.trials.begin(), m.trials.end(), [&](const Trial& t) { return t.id == trial_id; });
  });
  return it == masters.end() ? nullptr : &*it;
}

Trial* Bench::trial(const std::string& id) {
  Master* owner = master_of(id);
  if (!owner) return nullptr;
  return &*std::find_if(owner->trials.begin(), owner->trials.end(), [&](const Trial& t) { return t.id == id; });
}

std::string fresh_id() {
  static std::mt19937_64 chance(std::random_device{}());
  return fmt::format("{:012x}", chance() & 0xffffffffffffULL);
}

TestedEngine* Bench::engine(const std::string& id) {
  for (TestedEngine& e : engines)
    if (e.id == id) return &e;
  return nullptr;
}

std::vector<std::filesystem::path> files_of(const Bench& bench) {
  std::vector<std::filesystem::path> files;
  auto add = [&](const Chain& chain) {
    for (auto& file : files_read_by(chain)) files.push_back(std::move(file));
  };
  for (const Master& m : bench.masters) {
    files.push_back(m.audio.file);
    for (const FileRef& v : m.earlier) files.push_back(v.file);
    for (const Trial& t : m.trials)
      if (t.chain)
        add(*t.chain);
      else
        files.push_back(t.ret.file);
  }
  for (const Chain& c : bench.chains) add(c);
  for (const TestedEngine& e : bench.engines)
    for (const EngineRender& r : e.renders)
      if (!r.render.file.empty()) files.push_back(r.render.file);
  for (const FileRef& r : bench.responses) files.push_back(r.file);
  if (bench.floor) files.push_back(bench.floor->recording.file);
  if (bench.floor && bench.floor->master) files.push_back(bench.floor->master->file);
  return files;
}

}  // namespace heathmist
