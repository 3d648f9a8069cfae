#include "app/shell/bench_files.hpp"

#include <QFileDialog>
#include <QFileInfo>
#include <QMessageBox>
#include <QSettings>

#include "app/shell/recovery.hpp"
#include "app/widgets/saving.hpp"

namespace heathmist::app {

namespace {

constexpr int most_recent = 8;

}  // namespace

BenchFiles::BenchFiles(Workspace& workspace, QWidget* window)
    : QObject(window), workspace_(workspace), window_(window) {}

void BenchFiles::start_anew() {
  if (!may_let_go()) return;
  workspace_.results().forget_all();
  workspace_.model().start_anew();
  emit begun_anew();
}

void BenchFiles::open(const QString& file) {
  if (!may_let_go()) return;
  try {
    QStringList notes;
    for (const QString& note : workspace_.open(file)) notes << tr("%1: %2").arg(title_of(file), note);
    emit opened(notes);
    remember(file);
  } catch (const std::exception& error) {
    QMessageBox::warning(window_, tr("The bench was not opened"), QString::fromUtf8(error.what()));
  }
}

void BenchFiles::choose() {
  const QString file = QFileDialog::getOpenFileName(window_, tr("Open bench"), {}, tr("Benches (*.heathmist)"));
  if (!file.isEmpty()) open(file);
}

bool BenchFiles::save_to(const QString& file) {
  emit about_to_save();
  try {
    workspace_.model().save(file);
    remember(file);
    return true;
  } catch (const std::exception& error) {
    QMessageBox::warning(window_, tr("The bench was not saved"), QString::fromUtf8(error.what()));
    return false;
  }
}

bool BenchFiles::save(bool elsewhere) {
  QString file = workspace_.model().file();
  if (elsewhere || file.isEmpty()) {
    const auto to = ask_where(window_, {tr("Save bench"), file.isEmpty() ? "bench.heathmist" : file,
                                        tr("Benches (*.heathmist)"), "heathmist"});
    if (!to) return false;
    file = QString::fromStdString(to->file.string());
  }
  return save_to(file);
}

bool BenchFiles::may_let_go() {
  if (workspace_.model().undo_stack().isClean()) return true;
  const auto answer =
      QMessageBox::question(window_, tr("Keep the changes?"), tr("The bench has changes that are not saved."),
                            QMessageBox::Save | QMessageBox::Discard | QMessageBox::Cancel);
  if (answer == QMessageBox::Discard) workspace_.model().throw_away_copy();
  return answer == QMessageBox::Discard || (answer == QMessageBox::Save && save(false));
}

void BenchFiles::offer_recovery() {
  if (!offer_unsaved(window_, workspace_.model(), [this] { return may_let_go(); })) return;
  emit opened({});
  for (const Master& m : workspace_.bench().masters)
    if (!m.trials.empty()) return workspace_.look_at(m.trials.front().id);
}

QStringList BenchFiles::recent() { return QSettings().value("recent").toStringList(); }

void BenchFiles::fill_recent(QMenu* menu) {
  menu->clear();
  for (const QString& file : recent())
    menu->addAction(title_of(file) + "    " + QFileInfo(file).path(), this, [this, file] { open(file); });
  if (menu->isEmpty()) menu->addAction(tr("None yet"))->setEnabled(false);
}

void BenchFiles::remember(const QString& file) {
  QStringList files = recent();
  const QString absolute = QFileInfo(file).absoluteFilePath();
  files.removeAll(absolute);
  files.prepend(absolute);
  QSettings().setValue("recent", files.mid(0, most_recent));
}

}  // namespace heathmist::app
