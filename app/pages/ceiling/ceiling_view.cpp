#include "app/pages/ceiling/ceiling_view.hpp"

#include <QSplitter>
#include <QVBoxLayout>

#include "app/theme/position.hpp"
#include "app/theme/theme.hpp"
#include "app/widgets/labels.hpp"
#include "app/widgets/number_field.hpp"
#include "app/widgets/terms.hpp"
#include "core/bench/armed.hpp"

namespace heathmist::app {

namespace {

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

CeilingView::CeilingView(Queue& queue, QWidget* parent) : QWidget(parent), work_(queue), recalling_(queue) {
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
  set_term(limit_, "true_peak");
  limit_->setAccessibleName(tr("The limit of the decoded return"));
  head->addWidget(limit_);
  note_ = note_label(this);
  head->addWidget(note_, 1);
  run_ = new QPushButton(tr("Search"), this);
  run_->setProperty("main", true);
  head->addWidget(run_);
  rows->addLayout(head);
  headline_ = answer_label(this, "ceiling");
  rows->addWidget(headline_);

  auto* split = new QSplitter(Qt::Vertical, this);
  split->setHandleWidth(1);
  make_tables(split);
  split->setSizes({250, 360});
  rows->addWidget(split, 1);

  connect(run_, &QPushButton::clicked, this, [this] { work_.is_running() ? work_.cancel() : start(); });
  connect(limit_, &QDoubleSpinBox::valueChanged, this, &CeilingView::ask);
  connect(means_, &QComboBox::currentIndexChanged, this, &CeilingView::ask);
  connect(&recalling_, &LongWork::ended, this, &CeilingView::recalled);
  connect(&work_, &LongWork::progressed, this, [this](double fraction) {
    const auto left = work_.left_s(fraction);
    const auto done = std::count_if(found_.answers.begin(), found_.answers.end(),
                                    [](const CeilingAnswer& a) { return !a.points.empty() || !a.failure.empty(); });
    note_->setText(left ? tr("%1 of %2 done, about %3 left").arg(done).arg(chains_.size()).arg(clock(*left, 0))
                        : QString());
  });
  connect(&work_, &LongWork::ended, this, [this](Outcome outcome, const QString& failure) {
    if (!failure.isEmpty()) headline_->setText(failure);
    note_->setText(how_it_ended(outcome, {}));
    refresh_state();
    emit rested();
  });
  refresh_state();
}

void CeilingView::make_tables(QSplitter* split) {
  const auto of = [this](auto what) { return [this, what](size_t n) -> Cell { return what(found_.answers[n]); }; };
  const auto as_it_is = [of](auto what) {
    return of([what](const CeilingAnswer& a) {
      const CeilingPoint* now = as_it_stands(a);
      return now ? Cell(what(*now)) : Cell{};
    });
  };
  table_ = new ResultTable(tr("What each chain needs"), split);
  table_->setSelectionMode(QAbstractItemView::SingleSelection);
  table_->set_columns(
      {{tr("Chain"),
        {},
        [this](size_t n) { return Cell{QString::fromStdString(title_of(chains_[n]))}; },
        false,
        Column::stretch},
       {tr("Enough"), tr("The highest setting that keeps the return under the limit"),
        of([this](const CeilingAnswer& a) { return answer_cell(a); }), true, Column::stretch, "ceiling"},
       {tr("As it stands"), tr("True peak of the return with nothing before the encoder, dBTP"),
        as_it_is([](const CeilingPoint& p) {
          return Cell{signed_number(p.true_peak_dbtp, 2), p.true_peak_dbtp};
        }),
        true, Column::stretch, "true_peak"},
       {tr("Overs"), tr("Moments over the limit then"),
        as_it_is([](const CeilingPoint& p) { return number_cell(double(p.overs), 0); }), true, Column::stretch,
        "overs"},
       {tr("Worst at"),
        {},
        of([](const CeilingAnswer& a) {
          return a.worst.empty() ? Cell{} : Cell{position(a.worst.front().at_s, 2), a.worst.front().at_s};
        }),
        true,
        Column::stretch,
        "time"},
       {tr("Tried"), tr("Encodes that were made"),
        of([](const CeilingAnswer& a) { return a.points.empty() ? Cell{} : number_cell(double(a.points.size()), 0); }),
        true, Column::stretch, "tried"}});
  auto* lower = new QSplitter(Qt::Horizontal, split);
  lower->setHandleWidth(1);
  plate_ = new GraphPlate("ceiling", tr("True peak of the decoded return against the setting"), lower);
  plate_->set_empty(tr("The true peak of every encode at each gain that is tried. Search draws it."));
  set_term(plate_, "ceiling");
  plate_->set_names_at(Qt::AlignRight | Qt::AlignBottom);
  moments_ = new ResultTable(tr("The worst moments of the chosen chain as the master stands: jump points"), lower);
  moments_->set_empty(tr("Where the chosen encode comes back the loudest"));
  moments_->set_columns(
      {{tr("Worst moments"),
        {},
        [this](size_t n) {
          return n < worst_.size() ? Cell{position(worst_[n].at_s, 2), worst_[n].at_s} : Cell{tr("none over")};
        },
        false,
        Column::stretch,
        "time"},
       {tr("dBTP"),
        {},
        [this](size_t n) {
          return n < worst_.size() ? Cell{signed_number(worst_[n].dbtp, 2), worst_[n].dbtp} : Cell{};
        },
        true,
        Column::stretch,
        "true_peak"}});
  lower->setSizes({520, 190});
  connect(table_, &ResultTable::chosen_changed, this, &CeilingView::show_moments);
  connect(table_, &ResultTable::opened, this, [this](size_t n) { emit opened(chains_[n], -1); });
  connect(moments_, &ResultTable::opened, this, [this](size_t n) {
    if (n < worst_.size()) emit opened(chains_[worst_of_], worst_[n].at_s);
  });
}

void CeilingView::refresh_state() {
  run_->setText(work_.is_running() ? tr("Cancel") : tr("Search"));
  run_->setEnabled(!chains_.empty() && !file_.empty());
  limit_->setEnabled(!work_.is_running());
  means_->setEnabled(!work_.is_running());
}

void CeilingView::set_subject(const QString& name, const std::filesystem::path& file,
                              const std::vector<Chain>& chains) {
  if (file == file_ && chains == chains_) return;
  work_.drop();
  name_ = name, file_ = file, chains_ = chains;
  ask();
  refresh_state();
}

CeilingOptions CeilingView::options() const {
  CeilingOptions options;
  options.limit_dbtp = limit_->value();
  options.limiter = means_->currentIndex() == 1;
  return options;
}

/// Nothing is answered yet of what is asked now; but it may have been before.
void CeilingView::ask() {
  found_ = {options(), std::vector<CeilingAnswer>(chains_.size())};
  show_found();
  headline_->setText(file_.empty()     ? tr("Choose a master in the ledger: its ceiling is searched here.")
                     : chains_.empty() ? tr("The bench keeps no chain with a codec; keep one from a trial's chain.")
                                       : tr("How far must %1 come down for its encodes?").arg(name_));
  note_->clear();
  recall();
}

void CeilingView::recall() {
  if (file_.empty() || chains_.empty()) return recalling_.drop();
  recalling_.start([this, file = file_, chains = chains_, options = options()](const Job& job, const Tell& tell) {
    for (size_t n = 0; n < chains.size(); ++n) {
      job.check();
      if (const auto answer = kept_ceiling(file, chains[n], options))
        tell([this, n, answer = *answer] {
          note_->setText(tr("from before: nothing it hangs on has changed"));
          take(n, answer);
        });
    }
  });
}

void CeilingView::forget(const std::filesystem::path& file) {
  if (file == file_) set_subject(name_, std::exchange(file_, {}), std::vector<Chain>(chains_));
}

void CeilingView::start() {
  if (chains_.empty() || file_.empty()) return;
  recalling_.drop();
  found_ = {options(), std::vector<CeilingAnswer>(chains_.size())};
  show_found();
  headline_->setText(tr("Encoding, decoding, reading true peaks…"));
  work_.start([this, file = file_, chains = chains_, options = options()](const Job& job, const Tell& tell) {
    find_ceiling(
        file, chains, options, job,
        [this, &tell](size_t place, const CeilingAnswer& answer) {
          tell([this, place, answer] { take(place, answer); });
        },
        grant_here());
  });
  refresh_state();
}

void CeilingView::take(size_t place, const CeilingAnswer& answer) {
  if (place >= found_.answers.size()) return;
  found_.answers[place] = answer;
  table_->set_rows(chains_.size());
  size_t done = 0, failed = 0;
  for (const auto& a : found_.answers) done += !a.points.empty(), failed += !a.failure.empty();
  draw();
  if (table_->chosen().empty()) table_->choose({0});
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
  table_->set_rows(chains_.size());
  show_moments();
  draw();
}

Cell CeilingView::answer_cell(const CeilingAnswer& a) const {
  if (!a.failure.empty()) return {QString::fromStdString(a.failure), {}, QString::fromStdString(a.failure)};
  if (a.points.empty()) return {};
  if (!a.set_db) return {tr("out of reach")};
  Cell cell{tr("%1 %2").arg(signed_number(*a.set_db, 2), found_.options.limiter ? "dBTP" : "dB"), *a.set_db};
  if (a.risk_at_most)
    cell.hint =
        tr("All of %1 encodes at it and to 0.2 dB under it held, with %2 dB to spare. At most %3 % of such may "
           "come back over (95 % confidence).%4")
            .arg(a.neighbours)
            .arg(number(*a.margin_db, 2))
            .arg(number(100 * *a.risk_at_most, 0))
            .arg(a.lucky.empty()
                     ? QString()
                     : tr(" %1 dB held by luck: one lower did not.").arg(signed_number(a.lucky.front().set_db, 2)));
  return cell;
}

void CeilingView::show_moments() {
  const auto rows = table_->chosen();
  worst_.clear();
  bool none_over = false;
  if (!rows.empty()) {
    const CeilingAnswer& answer = found_.answers[rows.front()];
    worst_of_ = rows.front();
    worst_ = answer.worst;
    none_over = worst_.empty() && !answer.points.empty();
  }
  moments_->set_rows(none_over ? 1 : worst_.size());
}

void CeilingView::draw() {
  plate_->set_axes(found_.options.limiter ? tr("ceiling, dBTP") : tr("gain, dB"), tr("true peak of the return, dBTP"));
  plate_->show_series(
      [this] {
        std::vector<Series> all;
        for (const CeilingAnswer& a : found_.answers) {
          if (a.points.empty()) continue;
          Series s{QString::fromStdString(a.name), {}, {}, {}, colour(Role::ret), line_style(all.size())};
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
