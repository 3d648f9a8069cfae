// What can be done with a plot: its own menu, made of commands, and the same commands for the plot that was used last.
#pragma once
#include <QPointer>

#include "app/pages/page.hpp"
#include "app/plots/plate.hpp"
#include "app/shell/menus.hpp"

namespace heathmist::app {

class PlotMenu : public QObject {
  Q_OBJECT

 public:
  explicit PlotMenu(QWidget* window);
  std::vector<Command> commands();
  /// Gives every plot of the window its menu.
  void serve(const Menus& menus);

 private:
  Plate* plot() const;  ///< that is seen and had the keys last, or was pointed at; none: null
  void save(const QString& ending, const QString& kind);
  QWidget* window_;
  QPointer<Plate> last_;
};

}  // namespace heathmist::app
