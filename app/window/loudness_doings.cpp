// What the window does with loudness and outlets: their pages, albums, levelled copies.
#include <QInputDialog>
#include <QMessageBox>

#include "app/theme/theme.hpp"
#include "app/widgets/saving.hpp"
#include "app/window/copies_form.hpp"
#include "app/window/main_window.hpp"

namespace heathmist::app {

void MainWindow::make_loudness_actions() {
  add(tr("Loudness of all masters and returns"), {QKeySequence("F3")}, [this] { show_view(loudness_page); });
  add(tr("What the outlets make of the masters"), {QKeySequence("F4")}, [this] { show_view(outlets_page); });
  add(tr("Hear the two chosen clips of the loudness table against each other"), {QKeySequence("Ctrl+H")},
      [this] { hear_chosen(); });
  add(tr("Write levelled copies…"), {QKeySequence("Ctrl+Shift+L")}, [this] { ask_for_copies(); });
  for (const auto& [name, by] : {std::pair{tr("Match by integrated loudness"), MatchBy::integrated},
                                 {tr("Match by short-term loudness"), MatchBy::short_term},
                                 {tr("Match by peak"), MatchBy::peak}})
    add(name, {}, [this, by = by] { listening_->match_by(by); });
  add(tr("Begin the meters anew"), {QKeySequence("R")}, [this] { player_.reset_meters(); });
  add(tr("Put this master into an album…"), {}, [this] { choose_album(); });
  add(tr("Move this master up"), {QKeySequence("Ctrl+Shift+Up")}, [this] { desk_.move_master(-1); });
  add(tr("Move this master down"), {QKeySequence("Ctrl+Shift+Down")}, [this] { desk_.move_master(1); });
}

void MainWindow::connect_loudness() {
  connect(loudness_, &LoudnessView::opened, this, [this](const QString& id) {
    show_view(null_page);
    desk_.look_at(id.toStdString());
    ledger_->select(id.toStdString());
  });
  connect(loudness_, &LoudnessView::copies_wanted, this, &MainWindow::ask_for_copies);
  connect(&copying_, &Task::progressed, this, [this](double fraction) {
    const auto left = copying_.left_s(fraction);
    if (copies_progress_) {
      copies_progress_->setValue(int(1000 * fraction));
      if (left) copies_progress_->setLabelText(tr("Writing and checking copies, about %1 left").arg(clock(*left, 0)));
    }
  });
  connect(&copying_, &Task::ended, this, [this](bool whole, const QString& failure) {
    if (copies_progress_) copies_progress_->deleteLater();
    copies_progress_ = nullptr;
    const QString report = copies_report_;
    if (!failure.isEmpty()) notice_->say(tr("The copies were not all written. %1").arg(failure));
    emit copies_written(whole, report);
    if (whole && isVisible() && !report.isEmpty() && !quiet_)
      QMessageBox::information(this, tr("Levelled copies"), report);
  });
}

/// Two rows as master and return, so that they are switched at equal loudness.
void MainWindow::hear_chosen() {
  const auto ids = loudness_->chosen();
  if (ids.size() != 2) return;
  const LoudnessRow *first = board_.row(ids[0]), *second = board_.row(ids[1]);
  if (!first || !second) return;
  if (!first->is_master && second->is_master) std::swap(first, second);
  const Master* own = desk_.bench().master_of(second->id);
  show_view(null_page);
  if (own && own->id == first->id) return desk_.look_at(second->id);  // they are a trial already
  if (second->chain && !second->is_master) {
    const std::string master = desk_.master_of_file(first->name, first->file);
    return desk_.look_through(master, *second->chain);
  }
  desk_.look_at_pair(desk_.master_of_file(first->name, first->file), second->name, second->file);
}

/// The chosen masters of the loudness table; all of the bench where none is.
std::vector<std::string> MainWindow::masters_for_copies() const {
  std::vector<std::string> ids;
  for (const std::string& id : loudness_->chosen())
    if (desk_.bench().master(id)) ids.push_back(id);
  if (ids.empty())
    for (const Master& m : desk_.bench().masters) ids.push_back(m.id);
  return ids;
}

void MainWindow::ask_for_copies() {
  const auto ids = masters_for_copies();
  if (ids.empty()) return;
  CopiesForm form(loudness_->target()->value(), int(ids.size()), this);
  if (form.exec() != QDialog::Accepted) return;
  const int there = copies_there(form.plan(), form.folder());
  if (there > 0 && QMessageBox::question(this, tr("Replace copies?"),
                                         tr("%1 of these files %2 there already. Shall %3 be replaced?")
                                             .arg(there)
                                             .arg(there == 1 ? tr("is") : tr("are"),
                                                  there == 1 ? tr("it") : tr("they"))) != QMessageBox::Yes)
    return;
  write_copies(form.plan(), form.as_album(), form.folder(), there > 0);
}

std::vector<std::filesystem::path> MainWindow::names_of_copies(const LevelPlan& plan, const QString& folder) const {
  std::vector<std::filesystem::path> files;
  for (const std::string& id : masters_for_copies())
    if (const Master* m = desk_.bench().master(id)) files.push_back(m->audio.file);
  return copy_names(files, folder.toStdString(), plan.flac);
}

int MainWindow::copies_there(const LevelPlan& plan, const QString& folder) const {
  const auto names = names_of_copies(plan, folder);
  return int(std::count_if(names.begin(), names.end(), [](const auto& name) { return std::filesystem::exists(name); }));
}

void MainWindow::write_copies(const LevelPlan& plan, bool as_album, const QString& folder, bool replace) {
  struct Order {
    std::string name;
    std::filesystem::path file;
    Destination to;
  };
  std::vector<Order> orders;
  const auto names = names_of_copies(plan, folder);
  for (const std::string& id : masters_for_copies())
    if (const Master* m = desk_.bench().master(id))
      orders.push_back({m->name, m->audio.file, {names[orders.size()], replace, files_in_use()}});
  copies_report_.clear();
  if (!quiet_) {
    copies_progress_ = new QProgressDialog(tr("Writing and checking copies"), tr("Cancel"), 0, 1000, this);
    copies_progress_->setMinimumDuration(400);
    copies_progress_->setAutoClose(false);
    connect(copies_progress_, &QProgressDialog::canceled, this, [this] { copying_.cancel(); });
  }
  copying_.start([this, orders, plan, as_album](const Job& job) {
    for (const Order& order : orders) check(order.to);  // refused before anything is written
    std::vector<Measured> measured;
    std::vector<const Loudness*> album;
    for (size_t n = 0; n < orders.size(); ++n)
      measured.push_back(measure_file(orders[n].file, job.part(0.3 * double(n) / double(orders.size()),
                                                               0.3 * double(n + 1) / double(orders.size()))));
    if (as_album)
      for (const Measured& m : measured) album.push_back(&m.loudness);
    QStringList words;
    for (size_t n = 0; n < orders.size(); ++n) {
      const auto made = write_levelled(
          Clip::open(orders[n].file, Job{job.stop, {}, 0}), measured[n].loudness, plan, orders[n].to, album,
          job.part(0.3 + 0.7 * double(n) / double(orders.size()), 0.3 + 0.7 * double(n + 1) / double(orders.size())));
      const auto& l = made.loudness;
      words << tr("%1: %2 dB, now %3 LUFS, %4 dBTP; %5")
                   .arg(QString::fromStdString(orders[n].name), (made.gain_db > 0 ? "+" : "") + number(made.gain_db, 2),
                        l.integrated_lufs ? number(*l.integrated_lufs, 2) : tr("silent"),
                        l.true_peak_dbtp ? number(*l.true_peak_dbtp, 2) : QString(QChar(0x2013)),
                        !made.fault.empty() ? tr("WRONG: %1").arg(QString::fromStdString(made.fault))
                        : made.stopped      ? tr("stopped by the ceiling, read back and right")
                                            : tr("read back and right"));
    }
    QMetaObject::invokeMethod(
        this, [this, text = words.join('\n')] { copies_report_ = text; }, Qt::QueuedConnection);
  });
}

void MainWindow::choose_album() {
  const std::string id = desk_.current_master();
  const Master* master = desk_.bench().master(id);
  if (!master) return;
  bool good = false;
  const QString name = QInputDialog::getText(this, tr("Album"),
                                             tr("Album of %1 (empty: none)").arg(QString::fromStdString(master->name)),
                                             QLineEdit::Normal, QString::fromStdString(master->album), &good);
  if (good) desk_.set_album(id, name.trimmed().toStdString());
}

void MainWindow::refresh_loudness() {
  const int page = views_->currentIndex();
  if (page != loudness_page && page != outlets_page) return;
  board_.set_bench(desk_.bench());
  board_.run();
  if (page == outlets_page) outlets_->show_bench(desk_.bench());
}

}  // namespace heathmist::app
