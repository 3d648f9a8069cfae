// What the window does with chains: their actions, the wishes of the chain strip, the matrix's and the ceiling's ways
// to a trial.
#include <QFileDialog>
#include <QInputDialog>
#include <QMessageBox>
#include <QStandardPaths>
#include <algorithm>

#include "app/theme/theme.hpp"
#include "app/widgets/saving.hpp"
#include "app/window/arm_dialog.hpp"
#include "app/window/main_window.hpp"
#include "core/audio/write.hpp"
#include "core/bench/armed.hpp"

namespace heathmist::app {

namespace {

const char* const chain_filter = "Chains (*.json)";

Chain first_chain() { return {"", {{"codec", {{"codec", "aac"}, {"bit_rate_kbps", 128}}}}, 1}; }

/// Chains whose return can come back higher than it went in: those with a lossy codec.
std::vector<Chain> for_ceiling(const Bench& bench) {
  const auto& known = bench.chains.empty() ? common_settings() : bench.chains;
  std::vector<Chain> found;
  std::copy_if(known.begin(), known.end(), std::back_inserter(found), [](const Chain& chain) {
    return std::any_of(chain.stages.begin(), chain.stages.end(),
                       [](const Stage& s) { return s.on && s.type == "codec"; });
  });
  return found;
}

constexpr int probe_rate_hz = 44100;

/// Where a probe signal lies once it has been written: among the user's own data.
std::filesystem::path probe_file(const ProbeSignal& signal) {
  const auto folder = QStandardPaths::writableLocation(QStandardPaths::AppDataLocation) + "/probes";
  return std::filesystem::path(folder.toStdString()) / (signal.key + "-44100.wav");
}

void write_probe(const ProbeSignal& signal, const std::filesystem::path& file) {
  std::error_code ignored;
  std::filesystem::create_directories(file.parent_path(), ignored);
  const Planar sound = render(signal, probe_rate_hz, 8);
  ClipWriter out({file, true}, probe_rate_hz, sound.channels(), WordFormat::float64);
  out.write(sound);
  out.finish();
}

}  // namespace

void MainWindow::make_chain_actions() {
  add(tr("Make a return with a chain"), {QKeySequence("Ctrl+R")}, [this] {
    if (desk_.current_master().empty()) return;
    show_view(null_page);
    desk_.make_return(first_chain());
  });
  add(tr("Run this chain on every master"), {}, [this] { take_wish(ChainStrip::Wish::run_on_all); });
  add(tr("Compare generations of this chain"), {}, [this] { take_wish(ChainStrip::Wish::generations); });
  add(tr("Keep this chain on the bench…"), {}, [this] { keep_chain(); });
  add(tr("Read a chain from JSON…"), {}, [this] { read_chain(); });
  add(tr("Go to the chain"), {QKeySequence("F5")}, [this] {
    show_view(null_page);
    view_->chain_strip()->setFocus();
    if (auto* stage = view_->chain_strip()->findChild<QToolButton*>("stage")) stage->setFocus();
  });
  add(tr("Masters and probes by settings"), {QKeySequence("F10")}, [this] { show_view(matrix_page); });
  add(tr("Search the ceiling of this master"), {QKeySequence("F11")}, [this] { show_view(ceiling_page); });
}

void MainWindow::connect_chains() {
  ChainStrip* strip = view_->chain_strip();
  connect(strip, &ChainStrip::changed, this,
          [this](const Chain& chain, const QString& what) { desk_.set_chain(chain, what); });
  connect(strip, &ChainStrip::wished, this, &MainWindow::take_wish);
  connect(strip, &ChainStrip::rename_wished, this, &MainWindow::rename_kept_chain);
  connect(strip, &ChainStrip::drop_wished, &desk_, &Desk::drop_kept_chain);
  connect(&desk_, &Desk::trial_ready, this, &MainWindow::refresh_chain);
  connect(&desk_, &Desk::trial_failed, this, &MainWindow::refresh_chain);
  connect(&desk_, &Desk::measuring, this, &MainWindow::refresh_chain);
  connect(&desk_, &Desk::nothing_selected, this, &MainWindow::refresh_chain);
  connect(&desk_, &Desk::master_selected, this, &MainWindow::refresh_chain);
  connect(&desk_.model(), &BenchModel::changed, this, &MainWindow::refresh_chain);
  connect(matrix_, &MatrixView::opened, this, &MainWindow::open_cell);
  connect(ceiling_, &CeilingView::opened, this, [this](const Chain& chain, double at_s) {
    const std::string owner = desk_.current_master();
    show_view(null_page);
    desk_.look_through(owner, chain);
    if (at_s < 0) return;
    auto jump = [this, at_s] {
      view_->show_spot(at_s);
      player_.seek(at_s);
    };
    if (desk_.current_result())
      QTimer::singleShot(0, this, jump);
    else
      connect(&desk_, &Desk::trial_ready, this, jump,
              Qt::ConnectionType(Qt::SingleShotConnection | Qt::QueuedConnection));
  });
  connect(strip, &ChainStrip::arm_wished, this, [this](const Stage& stage) {
    if (ArmDialog(stage, this).exec() == QDialog::Accepted) arm_stage(stage);
  });
  connect(&exporting_, &Task::progressed, this, [this](double fraction) {
    if (export_progress_) export_progress_->setValue(int(1000 * fraction));
  });
  connect(&exporting_, &Task::ended, this, [this](bool whole, const QString& failure) {
    if (export_progress_) export_progress_->deleteLater();
    export_progress_ = nullptr;
    if (!failure.isEmpty())
      notice_->say(failure);
    else if (!whole)
      notice_->say(tr("The return was not written: it was cancelled."));
    emit return_written(whole);
  });
  connect(&probe_writing_, &Task::ended, this, [this](bool whole, const QString& failure) {
    const auto then = std::exchange(after_probe_, {});
    if (!failure.isEmpty()) notice_->say(failure);
    if (whole && then) then();
  });
}

void MainWindow::arm_stage(const Stage& stage) {
  try {
    arm(stage);
  } catch (const std::exception& error) {
    return notice_->say(tr("It could not be armed: %1").arg(QString::fromUtf8(error.what())));
  }
  view_->chain_strip()->refresh_arms();
  desk_.retry_failed();
  board_.retry_failed();
  refresh_loudness();
}

void MainWindow::refresh_chain() {
  view_->show_chain(desk_.current_chain());
  view_->chain_strip()->set_kept(desk_.model().bench().chains);
}

void MainWindow::refresh_subjects() {
  const Bench& bench = desk_.model().bench();
  if (views_->currentIndex() == matrix_page) matrix_->show_bench(bench);
  if (views_->currentIndex() != ceiling_page) return;
  const Master* master = bench.master(desk_.current_master());
  if (!master && !bench.masters.empty()) master = &bench.masters.front();
  ceiling_->set_subject(master ? QString::fromStdString(master->name) : QString(),
                        master ? master->audio.file : std::filesystem::path(), for_ceiling(bench));
}

void MainWindow::take_wish(ChainStrip::Wish wish) {
  const auto chain = desk_.current_chain();
  if (!chain) return;
  switch (wish) {
    case ChainStrip::Wish::keep:
      return keep_chain();
    case ChainStrip::Wish::run_on_all:
      desk_.run_on_all(*chain);
      return show_view(trials_page);
    case ChainStrip::Wish::generations:
      desk_.compare_generations();
      return show_view(trials_page);
    case ChainStrip::Wish::read:
      return read_chain();
    case ChainStrip::Wish::write:
      return write_chain();
    case ChainStrip::Wish::write_return:
      return write_return();
  }
}

void MainWindow::keep_chain() {
  auto chain = desk_.current_chain();
  if (!chain) return;
  bool good = false;
  const QString name = QInputDialog::getText(this, tr("Keep this chain"), tr("Name"), QLineEdit::Normal,
                                             QString::fromStdString(words_of(*chain)), &good);
  if (!good || name.trimmed().isEmpty()) return;
  chain->name = name.trimmed().toStdString();
  desk_.keep_chain(*chain);
}

void MainWindow::rename_kept_chain(const Chain& kept) {
  bool good = false;
  const QString name = QInputDialog::getText(this, tr("Rename a kept chain"), tr("Name"), QLineEdit::Normal,
                                             QString::fromStdString(title_of(kept)), &good)
                           .trimmed();
  if (!good || name.isEmpty() || desk_.rename_kept_chain(kept, name.toStdString())) return;
  QMessageBox::warning(this, tr("Rename a kept chain"),
                       tr("Another kept chain is called %1; choose a name of its own.").arg(name));
}

void MainWindow::read_chain() {
  const QString file = QFileDialog::getOpenFileName(this, tr("Read a chain"), {}, chain_filter);
  if (file.isEmpty()) return;
  try {
    Chain chain = load_chain(file.toStdString());
    if (!desk_.current_chain()) return desk_.make_return(chain);
    chain.name.clear();
    desk_.set_chain(chain, tr("Read a chain"));
  } catch (const InputError& error) {
    QMessageBox::warning(this, tr("The chain was not read"), QString::fromUtf8(error.what()));
  }
}

void MainWindow::write_chain() {
  const auto chain = desk_.current_chain();
  if (!chain) return;
  save_as(this, {tr("Write this chain"), "chain.json", chain_filter, "json"},
          [&](const Destination& to) { write_whole(to, text_of(chain_json(*chain, to.file.parent_path())) + "\n"); });
}

void MainWindow::write_return() {
  const auto result = desk_.current_result();
  const auto chain = desk_.current_chain();
  if (!result || !chain || result->spec.chain != chain) return;
  if (exporting_.is_running()) return notice_->say(tr("A return is being written; wait for it, or cancel it."));
  if (const auto to = ask_where(this, {tr("Write the return"), "return.wav", tr("Audio (*.wav *.flac)"), "wav"}))
    write_return_to(*to);
}

void MainWindow::write_return_to(const Destination& to) {
  const auto result = desk_.current_result();
  const auto chain = desk_.current_chain();
  if (!result || !chain || result->spec.chain != chain || exporting_.is_running()) return;
  export_progress_ = new QProgressDialog(tr("Writing the return"), tr("Cancel"), 0, 1000, this);
  export_progress_->setMinimumDuration(quiet_ ? 1 << 30 : 400);
  export_progress_->setAutoClose(false);
  connect(export_progress_, &QProgressDialog::canceled, this, [this] { exporting_.cancel(); });
  exporting_.start([passed = Passed{result->ret, result->stages}, chain = *chain, to](const Job& job) {
    heathmist::write_return(passed, chain, to, job);
  });
}

void MainWindow::open_cell(const MatrixRow& row, const Chain& chain) {
  const ProbeSignal* signal = row.file.empty() ? probe_signal(row.probe) : nullptr;
  const auto file = signal ? probe_file(*signal) : row.file;
  auto open = [this, name = QString::fromStdString(row.name), file, chain] {
    show_view(null_page);
    desk_.look_through(desk_.master_of_file(name, file), chain);
  };
  if (!signal || std::filesystem::exists(file)) return open();
  after_probe_ = open;
  probe_writing_.start([signal = *signal, file](const Job&) { write_probe(signal, file); });
}

}  // namespace heathmist::app
