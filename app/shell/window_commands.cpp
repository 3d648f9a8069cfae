// What the window can do by itself, whatever its pages are; and what can be done with a row of the ledger.
#include <QInputDialog>
#include <QMenu>
#include <QSettings>
#include <QWhatsThis>

#include "app/shell/key_sheet.hpp"
#include "app/shell/log_window.hpp"
#include "app/shell/main_window.hpp"
#include "app/shell/what_is_this.hpp"
#include "app/theme/theme.hpp"
#include "app/widgets/audio_files.hpp"

namespace heathmist::app {

std::vector<Command> MainWindow::own_commands() {
  const auto measured = [this] { return workspace_.current_result() != nullptr; };
  const auto chosen = [this] { return !workspace_.current().empty(); };
  const auto by_file = [this] {
    const Trial* trial = workspace_.bench().trial(workspace_.current());
    return trial && !trial->chain;
  };
  const auto step = [this](int by) {
    auto* list = ledger_->list();
    list->setCurrentRow(std::clamp(list->currentRow() + by, 0, std::max(0, list->count() - 1)));
  };
  const auto match = [this](MatchBy by) { return [this, by] { listening_->match_by(by); }; };
  using M = MenuKind;
  return {
      {tr("New bench"), M::file, [this] { files_->start_anew(); }, {QKeySequence::New}},
      {.name = tr("Open the demo album"),
       .menu = M::file,
       .run =
           [this] {
             show_welcome(true);
             welcome_->open_demo();
           },
       .begins =
           tr("Curlew Hours: five masters of a made-up album, and what codecs, converters and desks made of them.")},
      {tr("Open bench…"), M::file, [this] { files_->choose(); }, {QKeySequence::Open}},
      {tr("Save bench"), M::file, [this] { files_->save(false); }, {QKeySequence::Save}},
      {tr("Save bench as…"), M::file, [this] { files_->save(true); }, {QKeySequence("Ctrl+Shift+S")}},
      {.name = tr("Add audio files…"),
       .menu = M::file,
       .run =
           [this] {
             const QStringList files = choose_audio_files(this);
             if (!files.isEmpty()) take_files(files);
           },
       .keys = {QKeySequence("Ctrl+I")},
       .begins = tr("Choose two, or drop them here: the first is the master, the second what came back.")},
      {tr("Point to its file anew…"),
       M::file,
       [this] { point_anew(file_to_point_at()); },
       {QKeySequence("Ctrl+L")},
       [this] { return !file_to_point_at().empty(); },
       {},
       true},
      {tr("A new version of this master…"),
       M::file,
       [this] { new_version(); },
       {},
       [this] { return !workspace_.current_master().empty(); },
       {},
       true},
      {tr("Show the log"), M::file, [this] { LogWindow(this).exec(); }},
      {tr("Quit"), M::file, [this] { close(); }, {QKeySequence::Quit}},
      {tr("Exchange master and return"),
       M::edit,
       [this] { workspace_.exchange(workspace_.current()); },
       {QKeySequence("Ctrl+E")},
       by_file,
       {},
       true},
      {tr("Rename…"), M::edit, [this] { rename(workspace_.current()); }, {}, chosen, {}, true},
      {tr("Remove from the bench"), M::edit, [this] { workspace_.remove(workspace_.current()); }, {}, chosen, {}, true},
      {tr("Next trial"), M::view, [step] { step(1); }, {QKeySequence("Ctrl+Down")}},
      {tr("Previous trial"), M::view, [step] { step(-1); }, {QKeySequence("Ctrl+Up")}},
      {tr("Go to the ledger"), M::view, [this] { ledger_->list()->setFocus(); }, {QKeySequence("F6")}},
      {tr("Go to the findings"),
       M::view,
       [this] {
         if (auto* card = findings_->findChild<FindingCard*>()) card->setFocus();
       },
       {QKeySequence("F8")},
       measured},
      {tr("Night or day"),
       M::view,
       [this] {
         set_night(!Theme::instance().is_night());
         QSettings().setValue("window/night", Theme::instance().is_night());
       },
       {QKeySequence("Ctrl+Shift+N")}},
      {tr("Play or pause"), M::listen, [this] { listening_->toggle_play(); }, {QKeySequence("Space")}},
      {tr("Hear the master"), M::listen, [this] { listening_->hear(Heard::master); }, {QKeySequence("1")}},
      {tr("Hear the return"), M::listen, [this] { listening_->hear(Heard::ret); }, {QKeySequence("2")}},
      {tr("Hear the residual"), M::listen, [this] { listening_->hear(Heard::residual); }, {QKeySequence("3")}},
      {tr("Matched level on or off"),
       M::listen,
       [this] { listening_->set_matched(!listening_->matched()); },
       {QKeySequence("M")}},
      {tr("Match by integrated loudness"), M::listen, match(MatchBy::integrated)},
      {tr("Match by short-term loudness"), M::listen, match(MatchBy::short_term)},
      {tr("Match by peak"), M::listen, match(MatchBy::peak)},
      {tr("Lift the residual more"),
       M::listen,
       [this] { listening_->set_lift(listening_->lift() + 6); },
       {QKeySequence(".")}},
      {tr("Lift the residual less"),
       M::listen,
       [this] { listening_->set_lift(listening_->lift() - 6); },
       {QKeySequence(",")}},
      {tr("Begin the meters anew"), M::listen, [this] { player_.reset_meters(); }, {QKeySequence("R")}},
      {tr("Stop measuring, or let the selection go"),
       M::measure,
       [this] {
         if (workspace_.results().is_busy() && !workspace_.selection() && !workspace_.band())
           return workspace_.cancel();
         workspace_.select({});
         workspace_.select_band({});
       },
       {QKeySequence("Esc")},
       [this] { return workspace_.results().is_busy() || workspace_.selection() || workspace_.band(); },
       {},
       false,
       true},
      {tr("Find or do anything"), M::help, [this] { find_anything(); }, {QKeySequence("Ctrl+K")}},
      {tr("Handbook: this page"), M::help, [this] { open_handbook(pages_->current().key); }, {QKeySequence("F1")}},
      {tr("Handbook: start here"), M::help, [this] { open_handbook("start"); }},
      {tr("What is this number? (then press on it)"),
       M::help,
       [] { QWhatsThis::enterWhatsThisMode(); },
       {QKeySequence("Shift+F1")}},
      {tr("What is this number, where the keys are?"),
       M::help,
       [this] {
         if (!tell_what_has_the_keys(*this)) notice_->say(tr("What has the keys is no number; go to one with Tab."));
       },
       {QKeySequence("Ctrl+Shift+F1")}},
      {tr("Terms"), M::help, [this] { open_handbook("terms"); }},
      {tr("Keys"), M::help, [this] { show_keys(); }, {QKeySequence("Ctrl+F1")}},
      {tr("Welcome"), M::help, [this] { show_welcome(true); }},
  };
}

void MainWindow::show_keys() {
  auto* sheet = new KeySheet(*menuBar(), this);
  sheet->setAttribute(Qt::WA_DeleteOnClose);
  sheet->show();
  sheet->activateWindow();
}

/// One window of it, beside this one: it can be read while the page is worked with.
void MainWindow::open_handbook(const std::string& chapter) {
  if (!handbook_) handbook_ = new Handbook(this);
  handbook_->open_chapter(QString::fromStdString(chapter));
  handbook_->show();
  handbook_->raise();
  handbook_->activateWindow();
}

/// What can be done with a row, which is looked at by then.
void MainWindow::row_menu(const std::string& id, const QPoint& at) {
  if (id != workspace_.current()) workspace_.look_at(id);
  QMenu menu(this);
  for (QAction* action : menus_->row_actions())
    if (menus_->can(action)) menu.addAction(action);
  menu.exec(at);
}

void MainWindow::rename(const std::string& id) {
  bool good = false;
  const QString name =
      QInputDialog::getText(this, tr("Rename"), tr("Name"), QLineEdit::Normal, workspace_.name_of(id), &good);
  if (good && !name.trimmed().isEmpty()) workspace_.rename(id, name.trimmed());
}

void MainWindow::rename_bench() {
  bool good = false;
  const QString name = QInputDialog::getText(this, tr("Rename the bench"), tr("Name"), QLineEdit::Normal,
                                             QString::fromStdString(workspace_.bench().name), &good)
                           .trimmed();
  if (!good || name.toStdString() == workspace_.bench().name) return;
  workspace_.model().edit(tr("Rename the bench"), [&](Bench& bench) { bench.name = name.toStdString(); });
}

/// The row that is looked at, where its return is a file; its master, where that is what is missing. Empty: neither.
std::string MainWindow::file_to_point_at() const {
  const std::string& id = workspace_.current();
  const Bench& bench = workspace_.bench();
  const Master* owner = bench.master_of(id);
  const auto state = owner ? workspace_.states().find(owner->id) : workspace_.states().end();
  if (state != workspace_.states().end() && state->second.file == FileState::missing) return owner->id;
  const Trial* trial = bench.trial(id);
  return trial && trial->chain ? std::string() : id;
}

void MainWindow::new_version() {
  const std::string id = workspace_.current_master();
  const QString file = choose_audio_file(this, tr("The new version of %1").arg(workspace_.name_of(id)));
  if (id.empty() || file.isEmpty()) return;
  if (!workspace_.new_version(id, file))
    notice_->say(tr("%1 has this file already; a new version is another file.").arg(workspace_.name_of(id)));
}

void MainWindow::point_anew(const std::string& id) {
  if (id.empty()) return;
  const QString file = choose_audio_file(this, tr("Point to the file of %1").arg(workspace_.name_of(id)));
  if (!file.isEmpty()) workspace_.point_anew(id, file);
}

}  // namespace heathmist::app
