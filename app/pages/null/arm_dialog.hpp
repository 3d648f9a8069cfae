// The deliberate click that lets a stage do more than change audio: the whole of what it would do, and two buttons.
#pragma once
#include <QDialog>

#include "core/stages/chain.hpp"

namespace heathmist::app {

class ArmDialog : public QDialog {
  Q_OBJECT

 public:
  explicit ArmDialog(const Stage& stage, QWidget* parent = nullptr);
};

}  // namespace heathmist::app
