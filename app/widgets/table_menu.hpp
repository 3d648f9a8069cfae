// What every table of numbers can do: its rows copied as text, its columns hidden and shown.
#pragma once
#include <QTableWidget>

namespace heathmist::app {

/// The rows as they are shown, in that order: heads first, a tab between columns, hidden ones left out. `chosen`: only
/// the chosen rows, all where none is.
QString text_of(const QTableWidget& table, bool chosen);

/// Gives a table its context menu, and Ctrl C.
void give_menu(QTableWidget* table);

}  // namespace heathmist::app
