#include "app/pages/deliverables/deliverables_view.hpp"

#include <QFileInfo>
#include <QHBoxLayout>
#include <QSplitter>
#include <QVBoxLayout>

#include "app/pages/deliverables/plan_form.hpp"
#include "app/theme/theme.hpp"
#include "app/widgets/labels.hpp"
#include "app/widgets/saving.hpp"
#include "core/compare/json.hpp"

namespace heathmist::app {

namespace {

QString shown(const std::filesystem::path& file) { return QString::fromStdString(file.filename().string()); }

}  // namespace

DeliveryPlan usual_plan() {
  DeliveryPlan plan(3);
  plan[0].name = "16 bit, 44.1 kHz", plan[0].sample_rates_hz = {44100}, plan[0].container_bits = {16};
  plan[1].name = "24 bit, 48 kHz", plan[1].sample_rates_hz = {48000}, plan[1].container_bits = {24};
  plan[2].name = "AAC", plan[2].codecs = {"aac"};
  return plan;
}

DeliverablesView::DeliverablesView(Queue& queue, QWidget* parent) : QWidget(parent), plan_(usual_plan()), work_(queue) {
  auto* rows = new QVBoxLayout(this);
  rows->setContentsMargins(12, 8, 8, 8);
  rows->setSpacing(5);
  rows->addWidget(make_head());
  rows->addWidget(headline_ = answer_label(this));
  auto* split = new QSplitter(Qt::Vertical, this);
  split->setHandleWidth(1);
  table_ = new ResultTable(tr("What should exist of each master"), split);
  table_->setMinimumHeight(120);
  auto* lower = new QWidget(split);
  auto* beside = new QHBoxLayout(lower);
  beside->setContentsMargins(0, 6, 0, 0);
  beside->setSpacing(14);
  beside->addWidget(
      files_ = new FileRow(queue, tr("What there is"), tr("Drop the folder of what was made here"), lower), 1);
  aside_ = new ResultTable(tr("Files that are none of these"), lower);
  aside_->set_columns({{tr("Belongs nowhere"),
                        {},
                        [this](size_t n) {
                          const auto& a = found_->aside[n];
                          return Cell{shown(a.file), {}, QString::fromStdString(a.file.string())};
                        },
                        false,
                        170},
                       {tr("Why"),
                        {},
                        [this](size_t n) {
                          const QString why = QString::fromStdString(found_->aside[n].sentence);
                          return Cell{why, {}, why};
                        },
                        false,
                        app::Column::stretch}});
  beside->addWidget(aside_, 2);
  split->setSizes({330, 220});
  rows->addWidget(split, 1);
  connect(files_, &FileRow::changed, this, [this] { forget(); });
  connect(files_, &FileRow::refused, note_, &QLabel::setText);
  connect(files_, &FileRow::listing_changed, this, &DeliverablesView::fill);
  connect(&watch_, &FileWatch::settled, this, [this](const QString& file) {
    if (found_ || work_.is_running()) forget(tr("%1 has changed").arg(QFileInfo(file).fileName()));
  });
  connect(&work_, &LongWork::progressed, this,
          [this](double fraction) { note_->setText(work_.in_words(tr("looking"), fraction)); });
  connect(&work_, &LongWork::ended, this, [this](Outcome outcome, const QString& failure) {
    note_->setText(how_it_ended(outcome, failure));
    fill();
    emit rested();
  });
  connect(&Theme::instance(), &Theme::changed, this, &DeliverablesView::fill);
  make_columns();
  fill();
}

QWidget* DeliverablesView::make_head() {
  auto* head = new QWidget(this);
  auto* row = new QHBoxLayout(head);
  row->setContentsMargins(0, 0, 0, 0);
  row->setSpacing(6);
  row->addWidget(title_label(tr("Deliverables"), head));
  auto* plan = new QPushButton(tr("Plan…"), head);
  plan->setToolTip(tr("What should exist of each master"));
  connect(plan, &QPushButton::clicked, this, &DeliverablesView::edit_plan);
  row->addWidget(plan);
  row->addWidget(note_ = note_label(head), 1);
  auto* save = new QPushButton(tr("Save as CSV…"), head);
  connect(save, &QPushButton::clicked, this, [this] { save_table(this, "deliverables.csv", csv()); });
  row->addWidget(save);
  find_ = new QPushButton(tr("Find them"), head);
  find_->setProperty("main", true);
  find_->setToolTip(tr("By their sound and their format, whatever they are called"));
  connect(find_, &QPushButton::clicked, this, [this] { work_.is_running() ? work_.cancel() : find(); });
  row->addWidget(find_);
  return head;
}

void DeliverablesView::make_columns() {
  std::vector<app::Column> columns{{tr("Master"),
                                    {},
                                    [this](size_t n) {
                                      const auto& m = masters_[n];
                                      return Cell{shown(m.now), {}, QString::fromStdString(m.now.string())};
                                    },
                                    false,
                                    220}};
  for (size_t w = 0; w < plan_.size(); ++w)
    columns.push_back({QString::fromStdString(plan_[w].name),
                       {},
                       [this, w](size_t n) { return cell_of(n, w); },
                       false,
                       w + 1 == plan_.size() ? app::Column::stretch : 170});
  table_->set_columns(std::move(columns));
}

Cell DeliverablesView::cell_of(size_t master, size_t wanted) const {
  if (!found_) return {};
  const Deliverable& d = found_->wanted[master * plan_.size() + wanted];
  using S = Deliverable::State;
  const QString file = d.file ? QString::fromStdString(d.file->string()) : QString();
  QStringList hint{file};
  if (d.version) hint << tr("made from %1").arg(QString::fromStdString(masters_[master].earlier[*d.version].string()));
  for (const Fault& f : d.faults) hint << QString::fromStdString(f.text);
  switch (d.state) {
    case S::present:
      return {tr("there"), 0, hint.join('\n'), Role::moss};
    case S::faulty:
      return {QString::fromStdString(d.faults.front().text), 1, hint.join('\n'), Role::rust};
    case S::older:
      return {tr("of an older version"), 2, hint.join('\n'), Role::rust, true};
    case S::another:
      return {tr("of something else, %1 dBr").arg(number(d.residual_relative_db.value_or(0), 0)), 3, hint.join('\n'),
              Role::rust, true};
    case S::missing:
      break;
  }
  return {tr("missing"), 4, {}, Role::rust, true};
}

void DeliverablesView::follow_bench(const std::vector<MasterVersions>& masters) {
  const auto same = [](const MasterVersions& a, const MasterVersions& b) {
    return a.now == b.now && a.earlier == b.earlier;
  };
  if (std::equal(masters.begin(), masters.end(), masters_.begin(), masters_.end(), same)) return;
  masters_ = masters;
  forget();
}

void DeliverablesView::set_plan(const DeliveryPlan& plan) {
  plan_ = plan;
  found_.reset();
  work_.drop();
  table_->set_rows(0);
  make_columns();
  fill();
}

void DeliverablesView::edit_plan() {
  PlanForm form(plan_, this);
  if (form.exec() == QDialog::Accepted) set_plan(form.plan());
}

/// Nothing that was found of other files, or of what they held, stays.
void DeliverablesView::forget(const QString& why) {
  work_.drop();
  found_.reset();
  note_->setText(why);
  fill();
}

void DeliverablesView::find() {
  if (files_->is_listing()) return;  // half of a folder would be looked at
  forget();
  std::vector<std::filesystem::path> files, watched;
  for (const QString& file : files_->files()) files.emplace_back(file.toStdString());
  watched = files;
  for (const MasterVersions& m : masters_) {
    watched.push_back(m.now);
    watched.insert(watched.end(), m.earlier.begin(), m.earlier.end());
  }
  watch_.watch(watched);
  watch_.take_as_known();
  work_.start([this, plan = plan_, masters = masters_, files](const Job& job, const Tell& tell) {
    auto found = std::make_shared<Deliverables>(find_deliverables(plan, masters, files, job));
    tell([this, found] { found_ = std::move(*found); });
  });
  fill();
}

QString DeliverablesView::words() const {
  if (masters_.empty()) return tr("Is all there that should be? Drop masters on the ledger.");
  if (work_.is_running() && !found_) return tr("Looking through them…");
  if (!found_)
    return files_->files().isEmpty() ? tr("Is all there that should be? Drop the folder of what was made below.")
                                     : tr("Find what is there of %1 masters.").arg(masters_.size());
  size_t older = 0, faulty = 0;
  for (const Deliverable& d : found_->wanted) {
    older += d.state == Deliverable::State::older || d.state == Deliverable::State::another;
    faulty += d.state == Deliverable::State::faulty;
  }
  const size_t missing = found_->missing(), all = found_->wanted.size();
  if (found_->complete()) return tr("All %1 are there.").arg(all);
  QStringList parts;
  if (missing)
    parts << (missing == 1 ? tr("one of %1 is missing").arg(all) : tr("%1 of %2 are missing").arg(missing).arg(all));
  if (older)
    parts << (older == 1 ? tr("one was made from something else") : tr("%1 were made from something else").arg(older));
  if (faulty) parts << (faulty == 1 ? tr("one breaks a rule") : tr("%1 break a rule").arg(faulty));
  const QString all_parts = parts.join(", ");
  return all_parts.left(1).toUpper() + all_parts.mid(1) + ".";
}

void DeliverablesView::fill() {
  table_->set_rows(masters_.size(), [this](size_t n) { return QString::fromStdString(masters_[n].now.string()); });
  aside_->set_rows(found_ ? found_->aside.size() : 0);
  headline_->setText(words());
  find_->setText(work_.is_running() ? tr("Stop") : tr("Find them"));
  find_->setEnabled(work_.is_running() || (!masters_.empty() && !files_->is_listing()));
}

QString DeliverablesView::csv() const {
  std::vector<Json> rows;
  if (found_)
    for (const Deliverable& d : found_->wanted) rows.push_back(deliverable_json(d, plan_, masters_));
  return QString::fromStdString(csv_of(rows, {"master", "deliverable", "state"}));
}

}  // namespace heathmist::app
