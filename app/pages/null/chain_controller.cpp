#include "app/pages/null/chain_controller.hpp"

#include <QFileDialog>
#include <QInputDialog>
#include <QMessageBox>

#include "app/pages/null/arm_dialog.hpp"
#include "app/widgets/saving.hpp"
#include "core/audio/write.hpp"
#include "core/bench/armed.hpp"

namespace heathmist::app {

namespace {

const char* const chain_filter = "Chains (*.json)";

Chain first_chain() { return {"", {{"codec", {{"codec", "aac"}, {"bit_rate_kbps", 128}}}}, 1}; }

}  // namespace

ChainController::ChainController(PageContext& context, NullView* view)
    : QObject(view),
      context_(context),
      workspace_(context.workspace),
      view_(view),
      writing_(context.workspace.queue(), context.window, nullptr) {
  ChainStrip* strip = view_->chain_strip();
  connect(strip, &ChainStrip::changed, this,
          [this](const Chain& chain, const QString& what) { workspace_.set_chain(chain, what); });
  connect(strip, &ChainStrip::commanded, this, &ChainController::take);
  connect(strip, &ChainStrip::rename_wanted, this, &ChainController::rename_kept);
  connect(strip, &ChainStrip::drop_wanted, &workspace_, &Workspace::drop_kept_chain);
  connect(strip, &ChainStrip::arm_wanted, this, [this](const Stage& stage) {
    if (ArmDialog(stage, context_.window).exec() == QDialog::Accepted) arm_stage(stage);
  });
  for (const auto signal : {&Workspace::trial_failed, &Workspace::measuring, &Workspace::master_selected})
    connect(&workspace_, signal, this, &ChainController::refresh);
  connect(&workspace_, &Workspace::trial_ready, this, &ChainController::refresh);
  connect(&workspace_, &Workspace::nothing_selected, this, &ChainController::refresh);
  connect(&workspace_.model(), &BenchModel::changed, this, &ChainController::refresh);
  connect(&writing_, &Writing::ended, this, &ChainController::end_writing);
}

std::vector<Command> ChainController::commands() {
  const auto chained = [this] { return workspace_.current_chain().has_value(); };
  const auto mastered = [this] { return !workspace_.current_master().empty(); };
  return {
      {tr("Make a return with a chain"),
       MenuKind::make,
       [this] {
         context_.show("null");
         workspace_.make_return(first_chain());
       },
       {QKeySequence("Ctrl+R")},
       mastered},
      {tr("Run this chain on every master"),
       MenuKind::make,
       [this] { take(ChainStrip::Command::run_on_all); },
       {},
       chained},
      {tr("Compare generations of this chain"),
       MenuKind::make,
       [this] { take(ChainStrip::Command::generations); },
       {},
       chained},
      {tr("Keep this chain on the bench…"), MenuKind::make, [this] { keep(); }, {}, chained},
      {tr("Read a chain from JSON…"), MenuKind::make, [this] { read(); }, {}, mastered},
      {tr("Write this chain as JSON…"), MenuKind::make, [this] { write(); }, {}, chained},
      {tr("Write this return as a file…"),
       MenuKind::make,
       [this] { write_return(); },
       {},
       [this] { return can_write_return(); }},
      {tr("Go to the chain"),
       MenuKind::view,
       [this] {
         context_.show("null");
         view_->chain_strip()->setFocus();
         if (auto* stage = view_->chain_strip()->findChild<QToolButton*>("stage")) stage->setFocus();
       },
       {QKeySequence("F5")},
       chained},
  };
}

void ChainController::arm_stage(const Stage& stage) {
  try {
    arm(stage);
  } catch (const std::exception& error) {
    return context_.say(tr("It could not be armed: %1").arg(QString::fromUtf8(error.what())));
  }
  view_->chain_strip()->refresh_arms();
  workspace_.retry_failed();
  context_.loudness.retry_failed();
}

void ChainController::refresh() {
  view_->show_chain(workspace_.current_chain());
  view_->chain_strip()->set_kept(workspace_.bench().chains);
}

void ChainController::take(ChainStrip::Command command) {
  const auto chain = workspace_.current_chain();
  if (!chain) return;
  switch (command) {
    case ChainStrip::Command::keep:
      return keep();
    case ChainStrip::Command::run_on_all:
      workspace_.run_on_all(*chain);
      return context_.show("trials");
    case ChainStrip::Command::generations:
      workspace_.compare_generations();
      return context_.show("trials");
    case ChainStrip::Command::read:
      return read();
    case ChainStrip::Command::write:
      return write();
    case ChainStrip::Command::write_return:
      return write_return();
  }
}

void ChainController::keep() {
  auto chain = workspace_.current_chain();
  if (!chain) return;
  bool good = false;
  const QString name = QInputDialog::getText(context_.window, tr("Keep this chain"), tr("Name"), QLineEdit::Normal,
                                             QString::fromStdString(label_of(*chain)), &good);
  if (!good || name.trimmed().isEmpty()) return;
  chain->name = name.trimmed().toStdString();
  workspace_.keep_chain(*chain);
}

void ChainController::rename_kept(const Chain& kept) {
  bool good = false;
  const QString name = QInputDialog::getText(context_.window, tr("Rename a kept chain"), tr("Name"), QLineEdit::Normal,
                                             QString::fromStdString(title_of(kept)), &good)
                           .trimmed();
  if (!good || name.isEmpty() || workspace_.rename_kept_chain(kept, name.toStdString())) return;
  QMessageBox::warning(context_.window, tr("Rename a kept chain"),
                       tr("Another kept chain is called %1; choose a name of its own.").arg(name));
}

void ChainController::read() {
  const QString file = QFileDialog::getOpenFileName(context_.window, tr("Read a chain"), {}, chain_filter);
  if (file.isEmpty()) return;
  try {
    Chain chain = load_chain(file.toStdString());
    if (!workspace_.current_chain()) return workspace_.make_return(chain);
    chain.name.clear();
    workspace_.set_chain(chain, tr("Read a chain"));
  } catch (const InputError& error) {
    QMessageBox::warning(context_.window, tr("The chain was not read"), QString::fromUtf8(error.what()));
  }
}

void ChainController::write() {
  const auto chain = workspace_.current_chain();
  if (!chain) return;
  save_as(context_.window, {tr("Write this chain"), "chain.json", chain_filter, "json"},
          [&](const Destination& to) { write_whole(to, text_of(chain_json(*chain, to.file.parent_path())) + "\n"); });
}

bool ChainController::can_write_return() const {
  const auto result = workspace_.current_result();
  const auto chain = workspace_.current_chain();
  return result && chain && result->spec.chain == chain;
}

void ChainController::write_return() {
  if (!can_write_return()) return;
  if (writing_.is_running()) return context_.say(tr("A return is being written; wait for it, or cancel it."));
  if (const auto to =
          ask_where(context_.window, {tr("Write the return"), "return.wav", tr("Audio (*.wav *.flac)"), "wav"}))
    write_return_to(*to);
}

void ChainController::write_return_to(const Destination& to) {
  if (!can_write_return() || writing_.is_running()) return;
  const auto result = workspace_.current_result();
  writing_.start(tr("Writing the return"), context_.quiet,
                 [passed = Passed{result->ret, result->stages}, chain = *result->spec.chain, to](
                     const Job& job, const Tell&) { heathmist::write_return(passed, chain, to, job); });
}

void ChainController::end_writing(Outcome outcome, const QString& failure) {
  if (!failure.isEmpty())
    context_.say(failure);
  else if (outcome != Outcome::done)
    context_.say(tr("The return was not written: it was cancelled."));
  emit return_written(outcome == Outcome::done);
}

}  // namespace heathmist::app
