#include "app/widgets/findings_panel.hpp"

#include <QClipboard>
#include <QGuiApplication>
#include <QKeyEvent>
#include <QMenu>
#include <QPainter>
#include <QScrollArea>
#include <QWhatsThis>

#include <algorithm>
#include <numeric>

#include "app/theme/line_breaks.hpp"
#include "app/theme/theme.hpp"
#include "app/widgets/panel_head.hpp"
#include "app/widgets/terms.hpp"
#include "core/compare/finding_place.hpp"

namespace heathmist::app {

static constexpr size_t findings_seen = 3;  // of the findings; the rest is folded

FindingCard::FindingCard(const Finding& finding, bool first, Aside aside, const QString& reason, QWidget* parent)
    : QFrame(parent), severity_(finding.severity), aside_(aside) {
  setFocusPolicy(Qt::StrongFocus);
  setCursor(Qt::PointingHandCursor);
  auto* rows = new QVBoxLayout(this);
  rows->setContentsMargins(16, 9, 12, 9);
  rows->setSpacing(3);
  auto* text = new QLabel(unbroken(QString::fromStdString(finding.text)), this);
  text->setFont(face(first ? Type::value : Type::body, true));
  text->setWordWrap(true);
  rows->addWidget(text);
  const auto add_small = [&](const QString& words) {
    auto* label = new QLabel(unbroken(words), this);
    label->setFont(face(Type::small));
    label->setProperty("soft", true);
    label->setTextFormat(Qt::PlainText);
    label->setWordWrap(true);
    rows->addWidget(label);
    return label;
  };
  if (aside == is) {
    text->setProperty("soft", true);
    add_small(tr("Put aside: %1").arg(reason));
  } else if (!finding.detail.empty()) {
    add_small(QString::fromStdString(finding.detail));
  }
  technical_ = add_small(QString::fromStdString(technical_line(finding)));
  technical_->hide();
  words_ = QString::fromStdString(finding.text + (finding.detail.empty() ? "" : "\n" + finding.detail));
  words_ += "\n" + QString::fromStdString(technical_line(finding));
  setAccessibleName(aside == is ? tr("Put aside: %1. %2").arg(reason, QString::fromStdString(finding.text))
                                : QString::fromStdString(finding.text + " " + finding.detail));
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
    case Qt::Key_Delete:
      if (aside_ == can_be) return emit putting_aside_wanted();
      if (aside_ == is) return emit bringing_back_wanted();
      return;
    default:
      QFrame::keyPressEvent(event);
  }
}

void FindingCard::contextMenuEvent(QContextMenuEvent* event) {
  QMenu menu(this);
  menu.addAction(tr("Copy this finding"), this, [this] { QGuiApplication::clipboard()->setText(words_); });
  if (aside_ == can_be) menu.addAction(tr("Put aside\u2026"), this, &FindingCard::putting_aside_wanted);
  if (aside_ == is) menu.addAction(tr("Bring back"), this, &FindingCard::bringing_back_wanted);
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

void FindingsPanel::show_findings(const std::vector<Finding>& findings, const std::vector<QString>& reasons) {
  findings_ = findings, reasons_ = reasons;
  for (FindingCard* card : cards_of_) delete card;
  cards_of_.clear();
  for (size_t n = 0; n < findings.size(); ++n) {
    const auto aside = is_aside(n)                   ? FindingCard::is
                       : n > 0 && n < reasons.size() ? FindingCard::can_be
                                                     : FindingCard::never;
    auto* card = new FindingCard(findings[n], n == 0, aside, is_aside(n) ? reasons[n] : QString(), cards_);
    cards_of_.push_back(card);
    card->show_technical(is_technical_);
    connect(card, &FindingCard::pressed, this, [this, n] { emit chosen(findings_[n]); });
    // the card goes with what is done to it
    const auto later = Qt::QueuedConnection;
    connect(
        card, &FindingCard::putting_aside_wanted, this, [this, f = findings[n]] { emit putting_aside_wanted(f); },
        later);
    connect(
        card, &FindingCard::bringing_back_wanted, this, [this, f = findings[n]] { emit bringing_back_wanted(f); },
        later);
  }
  lay_out();
}

void FindingsPanel::show_technical(bool shown) {
  is_technical_ = shown;
  for (FindingCard* card : cards_of_) card->show_technical(shown);
}

void FindingsPanel::narrow(const std::optional<std::pair<double, double>>& seconds,
                           const std::optional<std::pair<double, double>>& hz) {
  if (seconds_ == seconds && hz_ == hz) return;
  seconds_ = seconds, hz_ = hz;
  lay_out();
}

bool FindingsPanel::is_elsewhere(size_t n) const { return lies_elsewhere(findings_[n], seconds_, hz_); }

/// What lies elsewhere comes behind what holds in the selection, and what was put aside behind all.
void FindingsPanel::lay_out() {
  rows_->removeWidget(below_);
  std::vector<size_t> order(findings_.size());
  std::iota(order.begin(), order.end(), size_t(0));
  const auto aside = std::stable_partition(order.begin(), order.end(), [this](size_t n) { return !is_aside(n); });
  const auto elsewhere = std::stable_partition(order.begin(), aside, [this](size_t n) { return !is_elsewhere(n); });
  const auto here = size_t(elsewhere - order.begin()), kept = size_t(aside - order.begin());
  for (size_t n = 0; n < order.size(); ++n) {
    rows_->removeWidget(cards_of_[order[n]]);
    rows_->insertWidget(int(n), cards_of_[order[n]]);
    if (n > 0) QWidget::setTabOrder(cards_of_[order[n - 1]], cards_of_[order[n]]);
  }
  seen_ = std::min(findings_seen, here);
  rows_->insertWidget(int(seen_), below_);
  fold();
  const size_t put_aside = findings_.size() - kept;
  count_->setText(findings_.empty() ? QString()
                  : here < kept     ? tr("%1 of %2 in the selection").arg(here).arg(kept)
                  : put_aside       ? tr("%1, and %2 put aside").arg(kept).arg(put_aside)
                                    : QString::number(kept));
}

void FindingsPanel::fold() {
  const size_t more = findings_.size() - seen_;
  below_->setVisible(more > 0);
  also_->setText(is_open_ ? tr("Fold the rest") : tr("Also: %1 more").arg(more));
  for (FindingCard* card : cards_of_) card->setVisible(is_open_ || size_t(rows_->indexOf(card)) < seen_);
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
