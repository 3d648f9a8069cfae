#include "app/shell/tempo_form.hpp"

#include <QFormLayout>
#include <QPushButton>

#include "app/widgets/form_buttons.hpp"

namespace heathmist::app {

TempoForm::TempoForm(const Tempo& tempo, double here_s, QWidget* parent) : QDialog(parent) {
  setWindowTitle(tr("Bars and beats"));
  auto* rows = new QFormLayout(this);
  const auto field = [&](const QString& caption, double low, double high, int decimals, double value,
                         const QString& unit) {
    auto* box = new NumberField(this);
    box->setRange(low, high);
    box->setDecimals(decimals);
    if (!unit.isEmpty()) box->setSuffix(" " + unit);
    box->setValue(value);
    box->setAccessibleName(caption);
    rows->addRow(caption, box);
    return box;
  };
  bpm_ = field(tr("Tempo"), 10, 999, 3, tempo.bpm, tr("beats a minute"));
  beats_ = field(tr("In a bar"), 1, 32, 0, tempo.beats, tr("beats"));
  first_beat_ = field(tr("Bar 1 begins at"), -3600, 86400, 4, tempo.first_beat_s, tr("s"));
  auto* here = new QPushButton(tr("It begins at the playhead"), this);
  here->setAutoDefault(false);
  connect(here, &QPushButton::clicked, this, [this, here_s] { first_beat_->setValue(here_s); });
  rows->addRow(QString(), here);
  rows->addRow(form_buttons(this, tr("Count so")).box);
}

Tempo TempoForm::tempo() const { return {bpm_->value(), int(std::lround(beats_->value())), first_beat_->value()}; }

}  // namespace heathmist::app
