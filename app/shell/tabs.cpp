#include "app/shell/tabs.hpp"

#include "app/theme/theme.hpp"

namespace heathmist::app {

namespace {

/// Underlined where it is chosen; by day and by night.
void dress(QWidget* row, const char* name, const QString& padding) {
  const auto put = [row, name, padding] {
    row->setStyleSheet(
        QString("#%1 { border: none; border-radius: 0; border-bottom: 2px solid transparent; padding: %2; color: %3; }"
                " #%1:hover { background: %5; color: %4; }"
                " #%1:focus { background: %5; }"
                " #%1:checked { background: transparent; border-bottom: 2px solid %4; color: %4; }")
            .arg(name, padding, colour(Role::soft).name(), colour(Role::ink).name(), colour(Role::faint).name()));
  };
  QObject::connect(&Theme::instance(), &Theme::changed, row, put);
  put();
}

QToolButton* tab_of(const QString& text, const QString& hint, const char* name, QWidget* parent) {
  auto* tab = new QToolButton(parent);
  tab->setText(text);
  tab->setObjectName(name);
  tab->setCheckable(true);
  tab->setFont(face(Type::body, true));
  tab->setToolTip(hint);
  return tab;
}

QString hint_of(const Page& page) {
  return QString("%1 (%2)").arg(page.hint, page.shortcut.toString(QKeySequence::NativeText));
}

}  // namespace

GroupTabs::GroupTabs(QWidget* parent) : QWidget(parent) {
  auto* row = new QHBoxLayout(this);
  row->setContentsMargins(0, 0, 0, 0);
  row->setSpacing(10);
  for (const Page& page : pages()) {
    if (last_.count(page.group)) {
      auto* tab = tabs_.button(int(page.group));
      tab->setToolTip(tab->toolTip() + "\n" + page.title + ": " + hint_of(page));
      continue;
    }
    last_[page.group] = page.key;
    auto* tab = tab_of(QObject::tr(title_of(page.group)), page.title + ": " + hint_of(page), "groupTab", this);
    tab->setFixedHeight(45);
    tabs_.addButton(tab, int(page.group));
    row->addWidget(tab);
  }
  connect(&tabs_, &QButtonGroup::idClicked, this, [this](int group) { emit chosen(last_[PageGroup(group)]); });
  dress(this, "groupTab", "0 8px");
}

void GroupTabs::show_page(const Page& page) {
  last_[page.group] = page.key;
  tabs_.button(int(page.group))->setChecked(true);
}

PageRow::PageRow(QWidget* parent) : QWidget(parent) {
  auto* row = new QHBoxLayout(this);
  row->setContentsMargins(12, 2, 6, 0);
  row->setSpacing(14);
  auto* choice = new QButtonGroup(this);
  for (const Page& page : pages()) {
    auto* button = tab_of(page.title, hint_of(page), "pageTab", this);
    button->setMinimumHeight(28);
    choice->addButton(button);
    buttons_[page.key] = button;
    row->addWidget(button);
    connect(button, &QToolButton::clicked, this, [this, key = page.key] { emit chosen(key); });
  }
  row->addStretch(1);
  dress(this, "pageTab", "2px 0");
}

void PageRow::show_page(const Page& shown) {
  for (const Page& page : pages()) buttons_[page.key]->setVisible(page.group == shown.group);
  buttons_[shown.key]->setChecked(true);
}

}  // namespace heathmist::app
