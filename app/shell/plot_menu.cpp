#include "app/shell/plot_menu.hpp"

#include <QApplication>
#include <QMenu>

namespace heathmist::app {

PlotMenu::PlotMenu(QWidget* window) : QObject(window), window_(window) {
  connect(qApp, &QApplication::focusChanged, this, [this](QWidget*, QWidget* now) {
    if (auto* plot = qobject_cast<Plate*>(now); plot && plot->window() == window_) last_ = plot;
  });
}

Plate* PlotMenu::plot() const { return last_ && last_->isVisible() ? last_.data() : nullptr; }

std::vector<Command> PlotMenu::commands() {
  std::vector<Command> all;
  for (const auto& [name, ending, kind] :
       {std::tuple{tr("Save the plot as a PNG picture…"), QString("png"), QString("PNG")},
        {tr("Save the plot as an SVG picture…"), QString("svg"), QString("SVG")},
        {tr("Save the plot's numbers as CSV…"), QString("csv"), QString("CSV")}})
    all.push_back({.name = name,
                   .menu = MenuKind::file,
                   .run = [this, ending = ending, kind = kind] { save(ending, kind); },
                   .enabled = [this] { return plot() != nullptr; },
                   .submenu = tr("The plot in use"),
                   .of_plot = true});
  return all;
}

void PlotMenu::save(const QString& ending, const QString& kind) {
  Plate* saved = plot();
  save_as(window_, {tr("Save %1").arg(kind), saved->title() + "." + ending, kind + " (*." + ending + ")", ending},
          [&](const Destination& to) {
            if (ending == "csv")
              write_whole(to, saved->csv().toStdString());
            else
              saved->write_picture(to);
          });
}

void PlotMenu::serve(const Menus& menus) {
  for (Plate* plate : window_->findChildren<Plate*>())
    connect(plate, &Plate::menu_wanted, this, [this, plate, &menus](const QPoint& at) {
      last_ = plate;
      QMenu menu(window_);
      for (QAction* action : menus.plot_actions())
        if (menus.can(action)) menu.addAction(action);
      menu.exec(at);
    });
}

}  // namespace heathmist::app
