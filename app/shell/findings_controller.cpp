#include "app/shell/findings_controller.hpp"

#include <QInputDialog>
#include <QSettings>

#include "core/bench/put_aside.hpp"

namespace heathmist::app {

static const char* const technical_key = "findings/technical";

FindingsController::FindingsController(PageContext& context, FindingsPanel* panel, QObject* parent)
    : QObject(parent), context_(context), workspace_(context.workspace), panel_(panel) {
  is_technical_ = QSettings().value(technical_key, false).toBool();
  panel_->show_technical(is_technical_);
  const auto narrow = [this] { panel_->narrow(workspace_.selection(), workspace_.band()); };
  connect(&workspace_, &Workspace::selection_changed, this, narrow);
  connect(&workspace_, &Workspace::band_changed, this, narrow);
  connect(&workspace_, &Workspace::explaining, panel_, &FindingsPanel::show_explaining);
  connect(&workspace_.model(), &BenchModel::changed, this, [this] {
    const auto findings = workspace_.current_findings();
    if (!findings.empty() && reasons_of(findings) != shown_) refresh();
  });
  connect(panel_, &FindingsPanel::putting_aside_wanted, this, &FindingsController::ask);
  connect(panel_, &FindingsPanel::bringing_back_wanted, this, &FindingsController::bring_back);
}

std::vector<QString> FindingsController::reasons_of(const std::vector<Finding>& findings) const {
  std::vector<QString> reasons(findings.size());
  const Trial* trial = workspace_.bench().trial(workspace_.current());
  for (size_t n = 1; trial && n < findings.size(); ++n)  // the verdict stays
    if (const PutAside* aside = aside_of(*trial, findings[n])) reasons[n] = QString::fromStdString(aside->reason);
  return reasons;
}

void FindingsController::refresh() {
  const auto findings = workspace_.current_findings();
  panel_->show_findings(findings, shown_ = reasons_of(findings));
}

void FindingsController::ask(const Finding& finding) {
  bool good = false;
  const QString reason =
      QInputDialog::getText(context_.window, tr("Put a finding aside"), tr("Why it is of no account:"),
                            QLineEdit::Normal, tr("as it was meant"), &good);
  if (good) put_aside(finding, reason);
}

void FindingsController::put_aside(const Finding& finding, const QString& reason) {
  const auto all = workspace_.current_findings();
  const bool is_verdict = all.empty() || (all.front().text == finding.text && all.front().code == finding.code);
  if (reason.trimmed().isEmpty() || is_verdict) return;
  const std::string id = workspace_.current(), why = reason.trimmed().toStdString();
  workspace_.model().edit(tr("Put a finding aside"), [&](Bench& bench) {
    if (Trial* trial = bench.trial(id)) heathmist::put_aside(*trial, finding, why);
  });
}

void FindingsController::bring_back(const Finding& finding) {
  const std::string id = workspace_.current();
  workspace_.model().edit(tr("Bring a finding back"), [&](Bench& bench) {
    if (Trial* trial = bench.trial(id)) heathmist::bring_back(*trial, finding);
  });
}

std::vector<Command> FindingsController::commands() {
  return {{tr("Technical lines under the findings"), MenuKind::view, [this] {
             is_technical_ = !is_technical_;
             QSettings().setValue(technical_key, is_technical_);
             panel_->show_technical(is_technical_);
           }}};
}

}  // namespace heathmist::app
