#include "app/shell/finder.hpp"

#include <QKeyEvent>
#include <QVBoxLayout>

#include "app/theme/theme.hpp"

namespace heathmist::app {

Finder::Finder(std::vector<FinderEntry> entries, QWidget* parent)
    : QDialog(parent, Qt::Popup), entries_(std::move(entries)) {
  setFixedSize(440, 340);
  auto* rows = new QVBoxLayout(this);
  rows->setContentsMargins(10, 10, 10, 10);
  edit_ = new QLineEdit(this);
  edit_->setPlaceholderText(tr("Find or do anything"));
  edit_->setFont(face(Type::value));
  edit_->installEventFilter(this);
  list_ = new QListWidget(this);
  list_->setFocusPolicy(Qt::NoFocus);
  rows->addWidget(edit_);
  rows->addWidget(list_, 1);
  connect(edit_, &QLineEdit::textChanged, this, &Finder::filter);
  connect(edit_, &QLineEdit::returnPressed, this, &Finder::run_current);
  connect(list_, &QListWidget::itemClicked, this, &Finder::run_current);
  filter({});
  edit_->setFocus();
}

void Finder::filter(const QString& letters) {
  list_->clear();
  const QStringList words = letters.split(' ', Qt::SkipEmptyParts);
  for (size_t n = 0; n < entries_.size(); ++n) {
    const bool fits = std::all_of(words.begin(), words.end(),
                                  [&](const QString& w) { return entries_[n].title.contains(w, Qt::CaseInsensitive); });
    if (!fits) continue;
    auto* item = new QListWidgetItem(
        entries_[n].title + (entries_[n].hint.isEmpty() ? QString() : "     " + entries_[n].hint), list_);
    item->setData(Qt::UserRole, int(n));
  }
  list_->setCurrentRow(0);
}

void Finder::run_current() {
  if (!list_->currentItem()) return;
  const auto run = entries_[size_t(list_->currentItem()->data(Qt::UserRole).toInt())].run;
  accept();
  run();
}

bool Finder::eventFilter(QObject* watched, QEvent* event) {
  if (event->type() == QEvent::KeyPress) {
    const auto* key = static_cast<QKeyEvent*>(event);
    if (key->key() == Qt::Key_Down || key->key() == Qt::Key_Up) {
      list_->setCurrentRow(
          std::clamp(list_->currentRow() + (key->key() == Qt::Key_Down ? 1 : -1), 0, std::max(0, list_->count() - 1)));
      return true;
    }
  }
  return QDialog::eventFilter(watched, event);
}

}  // namespace heathmist::app
