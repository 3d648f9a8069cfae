#include "app/pages/engines/engine_readings.hpp"

#include <algorithm>

namespace heathmist::app {

namespace {

/// The fingerprint is learned later than the file; what changes is told by forget().
bool same(const RenderState& a, const TestedEngine& engine, const EngineRender& render) {
  return a.engine.stand_in == engine.stand_in && a.render.kind == render.kind &&
         a.render.render.file == render.render.file && a.render.score == render.score;
}

}  // namespace

EngineReadings::EngineReadings(Queue& queue, QObject* parent) : QObject(parent), work_(queue) {
  connect(&work_, &LongWork::ended, this, [this] { emit rested(); });
}

void EngineReadings::set_bench(const Bench& bench) {
  std::map<std::string, RenderState> fresh;
  for (const TestedEngine& e : bench.engines)
    for (const EngineRender& r : e.renders) {
      TestedEngine alone{e.id, e.name, e.stand_in};
      RenderState state{alone, r};
      if (const auto it = states_.find(r.id); it != states_.end() && same(it->second, e, r))
        state.reading = it->second.reading, state.failure = it->second.failure;
      fresh.emplace(r.id, std::move(state));
    }
  states_ = std::move(fresh);
  emit changed();
  run();
}

void EngineReadings::forget(const std::filesystem::path& file) {
  bool any = false;
  for (auto& [id, state] : states_)
    if (state.render.render.file == file) state.reading.reset(), state.failure.clear(), any = true;
  if (!any) return;
  emit changed();
  run();
}

const RenderState* EngineReadings::of(const std::string& render_id) const {
  const auto it = states_.find(render_id);
  return it == states_.end() ? nullptr : &it->second;
}

const RenderState* EngineReadings::of(const TestedEngine& engine, const std::string& kind,
                                      const std::string& control) const {
  const auto it = std::find_if(engine.renders.rbegin(), engine.renders.rend(),
                               [&](const EngineRender& r) { return r.kind == kind && r.control == control; });
  return it == engine.renders.rend() ? nullptr : of(it->id);
}

std::map<std::string, std::shared_ptr<const ProbeReading>> EngineReadings::readings() const {
  std::map<std::string, std::shared_ptr<const ProbeReading>> all;
  for (const auto& [id, state] : states_) all[id] = state.reading;
  return all;
}

void EngineReadings::run() {
  std::vector<RenderState> open;
  for (const auto& [id, state] : states_)
    if (state.is_waiting()) open.push_back(state);
  if (open.empty()) return work_.is_running() ? work_.drop() : void();
  work_.start([this, open = std::move(open)](const Job& job, const Tell& tell) {
    for (size_t n = 0; n < open.size(); ++n) {
      job.check();
      std::shared_ptr<const ProbeReading> reading;
      QString failure;
      try {
        const auto count = double(open.size());
        reading = std::make_shared<ProbeReading>(
            read_render(open[n].engine, open[n].render, job.part(double(n) / count, double(n + 1) / count)));
      } catch (const Cancelled&) {
        throw;
      } catch (const std::exception& error) {
        failure = QString::fromUtf8(error.what());
      }
      tell([this, as_asked = open[n], reading, failure] { take(as_asked, reading, failure); });
    }
  });
}

void EngineReadings::take(const RenderState& as_asked, std::shared_ptr<const ProbeReading> reading,
                          const QString& failure) {
  const auto it = states_.find(as_asked.render.id);
  if (it == states_.end() || !same(it->second, as_asked.engine, as_asked.render)) return;
  it->second.reading = std::move(reading);
  it->second.failure = failure;
  emit changed();
}

}  // namespace heathmist::app
