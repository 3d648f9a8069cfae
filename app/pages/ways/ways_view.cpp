#include "app/pages/ways/ways_view.hpp"

#include <QSplitter>
#include <QVBoxLayout>

#include "app/theme/theme.hpp"
#include "app/widgets/labels.hpp"
#include "app/widgets/saving.hpp"
#include "app/widgets/terms.hpp"
#include "core/bench/armed.hpp"
#include "core/compare/json.hpp"

namespace heathmist::app {

namespace {

constexpr double nothing_db = -150;  // under this a residual is the dust of the arithmetic

std::optional<double> residual_of(const Way& way) {
  return way.residual_relative_db && *way.residual_relative_db > nothing_db ? way.residual_relative_db : std::nullopt;
}

QString name_of(const Way& way) { return QString::fromStdString(way.name); }
QString capital(const QString& words) { return words.left(1).toUpper() + words.mid(1); }

}  // namespace

WaysView::WaysView(Queue& queue, QWidget* parent) : QWidget(parent), work_(queue) {
  auto* rows = new QVBoxLayout(this);
  rows->setContentsMargins(12, 8, 8, 8);
  rows->setSpacing(5);
  rows->addWidget(make_head());
  rows->addWidget(headline_ = answer_label(this, "integrated"));
  auto* split = new QSplitter(Qt::Vertical, this);
  split->setHandleWidth(1);
  make_table(split);
  plate_ =
      new GraphPlate("ways", tr("What each way costs: residual at equal loudness, and the peaks it leaves"), split);
  set_term(plate_, "residual");
  plate_->set_axes(tr("loudness range that is left, LU"), tr("residual at equal loudness, dBr"));
  plate_->setMinimumSize(200, 160);
  split->setSizes({210, 330});
  rows->addWidget(split, 1);
  connect(&work_, &LongWork::progressed, this,
          [this](double fraction) { note_->setText(work_.in_words(tr("trying"), fraction)); });
  connect(&work_, &LongWork::ended, this, [this](Outcome outcome, const QString& failure) {
    fill();
    note_->setText(how_it_ended(outcome, failure));
    emit rested();
  });
  connect(&Theme::instance(), &Theme::changed, this, &WaysView::fill);
  reload();
}

QWidget* WaysView::make_head() {
  auto* head = new QWidget(this);
  auto* row = new QHBoxLayout(head);
  row->setContentsMargins(0, 0, 0, 0);
  row->setSpacing(6);
  row->addWidget(title_label(tr("Ways to"), head));
  outlet_ = new QComboBox(head);
  outlet_->setAccessibleName(tr("Which outlet"));
  outlet_->setMaximumWidth(260);
  connect(outlet_, &QComboBox::currentIndexChanged, this, [this] { forget(); });
  row->addWidget(outlet_);
  row->addWidget(note_ = note_label(head), 1);
  auto* save = new QPushButton(tr("Save as CSV…"), head);
  connect(save, &QPushButton::clicked, this, [this] { save_table(this, "ways.csv", csv()); });
  row->addWidget(save);
  take_ = new QPushButton(tr("Make it a trial"), head);
  take_->setToolTip(tr("Of the chosen way: a chain that is set to reach the target, heard against the master as loud"));
  connect(take_, &QPushButton::clicked, this, &WaysView::take);
  row->addWidget(take_);
  run_ = new QPushButton(tr("Try the ways"), head);
  run_->setProperty("main", true);
  run_->setToolTip(tr("Level alone, a limiter, and compressors in front of it, each set until the target is met"));
  connect(run_, &QPushButton::clicked, this, [this] { work_.is_running() ? work_.cancel() : start(); });
  row->addWidget(run_);
  return head;
}

void WaysView::make_table(QWidget* parent) {
  table_ = new ResultTable(tr("Ways to the target"), parent);
  table_->set_empty(tr("A row for each way to the target: what it changes, the peaks it leaves, how much it moves"));
  table_->setSelectionMode(QAbstractItemView::SingleSelection);
  const auto value = [this](auto of, int decimals) {
    return [this, of, decimals](size_t n) { return number_cell(of(ways_[n]), decimals); };
  };
  table_->set_columns(
      {{tr("Way"),
        {},
        [this](size_t n) {
          Cell cell{name_of(ways_[n])};
          cell.is_bold = best_ == n;
          return cell;
        },
        false,
        app::Column::stretch},
       {tr("Target"), tr("Within 0.1 LU of it, and no true peak over the limit"),
        [this](size_t n) {
          return ways_[n].reaches
                     ? Cell{best_ == n ? tr("reached, least harm") : tr("reached"), 1, {}, Role::moss, best_ == n}
                     : Cell{tr("not reached"), 0, {}, Role::rust};
        },
        false, 140},
       {tr("Residual, dBr"), tr("Against the master, both equally loud"),
        [this](size_t n) {
          const auto db = residual_of(ways_[n]);
          return db ? number_cell(db, 1) : Cell{tr("nothing"), -1000};
        },
        true, 96, "residual"},
       {tr("LUFS"), tr("Integrated loudness that it reaches"), value([](const Way& w) { return w.loudness_lufs; }, 1),
        true, 60, "integrated"},
       {tr("dBTP"), tr("True peak, after the outlet's encode where it has one"),
        value([](const Way& w) { return w.true_peak_dbtp; }, 2), true, 60, "true_peak"},
       {tr("PLR, dB"), tr("Peaks over loudness: what is left of them"), value([](const Way& w) { return w.plr_db; }, 1),
        true, 64, "plr"},
       {tr("LRA, LU"), tr("Loudness range"), value([](const Way& w) { return w.range_lu; }, 1), true, 64,
        "loudness_range"},
       {tr("Moves a minute"), tr("How often its gain goes 0.5 dB under the usual"),
        value([](const Way& w) { return std::optional(w.moves_a_minute); }, 0), true, 110, "moves"}});
  table_->setMinimumHeight(120);
  connect(table_, &ResultTable::opened, this, [this] { take(); });
}

void WaysView::set_subject(const QString& name, const std::filesystem::path& file) {
  if (file == file_ && name == name_) return;
  name_ = name;
  if (file == file_) return fill();
  file_ = file;
  forget();
}

void WaysView::reload() {
  outlets_ = known_outlets();
  const QString before = outlet_->currentData().toString();
  {
    const QSignalBlocker quiet(outlet_);
    outlet_->clear();
    for (const Outlet& o : outlets_) outlet_->addItem(QString::fromStdString(o.name), QString::fromStdString(o.key));
    outlet_->setCurrentIndex(std::max(0, outlet_->findData(before)));
  }
  const Outlet* now = chosen_outlet();
  if (found_for_ && (!now || !(*now == *found_for_))) forget();
  fill();
}

const Outlet* WaysView::chosen_outlet() const {
  const int at = outlet_->currentIndex();
  return at < 0 || size_t(at) >= outlets_.size() ? nullptr : &outlets_[size_t(at)];
}

void WaysView::forget() {
  work_.drop();
  ways_.clear();
  best_.reset(), found_for_.reset();
  note_->clear();
  fill();
}

void WaysView::forget(const std::filesystem::path& file) {
  if (file == file_) forget();
}

void WaysView::start() {
  const Outlet* outlet = chosen_outlet();
  if (!outlet || file_.empty()) return;
  forget();
  found_for_ = *outlet;
  work_.start([this, outlet = *outlet, file = file_](const Job& job, const Tell& tell) {
    const auto master = Clip::open(file, job.part(0, 0.05));
    const Reach reach = ways_to(outlet, master, job.part(0.05, 1), grant_here(),
                                [&](const Way& way) { tell([this, way] { ways_.push_back(way), fill(); }); });
    tell([this, best = reach.best] {
      best_ = best;
      if (best_) table_->choose({*best_});
      fill();
    });
  });
  fill();
}

void WaysView::take() {
  const auto rows = table_->chosen();
  if (!rows.empty()) emit taken(ways_[rows.front()].chain);
}

QString WaysView::words() const {
  if (file_.empty()) return tr("How loud can it go, and what does that cost? Drop a master on the ledger.");
  const Outlet* outlet = chosen_outlet();
  if (!outlet) return {};
  if (ways_.empty() && !work_.is_running())
    return tr("What does it cost %1 to be at %2 LUFS? Try the ways.").arg(name_, number(outlet->target_lufs, 1));
  if (work_.is_running()) return tr("Trying the ways of %1 to %2 LUFS…").arg(name_, number(outlet->target_lufs, 1));
  if (!best_) return tr("None of these ways brings %1 to %2 LUFS.").arg(name_, number(outlet->target_lufs, 1));
  const Way& best = ways_[*best_];
  const auto left = residual_of(best);
  return left ? tr("%1 reaches %2 LUFS with the least harm: %3 dBr at equal loudness, PLR %4 dB.")
                    .arg(capital(name_of(best)), number(outlet->target_lufs, 1), number(*left, 1),
                         number(best.plr_db.value_or(0), 1))
              : tr("%1 reaches %2 LUFS and changes nothing else.")
                    .arg(capital(name_of(best)), number(outlet->target_lufs, 1));
}

std::vector<Series> WaysView::series() const {
  std::vector<Series> all;
  Series path{"", {}, {}, {}, colour(Role::soft), Qt::DotLine, true, false};
  for (const Way& way : ways_)
    if (const auto left = residual_of(way); left && way.range_lu)
      path.xs.push_back(*way.range_lu), path.ys.push_back(*left);
  if (!path.xs.empty()) all.push_back(path);
  for (size_t n = 0; n < ways_.size(); ++n) {
    const auto left = residual_of(ways_[n]);
    if (!left || !ways_[n].range_lu) continue;
    all.push_back({"",
                   {*ways_[n].range_lu},
                   {*left},
                   {name_of(ways_[n])},
                   colour(best_ == n         ? Role::moss
                          : ways_[n].reaches ? Role::ink
                                             : Role::rust),
                   Qt::SolidLine,
                   false});
  }
  return all;
}

void WaysView::fill() {
  table_->set_rows(ways_.size(), [this](size_t n) { return name_of(ways_[n]); });
  plate_->setVisible(!ways_.empty());
  if (!ways_.empty()) plate_->show_series([this] { return series(); });  // a plot without a place cannot draw
  headline_->setText(words());
  run_->setText(work_.is_running() ? tr("Stop") : tr("Try the ways"));
  run_->setEnabled(!file_.empty());
  take_->setEnabled(!ways_.empty());
}

QString WaysView::csv() const {
  std::vector<Json> rows;
  for (const Way& way : ways_) rows.push_back(way_json(way));
  return QString::fromStdString(csv_of(rows, {"name"}));
}

}  // namespace heathmist::app
