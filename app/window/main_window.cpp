#include "app/window/main_window.hpp"

#include <QCloseEvent>
#include <QFileDialog>
#include <QFileInfo>
#include <QInputDialog>
#include <QMenu>
#include <QMessageBox>
#include <QMimeData>
#include <QSettings>
#include <QVBoxLayout>

#include "app/theme/theme.hpp"
#include "app/widgets/saving.hpp"
#include "app/window/finder.hpp"
#include "app/window/recovery.hpp"

namespace heathmist::app {

namespace {

constexpr int most_recent = 8;
const char* const audio_filter =
    "Audio (*.wav *.w64 *.rf64 *.aif *.aiff *.caf *.flac *.mp3 *.aac *.m4a *.ogg *.opus *.wv *.ac3 *.mp4 *.mkv *.mov "
    "*.webm);;All files (*)";

}  // namespace

MainWindow::MainWindow(std::unique_ptr<OutputDevice> device) : player_(std::move(device)) {
  setWindowIcon(icon("heathmist", Role::ink));
  setAcceptDrops(true);
  setMinimumSize(900, 600);
  auto* centre = new QWidget(this);
  auto* rows = new QVBoxLayout(centre);
  rows->setContentsMargins(0, 0, 0, 0);
  rows->setSpacing(0);
  rows->addWidget(make_top());
  columns_ = new QSplitter(Qt::Horizontal, centre);
  columns_->setHandleWidth(1);
  ledger_ = new Ledger(columns_);
  views_ = new QStackedWidget(columns_);
  view_ = new NullView(desk_.runner(), desk_.errands(), views_);
  trials_ = new TrialsView(views_);
  views_->addWidget(view_);
  views_->addWidget(trials_);
  views_->addWidget(matrix_ = new MatrixView(views_));
  views_->addWidget(ceiling_ = new CeilingView(views_));
  views_->addWidget(loudness_ = new LoudnessView(board_, views_));
  views_->addWidget(outlets_ = new OutletsView(board_, views_));
  views_->addWidget(spectrum_ = new SpectrumView(views_));
  views_->addWidget(conversions_ = new ConversionsView(views_));
  converters_ = conversions_->board();
  findings_ = new FindingsPanel(columns_);
  ledger_->setMinimumWidth(170);
  findings_->setMinimumWidth(190);
  views_->setMinimumWidth(420);
  columns_->setStretchFactor(0, 1);
  columns_->setStretchFactor(1, 3);
  columns_->setStretchFactor(2, 1);
  columns_->setSizes({236, 776, 268});
  columns_->setChildrenCollapsible(false);
  rows->addWidget(columns_, 1);
  rows->addWidget(notice_ = new Notice(centre));
  listening_ = new ListeningBar(player_, centre);
  listening_->setAttribute(Qt::WA_StyledBackground);
  rows->addWidget(listening_);
  setCentralWidget(centre);
  make_actions();
  connect_all();
  resize(1280, 800);
  QSettings settings;
  restoreGeometry(settings.value("window/geometry").toByteArray());
  columns_->restoreState(settings.value("window/columns").toByteArray());
  ledger_->list()->setFocus();
  show_empty();
  refresh_title();
}

MainWindow::~MainWindow() { desk_.cancel(); }

QAction* MainWindow::add(const QString& title, const QList<QKeySequence>& keys, const std::function<void()>& run) {
  auto* action = new QAction(title, this);
  action->setShortcuts(keys);
  connect(action, &QAction::triggered, this, run);
  addAction(action);
  return action;
}

void MainWindow::make_actions() {
  add(tr("Add audio files…"), {QKeySequence("Ctrl+I")}, [this] { choose_files(); });
  add(tr("New bench"), {QKeySequence::New}, [this] {
    if (!may_let_go()) return;
    desk_.runner().forget_all();
    desk_.model().start_anew();
  });
  add(tr("Open bench…"), {QKeySequence::Open}, [this] { choose_bench(); });
  add(tr("Save bench"), {QKeySequence::Save}, [this] { save(false); });
  add(tr("Save bench as…"), {QKeySequence("Ctrl+Shift+S")}, [this] { save(true); });
  auto& stack = desk_.model().undo_stack();
  auto* undo = stack.createUndoAction(this, tr("Undo"));
  auto* redo = stack.createRedoAction(this, tr("Redo"));
  undo->setShortcuts(QKeySequence::Undo);
  redo->setShortcuts({QKeySequence("Ctrl+Shift+Z"), QKeySequence("Ctrl+Y")});
  addAction(undo);
  addAction(redo);
  add(tr("Find or do anything"), {QKeySequence("Ctrl+K")}, [this] { find_anything(); });
  add(tr("Play or pause"), {QKeySequence("Space")}, [this] { listening_->toggle_play(); });
  add(tr("Hear the master"), {QKeySequence("1")}, [this] { listening_->hear(Heard::master); });
  add(tr("Hear the return"), {QKeySequence("2")}, [this] { listening_->hear(Heard::ret); });
  add(tr("Hear the residual"), {QKeySequence("3")}, [this] { listening_->hear(Heard::residual); });
  add(tr("Matched level on or off"), {QKeySequence("M")}, [this] { listening_->set_matched(!listening_->matched()); });
  add(tr("Lift the residual more"), {QKeySequence(".")}, [this] { listening_->set_lift(listening_->lift() + 6); });
  add(tr("Lift the residual less"), {QKeySequence(",")}, [this] { listening_->set_lift(listening_->lift() - 6); });
  add(tr("Stop measuring, or let the selection go"), {QKeySequence("Esc")}, [this] {
    if (desk_.runner().is_busy() && !view_->selection() && !view_->band()) return desk_.cancel();
    view_->set_selection({});
    if (view_->band()) view_->set_band({});
  });
  add(tr("Next trial"), {QKeySequence("Ctrl+Down")}, [this] {
    ledger_->list()->setCurrentRow(std::min(ledger_->list()->count() - 1, ledger_->list()->currentRow() + 1));
  });
  add(tr("Previous trial"), {QKeySequence("Ctrl+Up")},
      [this] { ledger_->list()->setCurrentRow(std::max(0, ledger_->list()->currentRow() - 1)); });
  add(tr("Go to the ledger"), {QKeySequence("F6")}, [this] { ledger_->list()->setFocus(); });
  add(tr("Go to the lanes"), {QKeySequence("F7")}, [this] { show_view(0); });
  add(tr("Compare all trials side by side"), {QKeySequence("F9")}, [this] { show_view(1); });
  make_chain_actions();
  make_loudness_actions();
  make_spectrum_actions();
  int key = 1;
  for (Chooser* side : {view_->plates()->left(), view_->plates()->right()})
    for (int page = 0; page < side->pages()->count(); ++page, ++key)
      add(tr("Show plate: %1").arg(side->name(page)), {QKeySequence(QString("Alt+%1").arg(key % 10))},
          [this, side, page] {
            show_view(0);
            side->choose(page);
            side->pages()->currentWidget()->setFocus();
          });
  add(tr("Snap the delay to the nearest null"), {QKeySequence("Ctrl+G")}, [this] { view_->snap(); });
  add(tr("Take a recording of silence as the floor of the route…"), {}, [this] { choose_floor(); });
  add(tr("Take this trial as the floor of the route"), {}, [this] { desk_.floor_from(desk_.current()); });
  add(tr("Let the floor of the route go"), {}, [this] { desk_.set_floor({}); });
  add(tr("Go to the findings"), {QKeySequence("F8")}, [this] {
    if (auto* card = findings_->findChild<FindingCard*>()) card->setFocus();
  });
  add(tr("Exchange master and return"), {QKeySequence("Ctrl+E")}, [this] { desk_.exchange(desk_.current()); });
  add(tr("Point to the missing file anew…"), {QKeySequence("Ctrl+L")}, [this] {
    const auto& bench = desk_.model().bench();
    const Master* owner = bench.master_of(desk_.current());
    const bool master_gone =
        owner && desk_.states().count(owner->id) && desk_.states().at(owner->id).file == FileState::missing;
    if (!desk_.current().empty()) point_anew(master_gone ? owner->id : desk_.current());
  });
  add(tr("Night or day"), {QKeySequence("Ctrl+Shift+N")}, [this] {
    set_night(!Theme::instance().is_night());
    QSettings().setValue("window/night", Theme::instance().is_night());
  });
  add(tr("Bench menu"), {QKeySequence("Alt+B")}, [this] { bench_button_->showMenu(); });
  add(tr("Quit"), {QKeySequence::Quit}, [this] { close(); });
}

void MainWindow::connect_all() {
  connect_chains();
  connect_loudness();
  connect_spectrum();
  connect(&desk_, &Desk::rows_changed, this, [this] {
    ledger_->show_bench(desk_.model().bench(), desk_.states());
    const QSignalBlocker quiet(ledger_->list());
    ledger_->select(desk_.current());
    trials_->show_bench(desk_.model().bench(), desk_.states());
    refresh_subjects();
    refresh_loudness();
    refresh_spectrum();
  });
  connect(&desk_, &Desk::trial_ready, this, &MainWindow::show_result);
  connect(&desk_.model(), &BenchModel::copy_failed, notice_, &Notice::say);
  connect(&desk_.errands(), &Errands::failed, notice_, &Notice::say);
  connect(&desk_, &Desk::file_changed, this, [this](const QString& file, const QString& sentence) {
    const std::filesystem::path changed = file.toStdString();
    matrix_->forget(changed), ceiling_->forget(changed), board_.forget(changed);
    spectrum_->look_again();
    refresh_loudness();
    notice_->say(sentence);
  });
  connect(&player_, &Player::failed, this, [this](const QString& sentence) {
    notice_->say(sentence);
    desk_.look_at_files();
  });
  connect(&desk_, &Desk::trial_failed, this, [this](const QString& sentence) {
    view_->hide_progress();
    if (desk_.is_disarmed(desk_.current()))
      view_->show_empty(tr("A stage is disarmed"),
                        tr("%1\n\nNothing of it has run. In the chain above it can be seen whole, and armed.")
                            .arg(desk_.words_of_disarmed(desk_.current())),
                        false);
    else
      view_->show_failure(sentence);
    findings_->show_findings({});
    player_.clear_source();
    listening_->set_pair(nullptr);
  });
  connect(&desk_, &Desk::nothing_selected, this, &MainWindow::show_empty);
  connect(&desk_, &Desk::master_selected, this, [this](const QString& name) {
    show_empty();
    view_->show_empty(name, tr("Drop what came back of it here, or make a return with a chain (Ctrl R)."));
  });
  connect(&desk_, &Desk::measuring, this, [this](const QString& name) {
    view_->show_empty(name, tr("It is laid on its master…"), false);
    view_->show_progress(tr("Reading"), 0);
    findings_->show_findings({});
    player_.clear_source();
    listening_->set_pair(nullptr);
  });
  connect(&desk_, &Desk::progressed, view_, &NullView::show_progress);
  connect(&desk_, &Desk::idle, view_, &NullView::hide_progress);
  connect(&desk_.model(), &BenchModel::changed, this, &MainWindow::refresh_title);
  connect(&desk_.model(), &BenchModel::file_changed, this, &MainWindow::refresh_title);
  connect(ledger_, &Ledger::chosen, this, [this](const QString& id) {
    if (id.toStdString() != desk_.current()) desk_.look_at(id.toStdString());
  });
  connect(ledger_, &Ledger::menu_wanted, this,
          [this](const QString& id, const QPoint& at) { row_menu(id.toStdString(), at); });
  connect(ledger_, &Ledger::remove_wanted, this, [this](const QString& id) { desk_.remove(id.toStdString()); });
  connect(ledger_, &Ledger::rename_wanted, this, [this](const QString& id) { rename(id.toStdString()); });
  connect(findings_, &FindingsPanel::chosen, view_, &NullView::show_evidence);
  connect(view_, &NullView::hold_changed, this,
          [this](const FitHold& hold, const QString& what) { desk_.hold(hold, what); });
  connect(view_, &NullView::seek, this, [this](double at) {
    player_.seek(at);
    view_->set_playhead(at);
  });
  connect(&desk_, &Desk::explaining, this, [this](double fraction) { findings_->show_explaining(fraction); });
  connect(trials_, &TrialsView::opened, this, [this](const QString& id) {
    desk_.look_at(id.toStdString());
    ledger_->select(id.toStdString());
    show_view(0);
  });
  connect(view_, &NullView::band_changed, this, [this](auto hz) {
    player_.set_band(hz);
    listening_->show_band(hz);
  });
  connect(view_, &NullView::cell_heard, this, [this] {
    if (!view_->selection()) return;
    player_.seek(view_->selection()->first);
    if (!player_.is_playing()) listening_->toggle_play();
  });
  connect(view_, &NullView::cause_heard, this, [this](auto clip, const QString& name, Heard heard) {
    player_.set_cause(clip);
    listening_->name_cause(name);
    if (clip) listening_->hear(heard);
    if (clip && !player_.is_playing()) listening_->toggle_play();
  });
  connect(view_, &NullView::loop_changed, listening_, &ListeningBar::set_loop);
  connect(view_, &NullView::cancel, this, [this] { desk_.cancel(); });
  connect(view_, &NullView::choose_files, this, &MainWindow::choose_files);
  connect(&player_, &Player::moved, view_, &NullView::set_playhead);
  connect(listening_, &ListeningBar::heard_changed, view_, &NullView::set_heard);
  connect(listening_, &ListeningBar::loop_cleared, this, [this] {
    view_->set_selection({});
    if (view_->band()) view_->set_band({});
  });
}

void MainWindow::show_result(const std::shared_ptr<const TrialResult>& result) {
  view_->hide_progress();
  view_->show_trial(result, desk_.current_hold());
  findings_->show_findings(result->report->findings);
  if (!result->why) findings_->show_explaining(0);
  player_.set_source(result->pair, result->report->fit);
  player_.set_cause(nullptr);
  listening_->set_pair(result->report);
  view_->set_playhead(player_.place_s());
}

void MainWindow::show_empty() {
  view_->hide_progress();
  view_->show_empty(tr("What came back?"),
                    tr("Drop two files here: the master and what came back of it.\nThe null is on screen at once."));
  findings_->show_findings({});
  player_.clear_source();
  listening_->set_pair(nullptr);
}

void MainWindow::resizeEvent(QResizeEvent* event) {
  QMainWindow::resizeEvent(event);
  fit_top();
}

void MainWindow::refresh_title() {
  const auto& model = desk_.model();
  const QString name = !model.bench().name.empty() ? QString::fromStdString(model.bench().name)
                       : model.file().isEmpty()    ? tr("New bench")
                                                   : title_of(model.file());
  const bool open_changes = !desk_.model().undo_stack().isClean();
  bench_button_->setText(name + (open_changes ? tr("  (not saved)") : QString()));
  fit_top();
  setWindowTitle(name + (open_changes ? " *" : "") + tr(" — Heathmist"));
}

void MainWindow::fill_menu() {
  menu_->clear();
  for (QAction* action : actions()) {
    menu_->addAction(action);
    if (action->text() == tr("Save bench as…")) {
      auto* recent_menu = menu_->addMenu(tr("Recent benches"));
      for (const QString& file : recent())
        recent_menu->addAction(title_of(file) + "    " + QFileInfo(file).path(), this,
                               [this, file] { open_bench(file); });
      recent_menu->setEnabled(!recent().isEmpty());
      menu_->addSeparator();
    }
  }
}

void MainWindow::find_anything() {
  std::vector<FinderEntry> entries;
  for (const Master& m : desk_.model().bench().masters)
    for (const Trial& t : m.trials)
      entries.push_back({QString::fromStdString(m.name + ": " + title_of(t)), {}, [this, id = t.id] {
                           desk_.look_at(id), ledger_->select(id);
                         }});
  for (QAction* action : actions())
    if (action->isEnabled())
      entries.push_back({action->text().remove('&'), action->shortcut().toString(QKeySequence::NativeText),
                         [action] { action->trigger(); }});
  for (QAction* action : view_->view_actions())
    entries.push_back({tr("Plates: %1").arg(action->text()), {}, [action] { action->trigger(); }});
  auto* finder = new Finder(std::move(entries), this);
  finder->setAttribute(Qt::WA_DeleteOnClose);
  finder->move(search_->mapToGlobal(QPoint(search_->width() - 440, search_->height() + 4)));
  finder->show();
}

void MainWindow::row_menu(const std::string& id, const QPoint& at) {
  QMenu menu(this);
  const bool trial = desk_.spec_exists(id);
  const Trial* shown = desk_.model().bench().trial(id);
  const bool file = trial && !shown->chain;
  menu.addAction(tr("Rename…"), this, [this, id] { rename(id); });
  if (!shown || file) menu.addAction(tr("Point to its file anew…"), this, [this, id] { point_anew(id); });
  if (file) menu.addAction(tr("Exchange master and return"), this, [this, id] { desk_.exchange(id); });
  if (file) menu.addAction(tr("Take as the floor of the route"), this, [this, id] { desk_.floor_from(id); });
  menu.addSeparator();
  menu.addAction(tr("Remove from the bench"), this, [this, id] { desk_.remove(id); });
  menu.exec(at);
}

void MainWindow::choose_floor() {
  const QString file =
      QFileDialog::getOpenFileName(this, tr("Choose a recording of silence through the same route"), {}, audio_filter);
  if (!file.isEmpty()) desk_.set_floor(Floor{title_of(file).toStdString(), {file.toStdString(), {}}, {}});
}

void MainWindow::rename(const std::string& id) {
  bool good = false;
  const QString name =
      QInputDialog::getText(this, tr("Rename"), tr("Name"), QLineEdit::Normal, desk_.name_of(id), &good);
  if (good && !name.trimmed().isEmpty()) desk_.rename(id, name.trimmed());
}

void MainWindow::point_anew(const std::string& id) {
  const QString file =
      QFileDialog::getOpenFileName(this, tr("Point to the file of %1").arg(desk_.name_of(id)), {}, audio_filter);
  if (!file.isEmpty()) desk_.point_anew(id, file);
}

void MainWindow::take_files(const QStringList& files) {
  QStringList audio;
  for (const QString& file : files) {
    if (file.endsWith(".heathmist"))
      open_bench(file);
    else
      audio << file;
  }
  if (!audio.isEmpty()) desk_.add_files(audio);
}

void MainWindow::choose_files() {
  QSettings settings;
  const QStringList files = QFileDialog::getOpenFileNames(this, tr("Choose a master and what came back"),
                                                          settings.value("files/folder").toString(), audio_filter);
  if (files.isEmpty()) return;
  settings.setValue("files/folder", QFileInfo(files.front()).path());
  take_files(files);
}

void MainWindow::choose_bench() {
  const QString file = QFileDialog::getOpenFileName(this, tr("Open bench"), {}, tr("Benches (*.heathmist)"));
  if (!file.isEmpty()) open_bench(file);
}

void MainWindow::open_bench(const QString& file) {
  if (!may_let_go()) return;
  try {
    for (const QString& note : desk_.open(file)) notice_->say(tr("%1: %2").arg(title_of(file), note));
    restore_settings();
    remember(file);
  } catch (const std::exception& error) {
    QMessageBox::warning(this, tr("The bench was not opened"), QString::fromUtf8(error.what()));
  }
}

/// What goes with the bench besides its trials: how it is listened to and how its spectra are drawn.
void MainWindow::keep_settings() {
  auto& model = desk_.model();
  model.set_setting("listening", {{"matched", listening_->matched()}, {"lift_db", listening_->lift()}});
  model.set_setting("spectra", view_->settings());
}

void MainWindow::restore_settings() {
  const auto& settings = desk_.model().bench().settings;
  if (const auto at = settings.find("listening"); at != settings.end() && at->is_object()) {
    if (at->contains("matched") && at->at("matched").is_boolean()) listening_->set_matched(at->at("matched"));
    if (at->contains("lift_db") && at->at("lift_db").is_number()) listening_->set_lift(at->at("lift_db"));
  }
  if (const auto at = settings.find("spectra"); at != settings.end() && at->is_object()) view_->restore(*at);
}

bool MainWindow::save_to(const QString& file) {
  keep_settings();
  try {
    desk_.model().save(file);
    remember(file);
    return true;
  } catch (const std::exception& error) {
    QMessageBox::warning(this, tr("The bench was not saved"), QString::fromUtf8(error.what()));
    return false;
  }
}

bool MainWindow::save(bool elsewhere) {
  QString file = desk_.model().file();
  if (elsewhere || file.isEmpty()) {
    const auto to = ask_where(
        this, {tr("Save bench"), file.isEmpty() ? "bench.heathmist" : file, tr("Benches (*.heathmist)"), "heathmist"});
    if (!to) return false;
    file = QString::fromStdString(to->file.string());
  }
  return save_to(file);
}

bool MainWindow::may_let_go() {
  if (desk_.model().undo_stack().isClean()) return true;
  const auto answer =
      QMessageBox::question(this, tr("Keep the changes?"), tr("The bench has changes that are not saved."),
                            QMessageBox::Save | QMessageBox::Discard | QMessageBox::Cancel);
  if (answer == QMessageBox::Discard) desk_.model().throw_away_copy();
  return answer == QMessageBox::Discard || (answer == QMessageBox::Save && save(false));
}

void MainWindow::offer_recovery() {
  if (!offer_unsaved(this, desk_.model(), [this] { return may_let_go(); })) return;
  restore_settings();
  for (const Master& m : desk_.bench().masters)
    if (!m.trials.empty()) return desk_.look_at(m.trials.front().id);
}

void MainWindow::set_night(bool night) {
  Theme::instance().apply(night);
  update();
}

QStringList MainWindow::recent() const { return QSettings().value("recent").toStringList(); }

void MainWindow::remember(const QString& file) {
  QStringList files = recent();
  const QString absolute = QFileInfo(file).absoluteFilePath();
  files.removeAll(absolute);
  files.prepend(absolute);
  QSettings().setValue("recent", files.mid(0, most_recent));
}

void MainWindow::closeEvent(QCloseEvent* event) {
  if (!may_let_go()) return event->ignore();
  desk_.model().throw_away_copy();  // saved, or somebody chose
  desk_.cancel();
  player_.pause();
  QSettings settings;
  settings.setValue("window/geometry", saveGeometry());
  settings.setValue("window/columns", columns_->saveState());
  event->accept();
}

void MainWindow::dragEnterEvent(QDragEnterEvent* event) {
  if (event->mimeData()->hasUrls()) event->acceptProposedAction();
}

void MainWindow::dropEvent(QDropEvent* event) {
  QStringList files;
  for (const QUrl& url : event->mimeData()->urls())
    if (url.isLocalFile()) files << url.toLocalFile();
  event->acceptProposedAction();
  if (!files.isEmpty()) take_files(files);
}

}  // namespace heathmist::app
