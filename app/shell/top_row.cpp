#include "app/shell/top_row.hpp"

#include "app/theme/theme.hpp"

namespace heathmist::app {

TopRow::TopRow(QWidget* parent) : QWidget(parent) {
  setObjectName("top");
  setAttribute(Qt::WA_StyledBackground);
  setFixedHeight(46);
  auto* row = new QHBoxLayout(this);
  row->setContentsMargins(14, 0, 16, 0);
  row->setSpacing(10);
  auto* logo = new QLabel(this);
  row->addWidget(logo);
  bench_ = new QToolButton(this);
  bench_->setFont(face(Type::value, true));
  bench_->setToolTip(tr("The bench: give it another name"));
  connect(bench_, &QToolButton::clicked, this, &TopRow::rename_wanted);
  row->addWidget(bench_);
  row->addSpacing(14);
  row->addWidget(tabs_ = new GroupTabs(this));
  row->addStretch();
  search_ = new QToolButton(this);
  search_->setObjectName("search");
  search_->setToolTip(tr("Find or do anything (Ctrl+K)"));
  connect(search_, &QToolButton::clicked, this, &TopRow::search_wanted);
  row->addWidget(search_);
  connect(&Theme::instance(), &Theme::changed, this, [this, logo] {
    logo->setPixmap(icon("heathmist", Role::ink).pixmap(22, 22));
    dress();
  });
  logo->setPixmap(icon("heathmist", Role::ink).pixmap(22, 22));
  dress();
}

void TopRow::dress() {
  setStyleSheet(QString("#top { border-bottom: 1px solid %1; }"
                        " #search { background: %2; border: 1px solid %1; border-radius: 14px; color: %3; }")
                    .arg(colour(Role::rule).name(), colour(Role::sheet).name(), colour(Role::soft).name()));
}

void TopRow::name_bench(const QString& name, bool changed) {
  bench_->setText(name + (changed ? tr("  (not saved)") : QString()));
  fit();
}

QPoint TopRow::under_search() const { return search_->mapToGlobal(QPoint(search_->width(), search_->height() + 4)); }

void TopRow::resizeEvent(QResizeEvent* event) {
  QWidget::resizeEvent(event);
  fit();
}

/// The search gives way where the bench's name and the tabs need the room.
void TopRow::fit() {
  constexpr int full = 214, brief = 76, tall = 28;
  search_->setFixedSize(brief, tall);
  const bool roomy = layout()->minimumSize().width() + full - brief <= width();
  search_->setText(roomy ? tr("Find or do anything    Ctrl K") : tr("Ctrl K"));
  search_->setFixedSize(roomy ? full : brief, tall);
}

}  // namespace heathmist::app
