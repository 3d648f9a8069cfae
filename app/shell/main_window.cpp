#include "app/shell/main_window.hpp"

#include <QCloseEvent>
#include <QInputDialog>
#include <QMimeData>
#include <QSettings>

#include "app/shell/plot_menu.hpp"
#include "app/theme/theme.hpp"
#include "app/widgets/audio_files.hpp"

namespace heathmist::app {

MainWindow::MainWindow(std::unique_ptr<OutputDevice> device)
    : player_(std::move(device)),
      loudness_(workspace_.queue()),
      files_(new BenchFiles(workspace_, this)),
      notice_(new Notice(this)),
      listening_(new ListeningBar(player_, this)),
      context_{workspace_,
               loudness_,
               player_,
               *listening_,
               this,
               [this](const QString& sentence) { notice_->say(sentence); },
               [this](const std::string& key) { pages_->show_page(key); },
               [this](bool alone) { show_alone(alone); },
               [this] { hear_trial(); }} {
  setWindowIcon(icon("heathmist", Role::ink));
  setAcceptDrops(true);
  setMinimumSize(900, 600);
  lay_out();
  make_menus();
  connect_all();
  resize(1280, 800);
  QSettings settings;
  restoreGeometry(settings.value("window/geometry").toByteArray());
  columns_->restoreState(settings.value("window/columns").toByteArray());
  show_page_around();
  ledger_->list()->setFocus();
  refresh_title();
}

MainWindow::~MainWindow() { workspace_.cancel(); }

void MainWindow::make_menus() {
  menus_ = new Menus(menuBar(), this);
  commands_ = own_commands();
  for (const auto& more :
       {marks_->commands(), findings_controller_->commands(), positions_->commands(), choice_->commands()})
    commands_.insert(commands_.end(), more.begin(), more.end());
  const auto of_pages = pages_->commands();
  commands_.insert(commands_.end(), of_pages.begin(), of_pages.end());
  auto* plots = new PlotMenu(this);
  const auto of_plots = plots->commands();
  commands_.insert(commands_.end(), of_plots.begin(), of_plots.end());
  auto& stack = workspace_.model().undo_stack();
  menus_->add(stack.createUndoAction(this, tr("Undo")), MenuKind::edit, QKeySequence::keyBindings(QKeySequence::Undo));
  menus_->add(stack.createRedoAction(this, tr("Redo")), MenuKind::edit,
              {QKeySequence("Ctrl+Shift+Z"), QKeySequence("Ctrl+Y")});
  for (const Command& command : commands_) menus_->add(command);
  welcome_->offer(commands_);
  plots->serve(*menus_);
  auto* recent = new QMenu(tr("Recent benches"), this);
  menus_->menu(MenuKind::file)->insertMenu(menus_->menu(MenuKind::file)->actions().value(2), recent);
  connect(recent, &QMenu::aboutToShow, this, [this, recent] { files_->fill_recent(recent); });
}

void MainWindow::connect_all() {
  connect_workspace();
  connect(top_->tabs(), &GroupTabs::chosen, pages_, &PageStack::show_page);
  connect(page_row_, &PageRow::chosen, pages_, &PageStack::show_page);
  connect(pages_, &PageStack::changed, this, [this] {
    show_welcome(false);
    show_page_around();
  });
  connect(welcome_, &Welcome::bench_wanted, files_, &BenchFiles::open);
  connect(top_, &TopRow::search_wanted, this, &MainWindow::find_anything);
  connect(top_, &TopRow::rename_wanted, this, &MainWindow::rename_bench);
  connect(files_, &BenchFiles::about_to_save, this, &MainWindow::keep_settings);
  connect(files_, &BenchFiles::begun_anew, this, &MainWindow::restore_settings);
  connect(files_, &BenchFiles::opened, this, [this](const QStringList& notes) {
    for (const QString& note : notes) notice_->say(note);
    restore_settings();
  });
  connect(ledger_, &Ledger::chosen, this, [this](const QString& id) {
    if (id.toStdString() != workspace_.current()) workspace_.look_at(id.toStdString());
  });
  connect(ledger_, &Ledger::menu_wanted, this,
          [this](const QString& id, const QPoint& at) { row_menu(id.toStdString(), at); });
  connect(ledger_, &Ledger::remove_wanted, this, [this](const QString& id) { workspace_.remove(id.toStdString()); });
  connect(ledger_, &Ledger::rename_wanted, this, [this](const QString& id) { rename(id.toStdString()); });
  connect(findings_, &FindingsPanel::chosen, pages_, &PageStack::show_evidence);
  connect(&player_, &Player::moved, pages_, &PageStack::tell_playhead);
  connect(&player_, &Player::failed, this, [this](const QString& sentence) {
    notice_->say(sentence);
    workspace_.look_at_files();
  });
  connect(listening_, &ListeningBar::loop_cleared, this, [this] {
    workspace_.select({});
    workspace_.select_band({});
  });
}

void MainWindow::connect_workspace() {
  using W = Workspace;
  connect(&workspace_, &W::rows_changed, this, [this] {
    ledger_->show_bench(workspace_.bench(), workspace_.states());
    if (!workspace_.bench().masters.empty()) show_welcome(false);
    const QSignalBlocker quiet(ledger_->list());
    ledger_->select(workspace_.current());
    pages_->refresh();
  });
  connect(&workspace_, &W::looked_at, this, [this] {
    const QSignalBlocker quiet(ledger_->list());
    ledger_->select(workspace_.current());
  });
  connect(&workspace_, &W::trial_ready, this, &MainWindow::hear_trial);
  connect(&workspace_, &W::nothing_selected, this, &MainWindow::hear_nothing);
  connect(&workspace_, &W::master_selected, this, [this] { findings_->show_findings({}), pages_->tell_trial(); });
  connect(&workspace_, &W::measuring, this, &MainWindow::hear_nothing);
  connect(&workspace_, &W::trial_failed, this, &MainWindow::hear_nothing);
  connect(&workspace_, &W::file_changed, this, &MainWindow::tell_file_changed);
  connect(&workspace_, &W::selection_changed, this, [this] { listening_->set_loop(workspace_.selection()); });
  connect(&workspace_, &W::band_changed, this, [this] {
    player_.set_band(workspace_.band());
    listening_->show_band(workspace_.band());
  });
  connect(&workspace_, &W::went_to, this, [this](double at) {
    player_.seek(at);
    pages_->tell_playhead(at);
  });
  connect(&workspace_.model(), &BenchModel::changed, this, &MainWindow::refresh_title);
  connect(&workspace_.model(), &BenchModel::file_changed, this, &MainWindow::refresh_title);
  connect(&workspace_.model(), &BenchModel::copy_failed, notice_, &Notice::say);
  connect(&workspace_.queue(), &Queue::failed, notice_, &Notice::say);
}

/// The trial that is looked at, as it was measured, is seen and heard.
void MainWindow::hear_trial() {
  const auto result = workspace_.current_result();
  if (!result || !result->report) return hear_nothing();
  findings_controller_->refresh();
  if (!result->why) findings_->show_explaining(0);
  player_.set_source(result->pair, result->report->fit);
  player_.set_cause(nullptr);
  listening_->set_pair(result->report);
  pages_->tell_trial();
  pages_->tell_playhead(player_.place_s());
}

void MainWindow::hear_nothing() {
  findings_->show_findings({});
  player_.clear_source();
  listening_->set_pair(nullptr);
  pages_->tell_trial();
}

void MainWindow::tell_file_changed(const QString& file, const QString& sentence) {
  loudness_.forget(file.toStdString());
  pages_->tell_file_changed(file.toStdString());
  notice_->say(sentence);
}

void MainWindow::refresh_title() {
  const auto& model = workspace_.model();
  const QString name = !model.bench().name.empty() ? QString::fromStdString(model.bench().name)
                       : model.file().isEmpty()    ? tr("New bench")
                                                   : title_of(model.file());
  const bool changed = !workspace_.model().undo_stack().isClean();
  top_->name_bench(name, changed);
  setWindowTitle(name + (changed ? " *" : "") + tr(" — Heathmist"));
}

void MainWindow::take_files(const QStringList& files) {
  QStringList audio;
  for (const QString& file : files) {
    if (file.endsWith(".heathmist"))
      files_->open(file);
    else
      audio << file;
  }
  if (!audio.isEmpty()) workspace_.add_files(audio);
}

/// What goes with the bench besides its trials: how it is listened to, and how its pages are set up.
void MainWindow::keep_settings() {
  auto& model = workspace_.model();
  model.set_setting("listening", {{"matched", listening_->matched()}, {"lift_db", listening_->lift()}});
  model.set_setting("positions", positions_->settings());
  pages_->keep_settings(model);
}

void MainWindow::restore_settings() {
  const auto& settings = workspace_.model().bench().settings;
  if (const auto at = settings.find("listening"); at != settings.end() && at->is_object()) {
    if (at->contains("matched") && at->at("matched").is_boolean()) listening_->set_matched(at->at("matched"));
    if (at->contains("lift_db") && at->at("lift_db").is_number()) listening_->set_lift(at->at("lift_db"));
  }
  const auto positions = settings.find("positions");
  positions_->restore(positions != settings.end() && positions->is_object() ? *positions
                                                                            : nlohmann::ordered_json::object());
  pages_->restore_settings(settings);
}

void MainWindow::set_night(bool night) {
  Theme::instance().apply(night);
  update();
}

void MainWindow::closeEvent(QCloseEvent* event) {
  if (!files_->may_let_go()) return event->ignore();
  workspace_.model().throw_away_copy();  // saved, or somebody chose
  workspace_.cancel();
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
  if (const QStringList files = dropped_files(*event); !files.isEmpty()) take_files(files);
}

}  // namespace heathmist::app
