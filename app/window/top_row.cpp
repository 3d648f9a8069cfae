// The window's top row: the bench, the views, the search.
#include <QMenu>

#include "app/theme/theme.hpp"
#include "app/window/main_window.hpp"

namespace heathmist::app {

QWidget* MainWindow::make_top() {
  top_ = new QWidget(this);
  top_->setObjectName("top");
  top_->setFixedHeight(46);
  auto* row = new QHBoxLayout(top_);
  row->setContentsMargins(14, 0, 16, 0);
  row->setSpacing(10);
  logo_ = new QLabel(top_);
  logo_->setPixmap(icon("heathmist", Role::ink).pixmap(22, 22));
  row->addWidget(logo_);
  bench_button_ = new QToolButton(top_);
  bench_button_->setFont(face(Type::value, true));
  bench_button_->setToolTip(tr("The bench: open, save, undo and all else (Alt+B)"));
  bench_button_->setPopupMode(QToolButton::InstantPopup);
  menu_ = new QMenu(this);
  bench_button_->setMenu(menu_);
  connect(menu_, &QMenu::aboutToShow, this, &MainWindow::fill_menu);
  row->addWidget(bench_button_);
  row->addSpacing(14);
  tabs_ = new QButtonGroup(this);
  for (const auto& [name, hint] :
       {std::pair{tr("Null"), tr("Null: lanes, fit, plates of one trial (F7)")},
        {tr("Trials"), tr("Trials: all of the bench side by side (F9)")},
        {tr("Matrix"), tr("Matrix: masters and probes by settings (F10)")},
        {tr("Ceiling"), tr("Ceiling: how far a master must come down for its encodes (F11)")},
        {tr("Loudness"), tr("Loudness: all masters and returns in one table, and over time (F3)")},
        {tr("Outlets"), tr("Outlets: what each place of delivery makes of each master (F4)")},
        {tr("Spectrum"), tr("Spectrum: any clips of the bench, and what their lines are (F2)")},
        {tr("Converters"),
         tr("Converters: what each of them folds back, where tones land, what word lengths leave (F12)")}}) {
    auto* tab = new QToolButton(top_);
    tab->setText(name);
    tab->setObjectName("viewTab");
    tab->setCheckable(true);
    tab->setFixedHeight(45);
    tab->setFont(face(Type::body, true));
    tab->setToolTip(hint);
    tabs_->addButton(tab, int(tabs_->buttons().size()));
    row->addWidget(tab);
  }
  tabs_->button(0)->setChecked(true);
  connect(tabs_, &QButtonGroup::idClicked, this, &MainWindow::show_view);
  row->addStretch();
  search_ = new QToolButton(top_);
  search_->setObjectName("search");
  search_->setToolTip(tr("Find or do anything (Ctrl+K)"));
  connect(search_, &QToolButton::clicked, this, &MainWindow::find_anything);
  row->addWidget(search_);
  auto dress = [this] {
    top_->setStyleSheet(QString("#top { border-bottom: 1px solid %1; } #viewTab { border: none; border-radius: 0; "
                                "border-bottom: 2px solid transparent; padding: 0 6px; }"
                                " #viewTab:checked { background: transparent; border-bottom: 2px solid %2; }"
                                " #search { background: %3; border: 1px solid %1; border-radius: 14px; color: %4; }")
                            .arg(colour(Role::rule).name(), colour(Role::ink).name(), colour(Role::sheet).name(),
                                 colour(Role::soft).name()));
  };
  connect(&Theme::instance(), &Theme::changed, top_, dress);
  dress();
  return top_;
}

/// The search gives way where the bench's name and the views need the room.
void MainWindow::fit_top() {
  constexpr int full = 214, brief = 76, tall = 28;
  search_->setFixedSize(brief, tall);
  const bool roomy = top_->layout()->minimumSize().width() + full - brief <= width();
  search_->setText(roomy ? tr("Find or do anything    Ctrl K") : tr("Ctrl K"));
  search_->setFixedSize(roomy ? full : brief, tall);
}

void MainWindow::show_view(int index) {
  views_->setCurrentIndex(index);
  findings_->setVisible(index == null_page);  // they speak of one trial
  tabs_->button(index)->setChecked(true);
  if (index != converters_page) hear_trial_again();
  refresh_subjects();
  refresh_loudness();
  refresh_spectrum();
  QWidget* const first[] = {view_->lanes(),     trials_->table(),  matrix_->table(),   ceiling_->table(),
                            loudness_->table(), outlets_->table(), spectrum_->plate(), conversions_};
  first[index]->setFocus();
}

}  // namespace heathmist::app
