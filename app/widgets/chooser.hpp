// A row of names of which one is chosen, over pages of which one is shown; where there is no room, one name with the
// others in its menu.
#pragma once
#include <QButtonGroup>
#include <QHBoxLayout>
#include <QMenu>
#include <QStackedWidget>
#include <QToolButton>

#include "app/theme/theme.hpp"

namespace heathmist::app {

class Chooser : public QWidget {
  Q_OBJECT

 public:
  explicit Chooser(QWidget* parent = nullptr)
      : QWidget(parent), pages_(new QStackedWidget), row_(new QHBoxLayout(this)) {
    row_->setContentsMargins(0, 0, 0, 0);
    row_->setSpacing(2);
    setSizePolicy(QSizePolicy::Fixed, QSizePolicy::Preferred);
    brief_ = new QToolButton(this);
    brief_->setPopupMode(QToolButton::InstantPopup);
    brief_->setMenu(new QMenu(brief_));
    brief_->setFont(face(Type::body, true));
    brief_->setToolTip(tr("What is shown here"));
    brief_->hide();
    row_->addWidget(brief_);
    connect(&buttons_, &QButtonGroup::idClicked, this, &Chooser::choose);
  }
  /// Adds a page; its widget goes to pages().
  void add(const QString& name, const QString& hint, QWidget* page) {
    auto* button = new QToolButton(this);
    button->setText(name);
    button->setToolTip(hint);
    button->setCheckable(true);
    button->setFont(face(Type::body, true));
    button->setStyleSheet("padding: 2px 4px;");
    button->setObjectName("choice");
    buttons_.addButton(button, pages_->addWidget(page));
    row_->addWidget(button);
    brief_->menu()->addAction(name, this, [this, index = buttons_.id(button)] { choose(index); })->setToolTip(hint);
    if (pages_->count() == 1) button->setChecked(true), brief_->setText(name);
  }
  void set_brief(bool brief) {
    for (QAbstractButton* button : buttons_.buttons()) button->setVisible(!brief);
    brief_->setVisible(brief);
  }
  void choose(int index) {
    if (!buttons_.button(index)) return;
    buttons_.button(index)->setChecked(true);
    brief_->setText(name(index));
    pages_->setCurrentIndex(index);
    emit chosen(index);
  }
  QString name(int index) const { return buttons_.button(index)->text(); }
  int index() const { return pages_->currentIndex(); }
  QStackedWidget* pages() const { return pages_; }

 signals:
  void chosen(int index);

 private:
  QButtonGroup buttons_;
  QStackedWidget* pages_;
  QHBoxLayout* row_;
  QToolButton* brief_;
};

}  // namespace heathmist::app
