#include "app/shell/what_is_this.hpp"

#include <QWhatsThis>

#include "app/widgets/result_table.hpp"

namespace heathmist::app {

bool tell_what_has_the_keys(const QWidget& window) {
  for (QWidget* at = window.focusWidget(); at; at = at->parentWidget()) {
    QString card = at->whatsThis();
    QRect place = at->rect();
    if (const auto* table = qobject_cast<ResultTable*>(at)) {
      const QModelIndex cell = table->currentIndex();
      if (cell.isValid()) card = cell.data(Qt::WhatsThisRole).toString(), place = table->visualRect(cell);
    }
    if (card.isEmpty()) continue;
    QWhatsThis::showText(at->mapToGlobal(QPoint(place.left(), place.top() + std::min(place.height(), 40))), card, at);
    return true;
  }
  return false;
}

}  // namespace heathmist::app
