#include "app/widgets/marks_panel.hpp"

#include <QKeyEvent>
#include <QMenu>

#include "app/theme/position.hpp"
#include "app/theme/theme.hpp"
#include "app/widgets/labels.hpp"
#include "app/widgets/panel_head.hpp"

namespace heathmist::app {

namespace {

QString id_of(const QListWidgetItem* item) { return item ? item->data(Qt::UserRole).toString() : QString(); }

}  // namespace

QString place_of(const Mark& mark) {
  return mark.until_s ? QObject::tr("%1 to %2").arg(position(mark.at_s), position(*mark.until_s)) : position(mark.at_s);
}

MarksPanel::MarksPanel(QWidget* parent) : QWidget(parent) {
  const auto [rows, count] = put_head(this, tr("Marks"));
  count_ = count;
  empty_ = soft_label(tr("N notes the spot that is heard, or what is selected."), this);
  empty_->setWordWrap(true);
  empty_->setContentsMargins(16, 0, 12, 10);
  empty_->setAlignment(Qt::AlignLeft | Qt::AlignTop);
  list_ = new QListWidget(this);
  list_->setAccessibleName(tr("Marks"));
  list_->setWordWrap(true);
  list_->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
  list_->setContextMenuPolicy(Qt::CustomContextMenu);
  list_->installEventFilter(this);
  setObjectName("marks");
  setAttribute(Qt::WA_StyledBackground);
  rows->addWidget(empty_);
  rows->addWidget(list_, 1);
  connect(list_, &QListWidget::itemClicked, this, [this](QListWidgetItem* item) { emit opened(id_of(item)); });
  connect(list_, &QListWidget::customContextMenuRequested, this, &MarksPanel::show_menu);
}

void MarksPanel::show_marks(const std::vector<Mark>& marks, const std::string& trial,
                            const std::function<QString(const std::string&)>& title_of_trial) {
  const QString before = id_of(list_->currentItem());
  list_->clear();
  for (const Mark& m : marks) {
    const bool of_another = !m.trial.empty() && m.trial != trial;
    const QString other = of_another ? title_of_trial(m.trial) : QString();
    QString words = QString::number(list_->count() + 1) + "  " + place_of(m) + "\n" + QString::fromStdString(m.text);
    if (!other.isEmpty()) words += tr(" (%1)").arg(other);
    auto* item = new QListWidgetItem(words, list_);
    item->setData(Qt::UserRole, QString::fromStdString(m.id));
    item->setToolTip(tr("%1: go there (Enter); Delete takes it away").arg(QString::fromStdString(m.text)));
    if (item->data(Qt::UserRole).toString() == before) list_->setCurrentItem(item);
  }
  list_->setVisible(!marks.empty());
  empty_->setVisible(marks.empty());
  setSizePolicy(QSizePolicy::Preferred, marks.empty() ? QSizePolicy::Maximum : QSizePolicy::Preferred);
  count_->setText(marks.empty() ? QString() : QString::number(marks.size()));
}

std::string MarksPanel::chosen() const { return id_of(list_->currentItem()).toStdString(); }

void MarksPanel::show_menu(const QPoint& at) {
  const QString id = id_of(list_->itemAt(at));
  if (id.isEmpty()) return;
  QMenu menu(this);
  menu.addAction(tr("Go there"), this, [this, id] { emit opened(id); });
  menu.addAction(tr("Other words\u2026"), this, [this, id] { emit wording_wanted(id); });
  menu.addAction(tr("Remove this mark"), this, [this, id] { emit removal_wanted(id); });
  menu.exec(list_->viewport()->mapToGlobal(at));
}

bool MarksPanel::eventFilter(QObject* watched, QEvent* event) {
  const QString id = id_of(list_->currentItem());
  if (event->type() == QEvent::KeyPress && !id.isEmpty()) {
    const int key = static_cast<QKeyEvent*>(event)->key();
    if (key == Qt::Key_Return || key == Qt::Key_Enter) return emit opened(id), true;
    if (key == Qt::Key_Delete || key == Qt::Key_Backspace) return emit removal_wanted(id), true;
  }
  return QWidget::eventFilter(watched, event);
}

}  // namespace heathmist::app
