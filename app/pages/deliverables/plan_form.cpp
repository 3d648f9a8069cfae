#include "app/pages/deliverables/plan_form.hpp"

#include <QFileDialog>
#include <QHeaderView>
#include <QPushButton>
#include <QVBoxLayout>

#include "app/widgets/form_buttons.hpp"
#include "app/widgets/list_text.hpp"
#include "app/widgets/saving.hpp"

namespace heathmist::app {

namespace {

enum { title_column, rate_column, bits_column, codec_column, channels_column };

Json plan_json(const DeliveryPlan& plan) {
  Json list = Json::array();
  for (const Rules& rules : plan) list.push_back(rules_json(rules));
  return {{"deliverables", list}};
}

}  // namespace

PlanForm::PlanForm(const DeliveryPlan& plan, QWidget* parent) : QDialog(parent) {
  setWindowTitle(tr("What should exist of each master"));
  auto* rows = new QVBoxLayout(this);
  table_ = new QTableWidget(0, 5, this);
  table_->setAccessibleName(tr("What should exist"));
  table_->setHorizontalHeaderLabels(
      {tr("Name"), tr("Sample rate, Hz"), tr("Word length, bit"), tr("Codec"), tr("Channels")});
  table_->horizontalHeader()->setSectionResizeMode(QHeaderView::Stretch);
  table_->verticalHeader()->hide();
  table_->setTabKeyNavigation(false);
  rows->addWidget(table_, 1);
  auto* note =
      new QLabel(tr("What is left empty may be anything. A file is told by its sound and by what stands here."), this);
  note->setProperty("soft", true);
  rows->addWidget(note);
  rows->addWidget(fault_ = new QLabel(this));
  fault_->setWordWrap(true);
  auto* buttons = form_buttons(this, tr("Use it")).box;
  const auto action = [&](const QString& name, auto what) {
    connect(buttons->addButton(name, QDialogButtonBox::ActionRole), &QPushButton::clicked, this, what);
  };
  action(tr("Add one"), &PlanForm::add_row);
  action(tr("Take the chosen away"), [this] {
    const int row = table_->currentRow();
    if (row < 0) return;
    before_.erase(before_.begin() + row);
    table_->removeRow(row);
  });
  action(tr("Open…"), &PlanForm::open);
  action(tr("Save as…"), &PlanForm::save);
  rows->addWidget(buttons);
  resize(760, 380);
  show_plan(plan);
}

void PlanForm::add_row() {
  before_.emplace_back();
  table_->insertRow(table_->rowCount());
  for (int c = 0; c < table_->columnCount(); ++c) table_->setItem(table_->rowCount() - 1, c, new QTableWidgetItem);
  table_->setCurrentCell(table_->rowCount() - 1, title_column);
}

void PlanForm::show_plan(const DeliveryPlan& plan) {
  table_->setRowCount(0);
  before_.clear();
  for (const Rules& r : plan) {
    add_row();
    before_.back() = r;
    const int row = table_->rowCount() - 1;
    const auto put = [&](int column, const QString& text) { table_->item(row, column)->setText(text); };
    put(title_column, QString::fromStdString(r.name)), put(rate_column, listed(r.sample_rates_hz));
    put(bits_column, listed(r.container_bits)), put(codec_column, listed(r.codecs));
    put(channels_column, listed(r.channels));
  }
  fault_->clear();
}

DeliveryPlan PlanForm::plan() const {
  Json list = Json::array();
  for (int row = 0; row < table_->rowCount(); ++row) {
    const auto text = [&](int column) { return table_->item(row, column)->text().trimmed(); };
    Rules others = before_[size_t(row)];
    others.sample_rates_hz.clear(), others.container_bits.clear(), others.codecs.clear(), others.channels.clear();
    Json one = rules_json(others);
    one["name"] = text(title_column).toStdString();
    for (const auto& [key, column] : {std::pair{"sample_rate_hz", int(rate_column)},
                                      {"container_bits", int(bits_column)},
                                      {"codec", int(codec_column)},
                                      {"channels", int(channels_column)}})
      if (const Json value = list_in(text(column)); !value.empty()) one[key] = value;
    list.push_back(one);
  }
  return plan_from_json({{"deliverables", list}});
}

bool PlanForm::is_good() {
  try {
    plan();
    fault_->clear();
    return true;
  } catch (const RulesError& error) {
    fault_->setText(QString::fromUtf8(error.what()));
    return false;
  }
}

void PlanForm::accept() {
  if (is_good()) QDialog::accept();
}

void PlanForm::open() {
  const QString file = QFileDialog::getOpenFileName(this, tr("A plan"), {}, "JSON (*.json);;All files (*)");
  if (file.isEmpty()) return;
  try {
    show_plan(load_plan(file.toStdString()));
  } catch (const InputError& error) {
    fault_->setText(QString::fromUtf8(error.what()));
  }
}

void PlanForm::save() {
  if (!is_good()) return;
  save_as(this, {tr("Save the plan"), "plan.json", "JSON (*.json)", "json"},
          [this](const Destination& to) { write_whole(to, plan_json(plan()).dump(2) + "\n"); });
}

}  // namespace heathmist::app
