#include "app/shell/key_sheet.hpp"

#include <QMenu>
#include <QVBoxLayout>

#include "app/theme/theme.hpp"

namespace heathmist::app {

namespace {

constexpr int sheet_columns = 4;

/// A headed list of keys and what they do.
struct KeyGroup {
  QString title;
  std::vector<std::pair<QString, QString>> keys;
};

/// Of "Loudness: all masters and returns in one table" the page; of "Show plate: spectra" the plate.
QString short_name(const QAction& action, const QMenu& menu) {
  const QString name = QString(action.text()).remove('&'), head = name.section(": ", 0, 0);
  if (!qobject_cast<QMenu*>(menu.parent())) return name;
  const auto actions = menu.actions();
  const auto alike =
      std::ranges::count_if(actions, [&](const QAction* a) { return a->text().startsWith(head + ": "); });
  return alike > 1 ? name.section(": ", 1) : head;
}

/// A menu and those below it, each a group of its own.
void gather_keys(const QMenu& menu, std::vector<KeyGroup>& into) {
  const size_t own = into.size();
  into.push_back({menu.title().remove('&'), {}});
  for (const QAction* action : menu.actions()) {
    if (action->menu()) gather_keys(*action->menu(), into);
    QStringList keys;
    for (const QKeySequence& key : action->shortcuts())
      if (!key.isEmpty()) keys << key.toString(QKeySequence::NativeText);
    if (!keys.isEmpty()) into[own].keys.emplace_back(keys.join(", "), short_name(*action, menu));
  }
}

/// What is no command: keys of single places, and the mouse.
std::vector<KeyGroup> elsewhere() {
  return {{QObject::tr("In plots"),
           {{QObject::tr("wheel, +, \u2212, 0"), QObject::tr("zoom; all of it")},
            {QObject::tr("drag, arrows"), QObject::tr("pan")},
            {QObject::tr("Shift and drag"), QObject::tr("select a stretch, or a band")},
            {QObject::tr("[ and ]"), QObject::tr("select from, to the playhead")},
            {QObject::tr("Ctrl and drag"), QObject::tr("align the return by hand")},
            {QObject::tr("right click"), QObject::tr("copy, save")}}},
          {QObject::tr("In tables"),
           {{QObject::tr("Enter"), QObject::tr("open, or go to the spot")},
            {QObject::tr("Ctrl+C"), QObject::tr("copy the chosen rows")},
            {QObject::tr("right click"), QObject::tr("what is this; columns")}}},
          {QObject::tr("In a value of the fit"),
           {{QObject::tr("Up, Down"), QObject::tr("nudge")},
            {QObject::tr("Shift, Ctrl"), QObject::tr("ten times, a hundredth")}}},
          {QObject::tr("In a blind test"),
           {{QObject::tr("1 to 9"), QObject::tr("hear")},
            {QObject::tr("Left, Right"), QObject::tr("answer")},
            {QObject::tr("Up, Down"), QObject::tr("grade")},
            {QObject::tr("Backspace"), QObject::tr("take back")},
            {QObject::tr("Esc"), QObject::tr("rest")}}}};
}

QString html_of(const KeyGroup& group) {
  QString rows;
  for (const auto& [key, does] : group.keys)
    rows += QString("<tr><td style='padding-right:9px; white-space:nowrap'><b>%1</b></td><td>%2</td></tr>")
                .arg(key.toHtmlEscaped(), does.toHtmlEscaped());
  return QString(
             "<p style='color:%1; margin-top:10px; margin-bottom:2px'>%2</p><table cellspacing='0' "
             "cellpadding='1'>%3</table>")
      .arg(colour(Role::soft).name(), group.title.toHtmlEscaped(), rows);
}

/// The groups in so many columns, in their order, each about as long as the others.
QString in_columns(const std::vector<KeyGroup>& groups) {
  size_t all = 0, done = 0;
  for (const KeyGroup& group : groups) all += group.keys.size() + 2;
  QStringList cells;
  QString cell;
  for (const KeyGroup& group : groups) {
    const size_t length = group.keys.size() + 2;
    if ((done + length / 2) * sheet_columns > all * size_t(cells.size() + 1) && cells.size() + 1 < sheet_columns)
      cells << std::exchange(cell, {});
    cell += html_of(group);
    done += length;
  }
  cells << cell;
  return QString("<table width='100%'><tr><td valign='top' width='25%'>%1</td></tr></table>")
      .arg(cells.join("</td><td valign='top' width='25%'>"));
}

}  // namespace

KeySheet::KeySheet(const QMenuBar& menus, QWidget* parent) : QDialog(parent) {
  setWindowTitle(tr("Keys"));
  resize(QSize(1200, 690).boundedTo(parent->window()->size() - QSize(16, 16)));
  auto* rows = new QVBoxLayout(this);
  rows->setContentsMargins(0, 0, 0, 0);
  text_ = new QTextBrowser(this);
  text_->setAccessibleName(tr("Every key and what it does"));
  text_->setFrameShape(QFrame::NoFrame);
  text_->document()->setDocumentMargin(16);
  text_->setFont(face(Type::small));
  std::vector<KeyGroup> groups;
  for (const QAction* menu : menus.actions()) gather_keys(*menu->menu(), groups);
  std::erase_if(groups, [](const KeyGroup& group) { return group.keys.empty(); });
  for (KeyGroup& group : elsewhere()) groups.push_back(std::move(group));
  text_->setHtml(in_columns(groups));
  rows->addWidget(text_);
}

}  // namespace heathmist::app
