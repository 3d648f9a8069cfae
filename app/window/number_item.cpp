#include "app/window/number_item.hpp"

#include <QFileDialog>
#include <QHeaderView>
#include <QMessageBox>
#include <QTableWidget>

#include "app/theme/theme.hpp"
#include "core/audio/clip.hpp"
#include "core/audio/write.hpp"

namespace heathmist::app {

void right_heads(QTableWidget* table, int first) {
  for (int column = first; column < table->columnCount(); ++column)
    if (auto* head = table->horizontalHeaderItem(column)) head->setTextAlignment(Qt::AlignRight | Qt::AlignVCenter);
}

void save_table(QWidget* parent, const QString& name, const QString& csv) {
  const QString file =
      QFileDialog::getSaveFileName(parent, QObject::tr("Save the table"), name, QObject::tr("CSV (*.csv)"));
  if (file.isEmpty()) return;
  try {
    write_whole(file.toStdString(), csv.toStdString());
  } catch (const InputError& error) {
    QMessageBox::warning(parent, QObject::tr("The table was not saved"), QString::fromUtf8(error.what()));
  }
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
}

}  // namespace heathmist::app
