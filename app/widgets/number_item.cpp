#include "app/widgets/number_item.hpp"

#include <QHeaderView>
#include <QTableWidget>

#include "app/theme/theme.hpp"
#include "app/widgets/table_menu.hpp"

namespace heathmist::app {

void right_heads(QTableWidget* table, int first) {
  for (int column = first; column < table->columnCount(); ++column)
    if (auto* head = table->horizontalHeaderItem(column)) head->setTextAlignment(Qt::AlignRight | Qt::AlignVCenter);
}

void dress_table(QTableWidget* table, const QString& words) {
  table->setAccessibleName(words);
  table->setSelectionBehavior(QAbstractItemView::SelectRows);
  table->setEditTriggers(QAbstractItemView::NoEditTriggers);
  table->setShowGrid(false);
  table->setWordWrap(false);
  table->setTabKeyNavigation(false);
  table->setFont(face(Type::small));
  table->verticalHeader()->hide();
  table->verticalHeader()->setDefaultSectionSize(24);
  table->horizontalHeader()->setSectionResizeMode(QHeaderView::ResizeToContents);
  table->horizontalHeader()->setHighlightSections(false);
  table->horizontalHeader()->setDefaultAlignment(Qt::AlignLeft | Qt::AlignVCenter);
  give_menu(table);
}

}  // namespace heathmist::app
