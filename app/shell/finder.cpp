#include "app/shell/finder.hpp"

#include <QKeyEvent>
#include <QPainter>
#include <QSettings>
#include <QStyledItemDelegate>
#include <QVBoxLayout>
#include <map>

#include "app/theme/theme.hpp"

namespace heathmist::app {

namespace {

constexpr int entry_role = Qt::UserRole, place_role = Qt::UserRole + 1, keys_role = Qt::UserRole + 2;
constexpr int no_entry = -1, most_used = 5, most_kept = 20;
constexpr size_t most_listed = 60;
constexpr double nearly_as_well = 0.6;  // as the best: what fits less is not meant
constexpr const char* used_key = "finder/used";

/// A word of letters in a text: at its beginning, that of a word, anywhere, or one after the other.
double word_in(const QString& word, const QString& text) {
  const auto at = text.indexOf(word, 0, Qt::CaseInsensitive);
  if (at == 0) return 1;
  if (at > 0 && !text[at - 1].isLetterOrNumber()) return 0.9;
  if (text.contains(" " + word, Qt::CaseInsensitive)) return 0.9;
  if (at > 0) return 0.7;
  if (word.size() < 3) return 0;
  qsizetype from = 0, begins = 0;
  for (const QChar letter : word) {
    const auto next = text.indexOf(letter, from, Qt::CaseInsensitive);
    if (next < 0) return 0;
    begins += next == 0 || !text[next - 1].isLetterOrNumber();
    from = next + 1;
  }
  return 2 * begins >= word.size() ? 0.4 : 0;  // most of them begin words: "ei" of Export as Image
}

/// Two lines: what it is and its keys, and where; groups in one, small.
class EntryPainter : public QStyledItemDelegate {
 public:
  using QStyledItemDelegate::QStyledItemDelegate;

  QSize sizeHint(const QStyleOptionViewItem&, const QModelIndex& index) const override {
    const int line = QFontMetrics(face(Type::body)).height(), small = QFontMetrics(face(Type::small)).height();
    if (is_group(index)) return {0, small + 12};
    return {0, line + (index.data(place_role).toString().isEmpty() ? 0 : small) + 10};
  }

  void paint(QPainter* painter, const QStyleOptionViewItem& option, const QModelIndex& index) const override {
    painter->save();
    QRect box = option.rect.adjusted(10, 0, -10, 0);
    if (is_group(index)) {
      write(*painter, box.adjusted(0, 6, 0, 0), face(Type::small), Role::soft, index.data().toString());
    } else {
      if (option.state & QStyle::State_Selected) {
        painter->fillRect(option.rect, colour(Role::selection));
        painter->fillRect(QRect(option.rect.topLeft(), QSize(3, option.rect.height())), colour(Role::ret));
      }
      box.adjust(0, 5, 0, -5);
      const QString keys = index.data(keys_role).toString();
      const int line = QFontMetrics(face(Type::body)).height(),
                wide = keys.isEmpty() ? 0 : QFontMetrics(face(Type::small)).horizontalAdvance(keys) + 16;
      const QRect above(box.left(), box.top(), box.width(), line);
      write(*painter, above.adjusted(0, 0, -wide, 0), face(Type::body), Role::ink, index.data().toString());
      write(*painter, above, face(Type::small), Role::soft, keys, Qt::AlignRight);
      write(*painter, box.adjusted(0, line, 0, 0), face(Type::small), Role::soft, index.data(place_role).toString());
    }
    painter->restore();
  }

 private:
  static bool is_group(const QModelIndex& index) { return index.data(entry_role).toInt() == no_entry; }
  static void write(QPainter& painter, const QRect& box, const QFont& font, Role role, const QString& text,
                    Qt::Alignment side = Qt::AlignLeft) {
    painter.setFont(font);
    painter.setPen(colour(role));
    painter.drawText(box, int(side | Qt::AlignVCenter),
                     QFontMetrics(font).elidedText(text, Qt::ElideRight, box.width()));
  }
};

}  // namespace

double how_well(const QString& letters, const QString& title, const QString& place) {
  double sum = 0;
  const QStringList words = letters.split(' ', Qt::SkipEmptyParts);
  for (const QString& word : words) {
    const double best = std::max(word_in(word, title), 0.5 * word_in(word, place));
    if (!(best > 0)) return 0;
    sum += best;
  }
  return words.isEmpty() ? 1 : sum / double(words.size());
}

Finder::Finder(std::vector<FinderEntry> entries, QWidget* parent)
    : QDialog(parent, Qt::Popup), entries_(std::move(entries)) {
  setSizeGripEnabled(false);
  const QSize most = parent ? parent->size() : QSize(1280, 800);
  setFixedSize(std::min(600, most.width() - 40), std::min(520, most.height() - 120));
  auto* rows = new QVBoxLayout(this);
  rows->setContentsMargins(12, 12, 12, 12);
  rows->setSpacing(8);
  edit_ = new QLineEdit(this);
  edit_->setPlaceholderText(tr("A command, page, trial, finding, outlet or term"));
  edit_->setAccessibleName(tr("Find or do anything"));
  edit_->setFont(face(Type::value));
  edit_->setMinimumHeight(34);
  edit_->installEventFilter(this);
  list_ = new QListWidget(this);
  list_->setAccessibleName(tr("What was found"));
  list_->setFocusPolicy(Qt::NoFocus);
  list_->setItemDelegate(new EntryPainter(list_));
  list_->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
  list_->setVerticalScrollMode(QAbstractItemView::ScrollPerPixel);
  rows->addWidget(edit_);
  rows->addWidget(list_, 1);
  connect(edit_, &QLineEdit::textChanged, this, &Finder::filter);
  connect(edit_, &QLineEdit::returnPressed, this, &Finder::run_current);
  connect(list_, &QListWidget::itemClicked, this, &Finder::run_current);
  filter({});
  edit_->setFocus();
}

QStringList Finder::titles() const {
  QStringList all;
  for (int n = 0; n < list_->count(); ++n)
    if (list_->item(n)->data(entry_role).toInt() != no_entry) all << list_->item(n)->text();
  return all;
}

std::vector<size_t> Finder::used_before() const {
  std::vector<size_t> used;
  for (const QString& key : QSettings().value(used_key).toStringList())
    for (size_t n = 0; n < entries_.size() && used.size() < most_used; ++n)
      if (!key.isEmpty() && entries_[n].kept_as == key) used.push_back(n);
  return used;
}

void Finder::add_group(const QString& name, const std::vector<size_t>& entries) {
  auto* head = new QListWidgetItem(name, list_);
  head->setFlags(Qt::NoItemFlags);
  head->setData(entry_role, no_entry);
  for (const size_t n : entries) {
    const FinderEntry& e = entries_[n];
    auto* item = new QListWidgetItem(e.title, list_);
    item->setData(entry_role, int(n));
    item->setData(place_role, e.place);
    item->setData(keys_role, e.keys);
    item->setData(Qt::AccessibleTextRole, QStringList{e.title, e.place, e.keys}.join(". "));
  }
}

void Finder::filter(const QString& letters) {
  list_->clear();
  struct Group {
    QString name;
    std::vector<size_t> entries{};
  };
  std::vector<std::pair<double, size_t>> fitting;
  for (size_t n = 0; n < entries_.size(); ++n)
    if (const double fits = how_well(letters, entries_[n].title, entries_[n].place); fits > 0)
      fitting.emplace_back(fits, n);
  const bool all = letters.trimmed().isEmpty();
  std::stable_sort(fitting.begin(), fitting.end(), [](const auto& a, const auto& b) { return a.first > b.first; });
  if (!fitting.empty())
    std::erase_if(fitting, [least = nearly_as_well * fitting.front().first](const auto& f) { return f.first < least; });
  if (!all && fitting.size() > most_listed) fitting.resize(most_listed);
  std::vector<Group> groups;
  if (all)
    if (auto used = used_before(); !used.empty()) groups.push_back({tr("Chosen last"), std::move(used)});
  for (const auto& [fits, n] : fitting) {
    auto group = std::find_if(groups.begin(), groups.end(),
                              [&, at = n](const Group& g) { return g.name == entries_[at].group; });
    if (group == groups.end()) group = groups.insert(groups.end(), {entries_[n].group});
    group->entries.push_back(n);
  }
  for (const Group& g : groups) add_group(g.name, g.entries);
  if (groups.empty()) add_group(tr("Nothing is called that; fewer letters find more."), {});
  list_->setCurrentRow(std::min(1, list_->count() - 1));
  list_->scrollToTop();
}

/// To the next entry, over the names of groups.
void Finder::step(int by) {
  const int way = by > 0 ? 1 : -1;
  int at = list_->currentRow(), left = std::abs(by);
  for (int n = at + way; n >= 0 && n < list_->count() && left > 0; n += way)
    if (list_->item(n)->data(entry_role).toInt() != no_entry) at = n, --left;
  list_->setCurrentRow(at);
  if (at == 1) list_->scrollToTop();
}

void Finder::run_current() {
  const auto* item = list_->currentItem();
  const int n = item ? item->data(entry_role).toInt() : no_entry;
  if (n == no_entry) return;
  const FinderEntry entry = entries_[size_t(n)];
  if (!entry.kept_as.isEmpty()) {
    QSettings settings;
    QStringList used = settings.value(used_key).toStringList();
    used.removeAll(entry.kept_as);
    used.prepend(entry.kept_as);
    settings.setValue(used_key, used.mid(0, most_kept));
  }
  accept();
  entry.run();
}

/// A sheet with an edge, over whatever it covers.
void Finder::paintEvent(QPaintEvent*) {
  QPainter painter(this);
  painter.setBrush(colour(Role::sheet));
  painter.setPen(colour(Role::edge));
  painter.drawRect(rect().adjusted(0, 0, -1, -1));
}

bool Finder::eventFilter(QObject* watched, QEvent* event) {
  if (event->type() == QEvent::KeyPress) {
    constexpr int page = 7;
    static const std::map<int, int> steps{
        {Qt::Key_Down, 1}, {Qt::Key_Up, -1}, {Qt::Key_PageDown, page}, {Qt::Key_PageUp, -page}};
    if (const auto by = steps.find(static_cast<QKeyEvent*>(event)->key()); by != steps.end()) {
      step(by->second);
      return true;
    }
  }
  return QDialog::eventFilter(watched, event);
}

}  // namespace heathmist::app
