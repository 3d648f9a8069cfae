#include "app/widgets/notice.hpp"

#include <QHBoxLayout>
#include <QPushButton>

#include "app/theme/theme.hpp"

namespace heathmist::app {

Notice::Notice(QWidget* parent) : QFrame(parent), label_(new QLabel(this)) {
  setObjectName("notice");
  setAttribute(Qt::WA_StyledBackground);
  auto* row = new QHBoxLayout(this);
  row->setContentsMargins(16, 6, 12, 6);
  row->setSpacing(12);
  label_->setWordWrap(true);
  label_->setTextFormat(Qt::PlainText);
  label_->setTextInteractionFlags(Qt::TextSelectableByMouse);
  row->addWidget(label_, 1);
  auto* close = new QPushButton(tr("Dismiss"), this);
  connect(close, &QPushButton::clicked, this, &Notice::dismiss);
  row->addWidget(close);
  auto dress = [this] {
    setStyleSheet(QString("#notice { background: %1; border-top: 1px solid %2; border-left: 4px solid %3; }")
                      .arg(colour(Role::sheet).name(), colour(Role::rule).name(), colour(Role::gorse).name()));
  };
  connect(&Theme::instance(), &Theme::changed, this, dress);
  dress();
  hide();
}

void Notice::say(const QString& sentence) {
  if (sentence.isEmpty()) return;
  const QString before = text();
  if (before.contains(sentence)) return;
  label_->setText(before.isEmpty() ? sentence : before + "\n" + sentence);
  show();
  emit said(sentence);
}

}  // namespace heathmist::app
