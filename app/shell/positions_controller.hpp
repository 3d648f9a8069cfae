// How places are written, chosen from the View menu and kept with the bench: a tempo is a bench's own.
#pragma once
#include "app/pages/page.hpp"
#include "app/theme/position.hpp"

namespace heathmist::app {

class PositionsController : public QObject {
  Q_OBJECT

 public:
  PositionsController(PageContext& context, QObject* parent);
  std::vector<Command> commands();
  nlohmann::ordered_json settings() const;
  /// What is missing or broken in it is as it was at first.
  void restore(const nlohmann::ordered_json& settings);

 private:
  void ask_tempo();
  PageContext& context_;
};

}  // namespace heathmist::app
