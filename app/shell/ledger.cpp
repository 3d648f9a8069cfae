#include "app/shell/ledger.hpp"

#include <QKeyEvent>
#include <QLabel>
#include <QPainter>
#include <QVBoxLayout>
#include <algorithm>

#include "app/theme/theme.hpp"
#include "app/widgets/panel_head.hpp"
#include "app/widgets/terms.hpp"
#include "core/bench/versions.hpp"

namespace heathmist::app {

namespace {

enum RowData { id_role = Qt::UserRole, trial_role, title_role, under_role, kind_role, depth_role, state_role };
constexpr double gauge_floor_db = -144;
constexpr int kind_width = 106;  // pixels: "word length −132.4" has room

/// How far a gauge is filled: deeper is further; silence fills it.
double gauge_share(const std::optional<double>& relative_db) {
  return relative_db ? std::clamp(*relative_db / gauge_floor_db, 0.0, 1.0) : 1.0;
}

class RowPainter : public QStyledItemDelegate {
 public:
  using QStyledItemDelegate::QStyledItemDelegate;

  QSize sizeHint(const QStyleOptionViewItem&, const QModelIndex& index) const override {
    return {100, index.data(trial_role).toBool() ? 40 : (index.row() == 0 ? 42 : 50)};
  }

  void paint(QPainter* painter, const QStyleOptionViewItem& option, const QModelIndex& index) const override {
    painter->save();
    const bool trial = index.data(trial_role).toBool(), selected = option.state & QStyle::State_Selected;
    QRect row = option.rect;
    if (!trial) row.setTop(row.bottom() - 41);
    if (selected) {
      painter->fillRect(row, colour(Role::sheet));
      painter->fillRect(QRect(row.left(), row.top(), 3, row.height()), colour(trial ? Role::ret : Role::master));
    } else if (option.state & QStyle::State_MouseOver) {
      painter->fillRect(row, colour(Role::faint));
    }
    if (selected && option.state & QStyle::State_HasFocus) {
      painter->setPen(colour(Role::master));
      painter->drawRect(row.adjusted(0, 0, -1, -1));
    }
    const QRect inner = row.adjusted(trial ? 26 : 16, 4, -14, -4);
    const QString state = index.data(state_role).toString();
    if (trial)
      paint_trial(painter, inner, index, state, selected);
    else
      paint_master(painter, inner, index, state);
    painter->restore();
  }

 private:
  static void text(QPainter* painter, const QRect& at, const QString& words, const QFont& type, const QColor& ink,
                   int align = Qt::AlignLeft) {
    painter->setFont(type);
    painter->setPen(ink);
    painter->drawText(at, align | Qt::AlignVCenter, QFontMetrics(type).elidedText(words, Qt::ElideRight, at.width()));
  }

  static void paint_master(QPainter* painter, const QRect& at, const QModelIndex& index, const QString& state) {
    text(painter, QRect(at.left(), at.top(), at.width(), 17), index.data(title_role).toString(), face(Type::body, true),
         colour(Role::ink));
    text(painter, QRect(at.left(), at.top() + 17, at.width(), 16),
         state.isEmpty() ? index.data(under_role).toString() : state, face(Type::small),
         colour(state.isEmpty() ? Role::soft : Role::rust));
  }

  /// The name over all the width; below it the gauge, as long in every row, and what happened.
  static void paint_trial(QPainter* painter, const QRect& at, const QModelIndex& index, const QString& state,
                          bool selected) {
    text(painter, QRect(at.left(), at.top(), at.width(), 17), index.data(title_role).toString(),
         face(Type::body, selected), colour(Role::ink));
    const QString kind = state.isEmpty() ? index.data(kind_role).toString() : state;
    const int gauge_width = std::max(36, at.width() - kind_width);
    text(painter, QRect(at.left() + gauge_width + 8, at.top() + 17, at.width() - gauge_width - 8, 15), kind,
         face(Type::small), colour(state.isEmpty() ? Role::soft : Role::rust), Qt::AlignRight);
    const QRectF groove(at.left(), at.top() + 23, gauge_width, 4);
    painter->setPen(Qt::NoPen);
    painter->setBrush(colour(Role::faint));
    painter->drawRect(groove);
    const QVariant depth = index.data(depth_role);
    if (!depth.isValid()) return;
    const double share = depth.toDouble();
    painter->setBrush(colour(share >= 1 ? Role::moss : Role::residual));
    painter->drawRect(QRectF(groove.left(), groove.top(), std::max(1.5, groove.width() * share), groove.height()));
  }
};

QString kind_words(const TrialSummary& s) {
  const QString kind = QString::fromStdString(s.kind).replace('_', ' ');
  if (!s.trusted || kind == "identical") return kind;
  return kind + " " +
         (s.residual_relative_db ? number(*s.residual_relative_db, 1) : QString(QChar(0x2212)) + QChar(0x221e));
}

QString label_of(FileState state) {
  return state == FileState::missing   ? QObject::tr("file missing")
         : state == FileState::changed ? QObject::tr("file changed")
                                       : QString();
}

}  // namespace

Ledger::Ledger(QWidget* parent) : QWidget(parent) {
  const auto [rows, count] = put_head(this, tr("Ledger"));
  count_ = count;
  list_ = new QListWidget(this);
  set_term(list_, "residual");
  list_->setItemDelegate(new RowPainter(list_));
  list_->setMouseTracking(true);
  list_->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
  list_->setVerticalScrollMode(QAbstractItemView::ScrollPerPixel);
  list_->setContextMenuPolicy(Qt::CustomContextMenu);
  list_->setAccessibleName(tr("Ledger of masters and trials"));
  list_->installEventFilter(this);
  rows->addWidget(list_, 1);
  connect(list_, &QListWidget::currentItemChanged, this, [this](QListWidgetItem* now) {
    if (now) emit chosen(now->data(id_role).toString());
  });
  connect(list_, &QListWidget::customContextMenuRequested, this, [this](const QPoint& at) {
    if (const auto* item = list_->itemAt(at))
      emit menu_wanted(item->data(id_role).toString(), list_->viewport()->mapToGlobal(at));
  });
  connect(&Theme::instance(), &Theme::changed, list_, [this] { list_->viewport()->update(); });
}

bool Ledger::eventFilter(QObject* watched, QEvent* event) {
  if (watched == list_ && event->type() == QEvent::KeyPress && list_->currentItem()) {
    const auto key = static_cast<QKeyEvent*>(event)->key();
    const QString id = list_->currentItem()->data(id_role).toString();
    if (key == Qt::Key_Delete) return emit remove_wanted(id), true;
    if (key == Qt::Key_F2) return emit rename_wanted(id), true;
    if (key == Qt::Key_Menu)
      return emit menu_wanted(id,
                              list_->viewport()->mapToGlobal(list_->visualItemRect(list_->currentItem()).bottomLeft())),
             true;
  }
  return QWidget::eventFilter(watched, event);
}

void Ledger::show_bench(const Bench& bench, const std::map<std::string, RowState>& states) {
  const std::string kept = selected();
  const QSignalBlocker quiet(list_);
  const int count = int(bench.masters.size());
  size_t trials = 0;
  list_->clear();
  auto row = [&](const std::string& id, const std::string& title, bool trial) {
    auto* item = new QListWidgetItem(list_);
    item->setData(id_role, QString::fromStdString(id));
    item->setData(title_role, QString::fromStdString(title));
    item->setData(trial_role, trial);
    item->setData(Qt::AccessibleTextRole, QString::fromStdString(title));
    item->setToolTip(Qt::convertFromPlainText(QString::fromStdString(title)));
    const auto found = states.find(id);
    if (found == states.end()) return;
    const RowState& state = found->second;
    item->setData(state_role, label_of(state.file));
    item->setData(under_role, state.facts);
    if (trial && !state.failure.isEmpty())
      item->setData(state_role, state.disarmed ? tr("disarmed") : tr("failed")),
          item->setToolTip(Qt::convertFromPlainText(state.failure));
    if (state.running) item->setData(kind_role, tr("measuring…"));
    if (!state.summary) return;
    item->setData(kind_role, kind_words(*state.summary));
    const QString anew = state.anew.isEmpty() ? QString() : tr("\nMeasured anew: a file changed at %1").arg(state.anew);
    item->setToolTip(QString::fromStdString(state.summary->headline) + anew);
    if (state.summary->trusted) item->setData(depth_role, gauge_share(state.summary->residual_relative_db));
  };
  for (const Master& m : bench.masters) {
    row(m.id, m.name, false);
    QListWidgetItem* head = list_->item(list_->count() - 1);
    if (!m.earlier.empty())
      head->setData(under_role, tr("version %1 · %2").arg(version_of(m)).arg(head->data(under_role).toString()));
    for (const Trial& t : m.trials) {
      row(t.id, title_of(t), true), ++trials;
      QListWidgetItem* item = list_->item(list_->count() - 1);
      if (!is_out_of_date(m, t) || !item->data(state_role).toString().isEmpty()) continue;
      item->setData(state_role, tr("of v%1, %2").arg(t.version).arg(item->data(kind_role).toString()));
      item->setToolTip(tr("It came back from version %1 of the master, which is version %2 now.\n%3")
                           .arg(t.version)
                           .arg(version_of(m))
                           .arg(item->toolTip()));
    }
  }
  count_->setText(count == 0 ? QString()
                             : tr("%1 master%2, %3 trial%4")
                                   .arg(count)
                                   .arg(count == 1 ? "" : "s")
                                   .arg(trials)
                                   .arg(trials == 1 ? "" : "s"));
  select(kept);
}

void Ledger::select(const std::string& id) {
  for (int n = 0; n < list_->count(); ++n)
    if (list_->item(n)->data(id_role).toString().toStdString() == id) return list_->setCurrentRow(n);
}

std::string Ledger::selected() const {
  return list_->currentItem() ? list_->currentItem()->data(id_role).toString().toStdString() : std::string();
}

QString Ledger::said_of(const std::string& id) const {
  for (int n = 0; n < list_->count(); ++n)
    if (const auto* item = list_->item(n); item->data(id_role).toString().toStdString() == id) {
      const QString state = item->data(state_role).toString();
      return state.isEmpty() ? item->data(kind_role).toString() : state;
    }
  return {};
}

}  // namespace heathmist::app
