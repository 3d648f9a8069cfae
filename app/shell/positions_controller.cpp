#include "app/shell/positions_controller.hpp"

#include <array>

#include "app/shell/tempo_form.hpp"

namespace heathmist::app {

static constexpr std::array<const char*, 3> unit_names{"time", "samples", "beats"};

PositionsController::PositionsController(PageContext& context, QObject* parent) : QObject(parent), context_(context) {
  connect(&context.workspace, &Workspace::trial_ready, this, [](const std::shared_ptr<const TrialResult>& result) {
    if (result->report) Positions::instance().set_rate(result->report->master.sample_rate_hz);
  });
}

std::vector<Command> PositionsController::commands() {
  const QString menu = tr("Positions");
  const auto as = [](Positions::Unit unit) { return [unit] { Positions::instance().set_unit(unit); }; };
  return {{tr("Positions as time"), MenuKind::view, as(Positions::Unit::time), {}, {}, menu},
          {tr("Positions as samples"), MenuKind::view, as(Positions::Unit::samples), {}, {}, menu},
          {tr("Positions as bars and beats\u2026"), MenuKind::view, [this] { ask_tempo(); }, {}, {}, menu}};
}

void PositionsController::ask_tempo() {
  TempoForm form(Positions::instance().tempo(), context_.player.place_s(), context_.window);
  if (form.exec() != QDialog::Accepted) return;
  Positions::instance().set_tempo(form.tempo());
  Positions::instance().set_unit(Positions::Unit::beats);
}

nlohmann::ordered_json PositionsController::settings() const {
  const Positions& now = Positions::instance();
  const Tempo& t = now.tempo();
  return {{"as", unit_names[size_t(now.unit())]},
          {"bpm", t.bpm},
          {"beats_in_a_bar", t.beats},
          {"first_beat_s", t.first_beat_s}};
}

void PositionsController::restore(const nlohmann::ordered_json& settings) {
  const auto number = [&](const char* key, double otherwise) {
    const auto at = settings.find(key);
    return at != settings.end() && at->is_number() ? at->get<double>() : otherwise;
  };
  Tempo tempo;
  tempo.bpm = number("bpm", tempo.bpm);
  tempo.beats = int(std::clamp(number("beats_in_a_bar", tempo.beats), 1.0, 32.0));
  tempo.first_beat_s = number("first_beat_s", tempo.first_beat_s);
  Positions::instance().set_tempo(tempo);
  size_t unit = 0;
  for (size_t n = 0; n < unit_names.size(); ++n)
    if (settings.value("as", nlohmann::ordered_json()) == unit_names[n]) unit = n;
  Positions::instance().set_unit(Positions::Unit(unit));
}

}  // namespace heathmist::app
