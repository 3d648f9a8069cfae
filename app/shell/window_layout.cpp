// What stands where in the window, and what is seen of it.
#include <QVBoxLayout>

#include "app/shell/lone_master.hpp"
#include "app/shell/main_window.hpp"

namespace heathmist::app {

void MainWindow::lay_out() {
  auto* centre = new QWidget(this);
  auto* rows = new QVBoxLayout(centre);
  rows->setContentsMargins(0, 0, 0, 0);
  rows->setSpacing(0);
  rows->addWidget(top_ = new TopRow(centre));
  columns_ = new QSplitter(Qt::Horizontal, centre);
  columns_->setHandleWidth(1);
  ledger_ = new Ledger(columns_);
  auto* middle = new QWidget(columns_);
  auto* middle_rows = new QVBoxLayout(middle);
  middle_rows->setContentsMargins(0, 0, 0, 0);
  middle_rows->setSpacing(0);
  middle_rows->addWidget(page_row_ = new PageRow(middle));
  middle_rows->addWidget(pages_ = new PageStack(context_, middle), 1);
  middle_rows->addWidget(welcome_ = new Welcome(workspace_.queue(), middle), 1);
  welcome_->hide();
  beside_ = new QWidget(columns_);
  auto* beside_rows = new QVBoxLayout(beside_);
  beside_rows->setContentsMargins(0, 0, 0, 0);
  beside_rows->setSpacing(0);
  beside_rows->addWidget(findings_ = new FindingsPanel(beside_), 3);
  auto* marks = new MarksPanel(beside_);
  beside_rows->addWidget(marks, 1);
  marks_ = new MarksController(context_, marks, this);
  findings_controller_ = new FindingsController(context_, findings_, this);
  positions_ = new PositionsController(context_, this);
  choice_ = new HeardChoice(context_, this);
  new LoneMaster(context_, this);
  ledger_->setMinimumWidth(170);
  beside_->setMinimumWidth(190);
  middle->setMinimumWidth(420);
  columns_->setStretchFactor(0, 1);
  columns_->setStretchFactor(1, 3);
  columns_->setStretchFactor(2, 1);
  columns_->setSizes({236, 776, 268});
  columns_->setChildrenCollapsible(false);
  rows->addWidget(columns_, 1);
  rows->addWidget(notice_);
  listening_->setAttribute(Qt::WA_StyledBackground);
  rows->addWidget(listening_);
  setCentralWidget(centre);
}

/// In the place of the pages, until one of them is asked for or something is on the bench.
void MainWindow::show_welcome(bool shown) {
  if (shown == !welcome_->isHidden()) return;
  if (shown) welcome_->show_recent(files_->recent());
  welcome_->setVisible(shown);
  page_row_->setVisible(!shown);
  pages_->setVisible(!shown);
  show_page_around();
  if (shown) welcome_->setFocus();
}

/// What stands around the page that is seen.
void MainWindow::show_page_around() {
  top_->tabs()->show_page(pages_->current());
  page_row_->show_page(pages_->current());
  const bool page = welcome_->isHidden();
  show_findings(page && pages_->shows_findings());  // they speak of one trial
  ledger_->setVisible(!page || !pages_->takes_ledgers_place());
}

/// The page takes their room where they go, and gives it back; the ledger stays as it is.
void MainWindow::show_findings(bool shown) {
  if (shown == !beside_->isHidden()) return;
  auto sizes = columns_->sizes();
  if (!shown) findings_width_ = sizes[2];
  const int theirs = shown ? findings_width_ : 0;
  beside_->setVisible(shown);
  columns_->setSizes({sizes[0], sizes[1] + sizes[2] - theirs, theirs});
}

/// Nothing but the page is seen, or all is again.
void MainWindow::show_alone(bool alone) {
  for (QWidget* around : std::initializer_list<QWidget*>{top_, page_row_, listening_, menuBar()})
    around->setVisible(!alone);
}

}  // namespace heathmist::app
