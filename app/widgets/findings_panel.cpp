#include "app/widgets/findings_panel.hpp"

#include <QKeyEvent>
#include <QPainter>
#include <QScrollArea>

#include "app/theme/theme.hpp"
#include "app/widgets/panel_head.hpp"
#include "app/widgets/terms.hpp"

namespace heathmist::app {

FindingCard::FindingCard(const Finding& finding, bool first, QWidget* parent)
    : QFrame(parent), severity_(finding.severity) {
  setFocusPolicy(Qt::StrongFocus);
  setCursor(Qt::PointingHandCursor);
  auto* rows = new QVBoxLayout(this);
  rows->setContentsMargins(16, 9, 12, 9);
  rows->setSpacing(3);
  auto* text = new QLabel(QString::fromStdString(finding.text), this);
  text->setFont(face(first ? Type::value : Type::body, true));
  text->setWordWrap(true);
  rows->addWidget(text);
  if (!finding.detail.empty()) {
    auto* detail = new QLabel(QString::fromStdString(finding.detail), this);
    detail->setFont(face(Type::small));
    detail->setProperty("soft", true);
    detail->setWordWrap(true);
    rows->addWidget(detail);
  }
  setAccessibleName(QString::fromStdString(finding.text + " " + finding.detail));
  QString hint = tr("%1: show where").arg(name_of(finding.severity));
  if (finding.value && finding.unit == "dB") hint += "\n" + in_other_units(*finding.value);
  setToolTip(hint);
  setWhatsThis(card_of(term_of_code(finding.code)));
}

void FindingCard::paintEvent(QPaintEvent*) {
  QPainter painter(this);
  if (hasFocus()) painter.fillRect(rect(), colour(Role::sheet));
  painter.fillRect(QRect(0, 4, 3 + int(severity_), height() - 8), Theme::instance().severity(severity_));
  painter.setPen(colour(Role::faint));
  painter.drawLine(16, height() - 1, width(), height() - 1);
}

void FindingCard::mousePressEvent(QMouseEvent*) { emit pressed(); }

void FindingCard::keyPressEvent(QKeyEvent* event) {
  switch (event->key()) {
    case Qt::Key_Return:
    case Qt::Key_Enter:
      return emit pressed();
    case Qt::Key_Down:
      focusNextChild();
      return;
    case Qt::Key_Up:
      focusPreviousChild();
      return;
    default:
      QFrame::keyPressEvent(event);
  }
}

FindingsPanel::FindingsPanel(QWidget* parent) : QWidget(parent) {
  const auto [all, count] = put_head(this, tr("Findings"));
  count_ = count;
  auto* scroll = new QScrollArea(this);
  scroll->setWidgetResizable(true);
  scroll->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
  scroll->setFocusPolicy(Qt::NoFocus);
  cards_ = new QWidget(scroll);
  rows_ = new QVBoxLayout(cards_);
  rows_->setContentsMargins(0, 0, 0, 0);
  rows_->setSpacing(0);
  rows_->addStretch();
  scroll->setWidget(cards_);
  all->addWidget(scroll, 1);
}

void FindingsPanel::show_findings(const std::vector<Finding>& findings) {
  findings_ = findings;
  while (rows_->count() > 1) {
    auto* item = rows_->takeAt(0);
    delete item->widget();
    delete item;
  }
  for (size_t n = 0; n < findings.size(); ++n) {
    auto* card = new FindingCard(findings[n], n == 0, cards_);
    connect(card, &FindingCard::pressed, this, [this, n] { emit chosen(findings_[n]); });
    rows_->insertWidget(int(n), card);
  }
  count_->setText(findings.empty() ? QString() : QString::number(findings.size()));
}

void FindingsPanel::show_explaining(double fraction) {
  count_->setText(tr("explaining, %1 %").arg(int(100 * fraction)));
}

QStringList FindingsPanel::sentences() const {
  QStringList list;
  for (const auto& f : findings_) list << QString::fromStdString(f.text);
  return list;
}

}  // namespace heathmist::app
