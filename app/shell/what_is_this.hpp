// "What is this": the card of a number, by the mouse or by the keys.
#pragma once
#include <QWidget>

namespace heathmist::app {

/// Of what has the keys: the column of a table's cell, a finding, a plot, a value. False: it is none of these.
bool tell_what_has_the_keys(const QWidget& window);

}  // namespace heathmist::app
