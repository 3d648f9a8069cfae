// What "find or do anything" finds: findings, pages, commands, trials, what the pages offer, chapters and terms.
#include <QAction>
#include <QMenu>

#include "app/shell/finder.hpp"
#include "app/shell/main_window.hpp"
#include "app/widgets/terms.hpp"

namespace heathmist::app {

namespace {

QString menu_of(const QAction& action) {
  for (QObject* object : action.associatedObjects())
    if (const auto* menu = qobject_cast<QMenu*>(object)) return menu->title().remove('&');
  return {};
}

/// Pages are found as such, with what they show.
FinderEntry entry_of(QAction* action) {
  const QString text = action->text().remove('&'), menu = menu_of(*action);
  FinderEntry entry{QObject::tr("Commands"),
                    text,
                    QObject::tr("in the menu %1").arg(menu),
                    action->shortcut().toString(QKeySequence::NativeText),
                    [action] { action->trigger(); },
                    "do:" + text};
  for (const Page& page : pages())
    if (text == page.title + ": " + page.hint)
      entry.group = QObject::tr("Pages"), entry.title = page.title, entry.place = menu + " · " + page.hint;
  return entry;
}

void add_terms(std::vector<FinderEntry>& all, const std::function<void(const QString&)>& open) {
  for (const Term& t : terms())
    all.push_back({QObject::tr("Terms"), t.name, t.what, {}, [open, key = t.key] { open(key); }, "term:" + t.key});
}

}  // namespace

std::vector<FinderEntry> MainWindow::findable() {
  std::vector<FinderEntry> all;
  if (const auto result = workspace_.current_result())
    for (const Finding& f : result->report->findings)
      all.push_back({tr("Findings"), QString::fromStdString(f.text), QString::fromStdString(f.detail), {}, [this, f] {
                       pages_->show_evidence(f);
                     }});
  std::vector<FinderEntry> actions;
  for (QAction* action : menus_->actions())
    if (menus_->can(action)) actions.push_back(entry_of(action));
  std::stable_partition(actions.begin(), actions.end(), [](const FinderEntry& e) { return e.group == tr("Pages"); });
  all.insert(all.end(), actions.begin(), actions.end());
  for (const Master& m : workspace_.bench().masters) {
    all.push_back({tr("Masters and trials"),
                   QString::fromStdString(m.name),
                   tr("master"),
                   {},
                   [this, id = m.id] { workspace_.look_at(id); },
                   QString::fromStdString("row:" + m.id)});
    for (const Trial& t : m.trials)
      all.push_back({tr("Masters and trials"),
                     QString::fromStdString(m.name + ": " + title_of(t)),
                     ledger_->said_of(t.id),
                     {},
                     [this, id = t.id] { workspace_.look_at(id); },
                     QString::fromStdString("row:" + t.id)});
  }
  for (const Findable& f : pages_->findable()) all.push_back({f.group, f.name, f.what, {}, f.run, "at:" + f.name});
  for (const Chapter& c : Handbook::chapters())
    all.push_back({tr("Handbook"),
                   c.title,
                   tr("a chapter of the handbook"),
                   {},
                   [this, key = c.key] { open_handbook(key.toStdString()); },
                   "chapter:" + c.key});
  add_terms(all, [this](const QString& key) {
    open_handbook("terms");
    handbook_->go_to_term(key);
  });
  return all;
}

void MainWindow::find_anything() {
  auto* finder = new Finder(findable(), this);
  finder->setAttribute(Qt::WA_DeleteOnClose);
  finder->move(mapToGlobal(QPoint((width() - finder->width()) / 2, 60)));
  finder->show();
}

}  // namespace heathmist::app
