// Buttons that look like buttons wherever they stand.
#pragma once
#include <QAbstractButton>
#include <QStyle>

namespace heathmist::app {

/// Gives a button its border, also one that a dialog has styled already.
inline void give_border(QAbstractButton* button) {
  button->setProperty("plain", false);
  button->style()->unpolish(button);
  button->style()->polish(button);
}

}  // namespace heathmist::app
