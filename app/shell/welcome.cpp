#include "app/shell/welcome.hpp"

#include <QFileInfo>
#include <QVBoxLayout>

#include "app/widgets/labels.hpp"

namespace heathmist::app {

namespace {

constexpr int column_width = 620, most_recent_shown = 5;

QLabel* wrapped(const QString& text, QWidget* parent) {
  auto* label = new QLabel(text, parent);
  label->setWordWrap(true);
  return label;
}

}  // namespace

Welcome::Welcome(Queue& queue, QWidget* parent) : QScrollArea(parent), demo_(queue, this) {
  setWidgetResizable(true);
  setFrameShape(QFrame::NoFrame);
  page_ = new QWidget(this);
  auto* outer = new QHBoxLayout(page_);
  auto* column = new QWidget(page_);
  column->setMaximumWidth(column_width);
  outer->addStretch(1);
  outer->addWidget(column, 20);
  outer->addStretch(1);
  auto* rows = new QVBoxLayout(column);
  rows->setSpacing(10);
  rows->addStretch(2);
  auto* title = answer_label(column);
  title->setText(tr("What changed, by how much, where, and does it matter?"));
  rows->addWidget(title);
  rows->addWidget(wrapped(tr("Drop the file that went out on this window, then the file that came back. Heathmist lays "
                             "one on the other, takes one from the other, and says what is left."),
                          column));
  rows->addSpacing(14);
  grid_ = new QGridLayout;
  grid_->setHorizontalSpacing(18);
  grid_->setVerticalSpacing(14);
  grid_->setColumnStretch(1, 1);
  rows->addLayout(grid_);
  auto* going_on = new QHBoxLayout;
  going_on->addWidget(note_ = soft_label("", column));
  going_on->addWidget(stop_ = new QPushButton(tr("Cancel"), column));
  going_on->addStretch(1);
  rows->addLayout(going_on);
  stop_->setAutoDefault(true);
  stop_->hide();
  rows->addSpacing(10);
  rows->addWidget(recent_title_ = soft_label(tr("Opened before"), column));
  rows->addLayout(recent_ = new QVBoxLayout);
  rows->addSpacing(10);
  rows->addWidget(soft_label(
      tr("F1: the handbook.   Shift F1: what is this number?   Ctrl F1: all keys.   Ctrl K: find anything."), column));
  rows->addStretch(3);
  setWidget(page_);
  connect(stop_, &QPushButton::clicked, this, [this] { demo_.cancel(); });
  connect(&demo_, &DemoAlbum::progressed, note_, &QLabel::setText);
  connect(&demo_, &DemoAlbum::made, this, &Welcome::bench_wanted);
  connect(&demo_, &DemoAlbum::ended, this, [this](const QString& sentence) {
    note_->setText(sentence);
    stop_->hide();
  });
}

void Welcome::offer(const std::vector<Command>& commands) {
  for (const Command& command : commands) {
    if (command.begins.isEmpty()) continue;
    auto* way = new QPushButton(command.name, page_);
    way->setProperty("main", ways_.isEmpty());
    way->setMinimumWidth(190);
    way->setAutoDefault(true);  // Enter presses it: the space bar plays
    connect(way, &QPushButton::clicked, this, command.run);
    const int row = grid_->rowCount();
    grid_->addWidget(way, row, 0, Qt::AlignTop);
    grid_->addWidget(wrapped(command.begins, page_), row, 1);
    ways_ << way;
  }
  if (!ways_.isEmpty()) setFocusProxy(ways_.front());
}

void Welcome::show_recent(const QStringList& benches) {
  while (QLayoutItem* item = recent_->takeAt(0)) {
    delete item->widget();
    delete item;
  }
  for (const QString& file : benches) {
    const QFileInfo info(file);
    if (!info.exists() || recent_->count() == most_recent_shown) continue;
    auto* link = new QPushButton(info.completeBaseName(), page_);
    link->setProperty("link", true);
    link->setAutoDefault(true);
    link->setToolTip(file);
    link->setAccessibleName(tr("Open %1").arg(file));
    connect(link, &QPushButton::clicked, this, [this, file] { emit bench_wanted(file); });
    recent_->addWidget(link, 0, Qt::AlignLeft);
  }
  recent_title_->setVisible(recent_->count() > 0);
}

void Welcome::open_demo(const QString& in) {
  if (demo_.is_running()) return;
  stop_->show();
  note_->setText(tr("Curlew Hours is made on this machine, once."));
  demo_.make(in);
}

}  // namespace heathmist::app
