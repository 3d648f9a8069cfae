#include "app/pages/loudness/loudness_controller.hpp"

#include <QInputDialog>
#include <QMessageBox>

#include "app/pages/loudness/copies_form.hpp"
#include "app/theme/theme.hpp"
#include "app/widgets/saving.hpp"

namespace heathmist::app {

LoudnessController::LoudnessController(PageContext& context, LoudnessView* view)
    : QObject(view),
      context_(context),
      workspace_(context.workspace),
      view_(view),
      copying_(context.workspace.queue(), context.window, nullptr) {
  connect(view, &LoudnessView::opened, this, [this](const QString& id) {
    context_.show("null");
    workspace_.look_at(id.toStdString());
  });
  connect(view, &LoudnessView::copies_wanted, this, &LoudnessController::ask_for_copies);
  connect(&copying_, &Writing::ended, this, &LoudnessController::end_copying);
}

std::vector<Command> LoudnessController::commands() {
  const auto any = [this] { return !workspace_.bench().masters.empty(); };
  const auto mastered = [this] { return !workspace_.current_master().empty(); };
  return {
      {tr("Hear the two chosen clips of the loudness table against each other"),
       MenuKind::listen,
       [this] { hear_chosen(); },
       {QKeySequence("Ctrl+H")},
       [this] { return view_->chosen().size() == 2; }},
      {tr("Write levelled copies…"), MenuKind::make, [this] { ask_for_copies(); }, {QKeySequence("Ctrl+Shift+L")}, any},
      {tr("Put this master into an album…"), MenuKind::edit, [this] { choose_album(); }, {}, mastered},
      {tr("Move this master up"),
       MenuKind::edit,
       [this] { workspace_.move_master(-1); },
       {QKeySequence("Ctrl+Shift+Up")},
       mastered},
      {tr("Move this master down"),
       MenuKind::edit,
       [this] { workspace_.move_master(1); },
       {QKeySequence("Ctrl+Shift+Down")},
       mastered}};
}

void LoudnessController::end_copying(Outcome outcome, const QString& failure) {
  const bool whole = outcome == Outcome::done;
  const QString report = report_;
  if (!failure.isEmpty()) context_.say(tr("The copies were not all written. %1").arg(failure));
  emit copies_written(whole, report);
  if (whole && context_.window->isVisible() && !report.isEmpty() && !context_.quiet)
    QMessageBox::information(context_.window, tr("Levelled copies"), report);
}

/// Two rows as master and return, so that they are switched at equal loudness.
void LoudnessController::hear_chosen() {
  const auto ids = view_->chosen();
  if (ids.size() != 2) return;
  const LoudnessRow *first = context_.loudness.row(ids[0]), *second = context_.loudness.row(ids[1]);
  if (!first || !second) return;
  if (!first->is_master && second->is_master) std::swap(first, second);
  const Master* own = workspace_.bench().master_of(second->id);
  context_.show("null");
  if (own && own->id == first->id) return workspace_.look_at(second->id);  // they are a trial already
  if (second->chain && !second->is_master) {
    const std::string master = workspace_.master_of_file(first->name, first->file);
    return workspace_.look_through(master, *second->chain);
  }
  workspace_.look_at_pair(workspace_.master_of_file(first->name, first->file), second->name, second->file);
}

/// The chosen masters of the loudness table; all of the bench where none is.
std::vector<std::string> LoudnessController::masters_for_copies() const {
  std::vector<std::string> ids;
  for (const std::string& id : view_->chosen())
    if (workspace_.bench().master(id)) ids.push_back(id);
  if (ids.empty())
    for (const Master& m : workspace_.bench().masters) ids.push_back(m.id);
  return ids;
}

void LoudnessController::ask_for_copies() {
  const auto ids = masters_for_copies();
  if (ids.empty()) return;
  CopiesForm form(view_->target()->value(), int(ids.size()), context_.window);
  if (form.exec() != QDialog::Accepted) return;
  const int there = copies_there(form.plan(), form.folder());
  if (there > 0 && QMessageBox::question(context_.window, tr("Replace copies?"),
                                         tr("%1 of these files %2 there already. Shall %3 be replaced?")
                                             .arg(there)
                                             .arg(there == 1 ? tr("is") : tr("are"),
                                                  there == 1 ? tr("it") : tr("they"))) != QMessageBox::Yes)
    return;
  write_copies(form.plan(), form.as_album(), form.folder(), there > 0);
}

std::vector<std::filesystem::path> LoudnessController::names_of_copies(const LevelPlan& plan,
                                                                       const QString& folder) const {
  std::vector<std::filesystem::path> files;
  for (const std::string& id : masters_for_copies())
    if (const Master* m = workspace_.bench().master(id)) files.push_back(m->audio.file);
  return copy_names(files, folder.toStdString(), plan.flac);
}

int LoudnessController::copies_there(const LevelPlan& plan, const QString& folder) const {
  const auto names = names_of_copies(plan, folder);
  return int(std::count_if(names.begin(), names.end(), [](const auto& name) { return std::filesystem::exists(name); }));
}

void LoudnessController::write_copies(const LevelPlan& plan, bool as_album, const QString& folder, bool replace) {
  std::vector<Order> orders;
  const auto names = names_of_copies(plan, folder);
  for (const std::string& id : masters_for_copies())
    if (const Master* m = workspace_.bench().master(id))
      orders.push_back({m->name, m->audio.file, {names[orders.size()], replace, files_in_use()}});
  report_.clear();
  copying_.start(tr("Writing and checking copies"), context_.quiet,
                 [this, orders, plan, as_album](const Job& job, const Tell& tell) {
                   tell([this, words = write_orders(orders, plan, as_album, job)] { report_ = words; });
                 });
}

/// A line on each copy. Throws what keeps one from being written.
QString LoudnessController::write_orders(const std::vector<Order>& orders, const LevelPlan& plan, bool as_album,
                                         const Job& job) {
  for (const Order& order : orders) check(order.to);  // refused before anything is written
  const auto part = [&](double from, double share, size_t n) {
    return job.part(from + share * double(n) / double(orders.size()),
                    from + share * double(n + 1) / double(orders.size()));
  };
  std::vector<Measured> measured;
  std::vector<const Loudness*> album;
  for (size_t n = 0; n < orders.size(); ++n) measured.push_back(measure_file(orders[n].file, part(0, 0.3, n)));
  if (as_album)
    for (const Measured& m : measured) album.push_back(&m.loudness);
  QStringList words;
  for (size_t n = 0; n < orders.size(); ++n) {
    const auto made = write_levelled(Clip::open(orders[n].file, Job{job.stop, {}, 0}), measured[n].loudness, plan,
                                     orders[n].to, album, part(0.3, 0.7, n));
    const auto& l = made.loudness;
    words << tr("%1: %2 dB, now %3 LUFS, %4 dBTP; %5")
                 .arg(QString::fromStdString(orders[n].name), (made.gain_db > 0 ? "+" : "") + number(made.gain_db, 2),
                      l.integrated_lufs ? number(*l.integrated_lufs, 2) : tr("silent"),
                      l.true_peak_dbtp ? number(*l.true_peak_dbtp, 2) : QString(QChar(0x2013)),
                      !made.fault.empty() ? tr("WRONG: %1").arg(QString::fromStdString(made.fault))
                      : made.stopped      ? tr("stopped by the ceiling, read back and right")
                                          : tr("read back and right"));
  }
  return words.join('\n');
}

void LoudnessController::choose_album() {
  const std::string id = workspace_.current_master();
  const Master* master = workspace_.bench().master(id);
  if (!master) return;
  bool good = false;
  const QString name = QInputDialog::getText(context_.window, tr("Album"),
                                             tr("Album of %1 (empty: none)").arg(QString::fromStdString(master->name)),
                                             QLineEdit::Normal, QString::fromStdString(master->album), &good);
  if (good) workspace_.set_album(id, name.trimmed().toStdString());
}

}  // namespace heathmist::app
