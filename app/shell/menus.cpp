#include "app/shell/menus.hpp"

namespace heathmist::app {

Menus::Menus(QMenuBar* bar, QWidget* window) : QObject(window), window_(window) {
  for (const auto& [kind, title] : {std::pair{MenuKind::file, tr("&File")},
                                    {MenuKind::edit, tr("&Edit")},
                                    {MenuKind::view, tr("&View")},
                                    {MenuKind::listen, tr("&Listen")},
                                    {MenuKind::measure, tr("Mea&sure")},
                                    {MenuKind::make, tr("&Make")},
                                    {MenuKind::help, tr("&Help")}}) {
    menus_[kind] = bar->addMenu(title);
    menus_[kind]->setToolTipsVisible(true);
    connect(menus_[kind], &QMenu::aboutToShow, this, [this] {
      for (const auto& [action, enabled] : enabled_) action->setEnabled(enabled());
    });
    connect(menus_[kind], &QMenu::aboutToHide, this, [this] {  // a key asks by itself when it is pressed
      for (const auto& [action, enabled] : enabled_) action->setEnabled(true);
    });
  }
}

QMenu* Menus::menu_of(const Command& command) {
  QMenu* menu = menus_.at(command.menu);
  if (command.submenu.isEmpty()) return menu;
  QMenu*& submenu = submenus_[{command.menu, command.submenu}];
  if (!submenu) submenu = menu->addMenu(command.submenu);
  return submenu;
}

QAction* Menus::add(const Command& command) {
  auto* action = new QAction(command.name, window_);
  action->setShortcuts(command.keys);
  connect(action, &QAction::triggered, window_, [command] {
    if (!command.enabled || command.enabled()) command.run();
  });
  if (command.enabled) enabled_[action] = command.enabled;
  menu_of(command)->addAction(action);
  window_->addAction(action);
  actions_.push_back(action);
  if (command.of_row) row_actions_.push_back(action);
  if (command.of_plot) plot_actions_.push_back(action);
  return action;
}

void Menus::add(QAction* action, MenuKind menu, const QList<QKeySequence>& keys) {
  action->setShortcuts(keys);
  menus_.at(menu)->addAction(action);
  window_->addAction(action);
  actions_.push_back(action);
}

bool Menus::can(QAction* action) const {
  const auto asked = enabled_.find(action);
  return asked == enabled_.end() ? action->isEnabled() : asked->second();
}

}  // namespace heathmist::app
