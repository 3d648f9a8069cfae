#include "app/widgets/findings_panel.hpp"

#include <QClipboard>
#include <QGuiApplication>
#include <QKeyEvent>
#include <QMenu>
#include <QPainter>
#include <QScrollArea>
#include <QWhatsThis>

#include "app/theme/theme.hpp"
#include "app/widgets/panel_head.hpp"
#include "app/widgets/terms.hpp"

namespace heathmist::app {

static constexpr size_t findings_seen = 3;  // of the findings; the rest is folded

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
  words_ = QString::fromStdString(finding.text + (finding.detail.empty() ? "" : "\n" + finding.detail));
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

void FindingCard::contextMenuEvent(QContextMenuEvent* event) {
  QMenu menu(this);
  menu.addAction(tr("Copy this finding"), this, [this] { QGuiApplication::clipboard()->setText(words_); });
  menu.addAction(tr("What is this"), this,
                 [this, at = event->globalPos()] { QWhatsThis::showText(at, whatsThis(), this); });
  menu.exec(event->globalPos());
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
  below_ = new QWidget(cards_);
  auto* line = new QHBoxLayout(below_);
  line->setContentsMargins(10, 2, 10, 2);  // under the sentences
  also_ = new QPushButton(below_);
  line->addWidget(also_);
  line->addStretch();
  also_->setProperty("link", true);
  also_->setAutoDefault(true);
  below_->hide();
  connect(also_, &QPushButton::clicked, this, [this] {
    is_open_ = !is_open_;
    fold();
  });
  rows_->addWidget(below_);
  rows_->addStretch();
  scroll->setWidget(cards_);
  all->addWidget(scroll, 1);
}

void FindingsPanel::show_findings(const std::vector<Finding>& findings) {
  findings_ = findings;
  for (FindingCard* card : cards_->findChildren<FindingCard*>(Qt::FindDirectChildrenOnly)) delete card;
  rows_->removeWidget(below_);
  for (size_t n = 0; n < findings.size(); ++n) {
    auto* card = new FindingCard(findings[n], n == 0, cards_);
    connect(card, &FindingCard::pressed, this, [this, n] { emit chosen(findings_[n]); });
    rows_->insertWidget(int(n), card);
  }
  rows_->insertWidget(int(std::min(findings_seen, findings.size())), below_);
  fold();
  count_->setText(findings.empty() ? QString() : QString::number(findings.size()));
}

void FindingsPanel::fold() {
  const size_t more = findings_.size() > findings_seen ? findings_.size() - findings_seen : 0;
  below_->setVisible(more > 0);
  also_->setText(is_open_ ? tr("Fold the rest") : tr("Also: %1 more").arg(more));
  size_t n = 0;
  for (FindingCard* card : cards_->findChildren<FindingCard*>(Qt::FindDirectChildrenOnly))
    card->setVisible(n++ < findings_seen || is_open_);
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
