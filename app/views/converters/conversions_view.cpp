#include "app/views/converters/conversions_view.hpp"

#include <QToolButton>
#include <QVBoxLayout>

#include "app/theme/theme.hpp"

namespace heathmist::app {

ConversionsView::ConversionsView(QWidget* parent) : QWidget(parent) {
  auto* rows = new QVBoxLayout(this);
  rows->setContentsMargins(0, 6, 0, 0);
  rows->setSpacing(0);
  auto* row = new QHBoxLayout;
  row->setContentsMargins(12, 0, 6, 0);
  row->setSpacing(14);
  choice_ = new QButtonGroup(this);
  for (const auto& [name, hint] : {std::pair{tr("Converters"), tr("Every converter, swept and read")},
                                   {tr("Folds"), tr("Where each frequency lands between two rates")},
                                   {tr("Word lengths"), tr("What each number of bits leaves, with each dither")}}) {
    auto* button = new QToolButton(this);
    button->setText(name);
    button->setToolTip(hint);
    button->setObjectName("part");
    button->setCheckable(true);
    button->setFont(face(Type::body, true));
    choice_->addButton(button, int(choice_->buttons().size()));
    row->addWidget(button);
  }
  row->addStretch(1);
  rows->addLayout(row);
  parts_ = new QStackedWidget(this);
  parts_->addWidget(board_ = new ConvertersView(parts_));
  parts_->addWidget(folds_ = new FoldView(parts_));
  parts_->addWidget(words_ = new WordBoardView(parts_));
  rows->addWidget(parts_, 1);
  connect(choice_, &QButtonGroup::idClicked, this, &ConversionsView::show_part);
  auto dress = [this] {
    setStyleSheet(QString("#part { border: none; border-bottom: 2px solid transparent; padding: 2px 0; color: %1; }"
                          " #part:checked { background: transparent; border-bottom: 2px solid %2; color: %2; }")
                      .arg(colour(Role::soft).name(), colour(Role::ink).name()));
  };
  connect(&Theme::instance(), &Theme::changed, this, dress);
  dress();
  show_part(board_part);
}

void ConversionsView::show_part(int part) {
  parts_->setCurrentIndex(part);
  choice_->button(part)->setChecked(true);
  QWidget* const first[] = {board_->table(), folds_->tone(), words_->table()};
  setFocusProxy(first[part]);
  if (isVisible()) first[part]->setFocus();
}

}  // namespace heathmist::app
