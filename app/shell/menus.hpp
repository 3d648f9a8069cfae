// Commands as actions: in the menu bar, by their keys, and for the palette.
#pragma once
#include <QMenuBar>
#include <map>

#include "app/pages/page.hpp"

namespace heathmist::app {

class Menus : public QObject {
  Q_OBJECT

 public:
  /// The actions belong to the window.
  Menus(QMenuBar* bar, QWidget* window);
  QAction* add(const Command& command);
  /// An action that is there already: its menu and keys are the command's.
  void add(QAction* action, MenuKind menu, const QList<QKeySequence>& keys);
  void add_separator(MenuKind menu) { menus_.at(menu)->addSeparator(); }
  QMenu* menu(MenuKind kind) const { return menus_.at(kind); }
  const std::vector<QAction*>& actions() const { return actions_; }
  const std::vector<QAction*>& row_actions() const { return row_actions_; }
  const std::vector<QAction*>& plot_actions() const { return plot_actions_; }
  bool can(QAction* action) const;  ///< it can be done now

 private:
  QMenu* menu_of(const Command& command);
  QWidget* window_;
  std::map<MenuKind, QMenu*> menus_;
  std::map<std::pair<MenuKind, QString>, QMenu*> submenus_;
  std::vector<QAction*> actions_, row_actions_, plot_actions_;
  std::map<QAction*, std::function<bool()>> enabled_;
};

}  // namespace heathmist::app
