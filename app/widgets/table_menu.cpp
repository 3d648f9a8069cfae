#include "app/widgets/table_menu.hpp"

#include <QClipboard>
#include <QGuiApplication>
#include <QHeaderView>
#include <QMenu>
#include <QShortcut>

namespace heathmist::app {

namespace {

QString head_of(const QTableWidget& table, int column) {
  const auto* head = table.horizontalHeaderItem(column);
  return head ? head->text() : QString();
}

/// In the order of the screen.
QList<int> shown_columns(const QTableWidget& table) {
  QList<int> columns;
  for (int place = 0; place < table.columnCount(); ++place)
    if (const int column = table.horizontalHeader()->logicalIndex(place); !table.isColumnHidden(column))
      columns << column;
  return columns;
}

QString line_of(const QList<int>& columns, const std::function<QString(int)>& cell) {
  QStringList cells;
  for (const int column : columns) cells << cell(column).replace('\t', ' ').replace('\n', ' ').trimmed();
  return cells.join('\t') + '\n';
}

const char* const by_hand = "hiddenByHand";  // property: columns

void hide(QTableWidget* table, int column, bool hidden) {
  auto columns = table->property(by_hand).toList();
  hidden ? columns.append(column) : void(columns.removeAll(column));
  table->setProperty(by_hand, columns);
  table->setColumnHidden(column, hidden);
}

/// Columns by name; the last one that is shown stays, and what the page itself hides is not offered.
void add_columns(QMenu* menu, QTableWidget* table) {
  const bool last = shown_columns(*table).size() == 1;
  for (int column = 0; column < table->columnCount(); ++column) {
    const bool hidden = table->isColumnHidden(column);
    if (head_of(*table, column).isEmpty() || (hidden && !table->property(by_hand).toList().contains(column))) continue;
    auto* action = menu->addAction(head_of(*table, column), table, [=] { hide(table, column, !hidden); });
    action->setCheckable(true);
    action->setChecked(!hidden);
    action->setEnabled(hidden || !last);
  }
}

void copy(const QTableWidget* table, bool chosen) { QGuiApplication::clipboard()->setText(text_of(*table, chosen)); }

}  // namespace

QString text_of(const QTableWidget& table, bool chosen) {
  const auto columns = shown_columns(table);
  QString text = line_of(columns, [&](int column) { return head_of(table, column); });
  const bool some = chosen && table.selectionModel()->hasSelection();
  for (int row = 0; row < table.rowCount(); ++row) {
    if (table.isRowHidden(row) || (some && !table.selectionModel()->rowIntersectsSelection(row))) continue;
    text += line_of(columns, [&](int column) {
      const auto* item = table.item(row, column);
      return item ? item->text() : QString();
    });
  }
  return text;
}

void give_menu(QTableWidget* table) {
  table->setContextMenuPolicy(Qt::CustomContextMenu);
  QObject::connect(table, &QWidget::customContextMenuRequested, table, [table](const QPoint& at) {
    QMenu menu(table);
    menu.addAction(QObject::tr("Copy the chosen rows"), QKeySequence::Copy, table, [table] { copy(table, true); });
    menu.addAction(QObject::tr("Copy all rows"), table, [table] { copy(table, false); });
    menu.addSeparator();
    add_columns(menu.addMenu(QObject::tr("Columns")), table);
    menu.exec(table->viewport()->mapToGlobal(at));
  });
  auto* key = new QShortcut(QKeySequence::Copy, table, nullptr, nullptr, Qt::WidgetShortcut);
  QObject::connect(key, &QShortcut::activated, table, [table] { copy(table, true); });
}

}  // namespace heathmist::app
