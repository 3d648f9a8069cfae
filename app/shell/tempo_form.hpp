// What bars and beats are counted by.
#pragma once
#include <QDialog>

#include "app/theme/position.hpp"
#include "app/widgets/number_field.hpp"

namespace heathmist::app {

class TempoForm : public QDialog {
  Q_OBJECT

 public:
  /// `here_s`: the place that is heard; one press makes it the first beat.
  TempoForm(const Tempo& tempo, double here_s, QWidget* parent = nullptr);
  Tempo tempo() const;
  NumberField* bpm() const { return bpm_; }
  NumberField* beats() const { return beats_; }
  NumberField* first_beat() const { return first_beat_; }

 private:
  NumberField *bpm_, *beats_, *first_beat_;
};

}  // namespace heathmist::app
