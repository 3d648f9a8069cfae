// What came of the probes that the bench's engines were asked with: read by itself, off the interface thread, and anew
// where a file, a score or a stand-in is another.
#pragma once
#include <map>
#include <memory>

#include "app/model/long_work.hpp"
#include "core/bench/tested.hpp"

namespace heathmist::app {

struct RenderState {
  TestedEngine engine;  ///< as it was read: without its other renders
  EngineRender render;
  std::shared_ptr<const ProbeReading> reading{};
  QString failure{};
  bool is_waiting() const { return !reading && failure.isEmpty(); }
};

class EngineReadings : public QObject {
  Q_OBJECT

 public:
  explicit EngineReadings(Queue& queue, QObject* parent = nullptr);
  /// Takes up what is on the bench; what was read of it stays. Reads the rest.
  void set_bench(const Bench& bench);
  /// What was read of it is not what it holds any more.
  void forget(const std::filesystem::path& file);
  const RenderState* of(const std::string& render_id) const;
  /// The last of a kind that an engine has, by that control; nothing: it was not asked.
  const RenderState* of(const TestedEngine& engine, const std::string& kind, const std::string& control = {}) const;
  std::map<std::string, std::shared_ptr<const ProbeReading>> readings() const;
  bool is_reading() const { return work_.is_running(); }

 signals:
  void changed();
  void rested();

 private:
  void run();
  void take(const RenderState& as_asked, std::shared_ptr<const ProbeReading> reading, const QString& failure);
  std::map<std::string, RenderState> states_;
  LongWork work_;
};

}  // namespace heathmist::app
