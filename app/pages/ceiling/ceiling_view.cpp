#include "app/pages/ceiling/ceiling_view.hpp"

#include <QHeaderView>
#include <QSplitter>
#include <QVBoxLayout>

#include "app/theme/theme.hpp"
#include "app/widgets/labels.hpp"
#include "app/widgets/number_field.hpp"
#include "app/widgets/number_item.hpp"
#include "core/bench/armed.hpp"

namespace heathmist::app {

namespace {

enum Column { chain_column, answer_column, peak_column, overs_column, worst_column, tries_column, columns };
constexpr Qt::PenStyle styles[] = {Qt::SolidLine, Qt::DashLine, Qt::DotLine, Qt::DashDotLine};

QString counted(size_t n) {
  static const char* const words[] = {"none",     "one",     "both",      "all three", "all four",
                                      "all five", "all six", "all seven", "all eight"};
  return n < std::size(words) ? QString(words[n]) : QObject::tr("all %1").arg(n);
}

QString signed_number(double value, int decimals) { return (value > 0 ? "+" : "") + number(value, decimals); }

/// What came back as the master stands: the try with nothing before the encoder.
const CeilingPoint* as_it_stands(const CeilingAnswer& answer) {
  for (const CeilingPoint& p : answer.points)
    if (p.set_db == 0) return &p;
  return nullptr;
}

}  // namespace

CeilingView::CeilingView(QWidget* parent) : QWidget(parent) {
  auto* rows = new QVBoxLayout(this);
  rows->setContentsMargins(14, 10, 8, 6);
  rows->setSpacing(6);
  auto* head = new QHBoxLayout;
  head->setSpacing(8);
  means_ = new QComboBox(this);
  means_->addItems({tr("Gain before the encoder"), tr("Ceiling of a true-peak limiter before it")});
  means_->setAccessibleName(tr("What is searched"));
  head->addWidget(means_);
  auto* under = new QLabel(tr("so that nothing comes back over"), this);
  under->setProperty("soft", true);
  head->addWidget(under);
  limit_ = new NumberField(this);
  limit_->setRange(-24, 6);
  limit_->setDecimals(1);
  limit_->setSingleStep(0.5);
  limit_->setSuffix(" dBTP");
  limit_->setValue(-1);
  limit_->setMinimumWidth(100);
  limit_->setAccessibleName(tr("The limit of the decoded return"));
  head->addWidget(limit_);
  note_ = note_label(this);
  head->addWidget(note_, 1);
  run_ = new QPushButton(tr("Search"), this);
  run_->setProperty("main", true);
  head->addWidget(run_);
  rows->addLayout(head);
  headline_ = answer_label(this);
  rows->addWidget(headline_);

  auto* split = new QSplitter(Qt::Vertical, this);
  split->setHandleWidth(1);
  table_ = new QTableWidget(0, columns, split);
  dress_table(table_, tr("What each chain needs"));
  table_->setSelectionMode(QAbstractItemView::SingleSelection);
  table_->setHorizontalHeaderLabels(
      {tr("Chain"), tr("Enough"), tr("As it stands"), tr("Overs"), tr("Worst at"), tr("Tried")});
  right_heads(table_, 1);
  table_->horizontalHeader()->setSectionResizeMode(QHeaderView::Stretch);
  for (const auto& [column, hint] :
       {std::pair{int(answer_column), tr("The highest setting that keeps the return under the limit")},
        {int(peak_column), tr("True peak of the return with nothing before the encoder, dBTP")},
        {int(overs_column), tr("Moments over the limit then")},
        {int(tries_column), tr("Encodes that were made")}})
    table_->horizontalHeaderItem(column)->setToolTip(hint);
  auto* lower = new QSplitter(Qt::Horizontal, split);
  lower->setHandleWidth(1);
  plate_ = new GraphPlate("ceiling", tr("True peak of the decoded return against the setting"), lower);
  plate_->set_names_at(Qt::AlignRight | Qt::AlignBottom);
  moments_ = new QTableWidget(0, 2, lower);
  dress_table(moments_, tr("The worst moments of the chosen chain as the master stands: jump points"));
  moments_->setHorizontalHeaderLabels({tr("Worst moments"), tr("dBTP")});
  right_heads(moments_, 1);
  moments_->horizontalHeader()->setSectionResizeMode(QHeaderView::Stretch);
  lower->setSizes({520, 190});
  split->setSizes({250, 360});
  rows->addWidget(split, 1);

  connect(run_, &QPushButton::clicked, this, [this] { task_.is_running() ? task_.cancel() : start(); });
  connect(table_, &QTableWidget::itemSelectionChanged, this, &CeilingView::show_moments);
  connect(table_, &QTableWidget::itemActivated, this, [this](QTableWidgetItem* item) {
    emit opened(chains_[size_t(table_->item(item->row(), 0)->data(Qt::UserRole).toInt())], -1);
  });
  auto jump = [this](QTableWidgetItem* item) {
    if (!moments_->item(item->row(), 0)->data(Qt::UserRole).isValid()) return;
    const int chain = moments_->property("chain").toInt();
    emit opened(chains_[size_t(chain)], moments_->item(item->row(), 0)->data(Qt::UserRole).toDouble());
  };
  connect(moments_, &QTableWidget::itemActivated, this, jump);
  connect(&task_, &Task::progressed, this, [this](double fraction) {
    const auto left = task_.left_s(fraction);
    const auto done = std::count_if(found_.answers.begin(), found_.answers.end(),
                                    [](const CeilingAnswer& a) { return !a.points.empty() || !a.failure.empty(); });
    note_->setText(left ? tr("%1 of %2 done, about %3 left").arg(done).arg(chains_.size()).arg(clock(*left, 0))
                        : QString());
  });
  connect(&task_, &Task::ended, this, [this](bool whole, const QString& failure) {
    if (!failure.isEmpty()) headline_->setText(failure);
    note_->setText(whole || !failure.isEmpty() ? QString() : tr("stopped"));
    refresh_state();
    emit rested();
  });
  refresh_state();
}

void CeilingView::refresh_state() {
  run_->setText(task_.is_running() ? tr("Cancel") : tr("Search"));
  run_->setEnabled(!chains_.empty() && !file_.empty());
  limit_->setEnabled(!task_.is_running());
  means_->setEnabled(!task_.is_running());
}

void CeilingView::set_subject(const QString& name, const std::filesystem::path& file,
                              const std::vector<Chain>& chains) {
  if (file == file_ && chains == chains_) return;
  task_.drop();
  ++run_number_;
  name_ = name, file_ = file, chains_ = chains;
  found_ = {{}, std::vector<CeilingAnswer>(chains.size())};
  show_found();
  headline_->setText(file.empty()     ? tr("Choose a master in the ledger: its ceiling is searched here.")
                     : chains.empty() ? tr("The bench keeps no chain with a codec; keep one from a trial's chain.")
                                      : tr("How far must %1 come down for its encodes?").arg(name));
  refresh_state();
}

void CeilingView::forget(const std::filesystem::path& file) {
  if (file == file_) set_subject(name_, std::exchange(file_, {}), std::vector<Chain>(chains_));
}

void CeilingView::start() {
  if (chains_.empty() || file_.empty()) return;
  CeilingOptions options;
  options.limit_dbtp = limit_->value();
  options.limiter = means_->currentIndex() == 1;
  found_ = {options, std::vector<CeilingAnswer>(chains_.size())};
  show_found();
  headline_->setText(tr("Encoding, decoding, reading true peaks…"));
  task_.start([this, run = ++run_number_, file = file_, chains = chains_, options](const Job& job) {
    find_ceiling(
        Clip::open(file, Job{job.stop, {}, 0}), chains, options, job,
        [this, run](size_t place, const CeilingAnswer& answer) {
          QMetaObject::invokeMethod(
              this,
              [this, run, place, answer] {
                if (run == run_number_) take(place, answer);
              },
              Qt::QueuedConnection);
        },
        grant_here());
  });
  refresh_state();
}

void CeilingView::take(size_t place, const CeilingAnswer& answer) {
  if (place >= found_.answers.size()) return;
  found_.answers[place] = answer;
  show_answer(place);
  size_t done = 0, failed = 0;
  for (const auto& a : found_.answers) done += !a.points.empty(), failed += !a.failure.empty();
  draw();
  if (table_->selectionModel()->selectedRows().isEmpty()) table_->selectRow(0);
  show_moments();
  if (done + failed < found_.answers.size()) return;
  const auto all = found_.for_all_db();
  if (!all)
    headline_->setText(
        done ? tr("Nothing within 24 dB keeps every encode under %1 dBTP.").arg(number(limit_->value(), 1))
             : tr("None of these chains could be run on %1.").arg(name_));
  else
    headline_->setText(
        found_.options.limiter ? tr("A ceiling of %1 dBTP is enough for %2.").arg(number(*all, 2), counted(done))
        : *all >= 0 ? tr("%1 dB: the master may stay as it is for %2.").arg(signed_number(*all, 2), counted(done))
                    : tr("%1 dB is enough for %2.").arg(signed_number(*all, 2), counted(done)));
}

void CeilingView::show_found() {
  table_->setRowCount(int(chains_.size()));
  for (size_t n = 0; n < chains_.size(); ++n) show_answer(n);
  moments_->setRowCount(0);
  draw();
}

void CeilingView::show_answer(size_t place) {
  const CeilingAnswer& a = found_.answers[place];
  const int row = int(place);
  auto* name = new QTableWidgetItem(QString::fromStdString(title_of(chains_[place])));
  name->setData(Qt::UserRole, row);
  table_->setItem(row, chain_column, name);
  const CeilingPoint* now = as_it_stands(a);
  auto put = [&](int column, const QString& text) { table_->setItem(row, column, new NumberItem(text, 0)); };
  put(answer_column, !a.failure.empty() ? QString::fromStdString(a.failure)
                     : a.points.empty() ? QString()
                     : a.set_db ? tr("%1 %2").arg(signed_number(*a.set_db, 2), found_.options.limiter ? "dBTP" : "dB")
                                : tr("out of reach"));
  if (!a.failure.empty()) table_->item(row, answer_column)->setToolTip(QString::fromStdString(a.failure));
  if (a.risk_at_most)
    table_->item(row, answer_column)
        ->setToolTip(
            tr("All of %1 encodes at it and to 0.2 dB under it held, with %2 dB to spare. At most %3 % of such may "
               "come back over (95 % confidence).%4")
                .arg(a.neighbours)
                .arg(number(*a.margin_db, 2))
                .arg(number(100 * *a.risk_at_most, 0))
                .arg(
                    a.lucky.empty()
                        ? QString()
                        : tr(" %1 dB held by luck: one lower did not.").arg(signed_number(a.lucky.front().set_db, 2))));
  put(peak_column, now ? signed_number(now->true_peak_dbtp, 2) : QString());
  put(overs_column, now ? QString::number(now->overs) : QString());
  put(worst_column, a.worst.empty() ? QString() : clock(a.worst.front().at_s, 2));
  put(tries_column, a.points.empty() ? QString() : QString::number(a.points.size()));
}

void CeilingView::show_moments() {
  const auto rows = table_->selectionModel()->selectedRows();
  const int chain = rows.isEmpty() ? -1 : rows.front().row();
  moments_->setRowCount(0);
  moments_->setProperty("chain", chain);
  if (chain < 0 || size_t(chain) >= found_.answers.size()) return;
  const CeilingAnswer& answer = found_.answers[size_t(chain)];
  if (answer.worst.empty() && !answer.points.empty()) {
    moments_->setRowCount(1);
    moments_->setItem(0, 0, new QTableWidgetItem(tr("none over")));
    moments_->item(0, 0)->setFlags(Qt::ItemIsEnabled);
  }
  for (const Over& over : answer.worst) {
    const int row = moments_->rowCount();
    moments_->insertRow(row);
    auto* at = new QTableWidgetItem(clock(over.at_s, 2));
    at->setData(Qt::UserRole, over.at_s);
    moments_->setItem(row, 0, at);
    moments_->setItem(row, 1, new NumberItem(signed_number(over.dbtp, 2), over.dbtp));
  }
}

void CeilingView::draw() {
  plate_->set_axes(found_.options.limiter ? tr("ceiling, dBTP") : tr("gain, dB"), tr("true peak of the return, dBTP"));
  plate_->show_series(
      [this] {
        std::vector<Series> all;
        for (const CeilingAnswer& a : found_.answers) {
          if (a.points.empty()) continue;
          Series s{QString::fromStdString(a.name), {}, {}, {}, colour(Role::ret), styles[all.size() % 4]};
          if (all.size() >= 4) s.ink = colour(Role::ink);
          for (const CeilingSpread& p : spread_of(a)) {
            s.xs.push_back(p.set_db), s.ys.push_back((p.low_dbtp + p.high_dbtp) / 2);
            s.errors.push_back((p.high_dbtp - p.low_dbtp) / 2);
          }
          all.push_back(std::move(s));
        }
        return all;
      },
      found_.options.limit_dbtp);
}

}  // namespace heathmist::app
