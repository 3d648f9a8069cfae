#include "app/pages/loudness/loudness_view.hpp"

#include <QHeaderView>
#include <QSettings>
#include <QSplitter>
#include <QVBoxLayout>

#include "app/theme/position.hpp"
#include "app/theme/theme.hpp"
#include "app/widgets/labels.hpp"
#include "app/widgets/saving.hpp"
#include "core/bench/armed.hpp"
#include "core/stages/chain.hpp"

namespace heathmist::app {

namespace {

constexpr int dual_mono = -1;    // in the place of a channel: one channel counts as from two loudspeakers
constexpr int usual_window = 1;  // of the RMS, in the list of them: what the table was measured with

std::optional<double> range_of(const Loudness& l) { return l.range ? std::optional(l.range->lu()) : std::nullopt; }

}  // namespace

LoudnessView::LoudnessView(Queue& queue, LoudnessReadings& measured, QWidget* parent)
    : QWidget(parent), measured_(measured), narrow_(queue) {
  auto* rows = new QVBoxLayout(this);
  rows->setContentsMargins(12, 8, 6, 6);
  rows->setSpacing(4);
  rows->addWidget(make_head());
  auto* split = new QSplitter(Qt::Vertical, this);
  split->setHandleWidth(1);
  make_table(split);
  plate_ = new LoudnessPlate(split);
  plate_->setMinimumHeight(170);
  split->setSizes({360, 300});
  rows->addWidget(split, 1);
  rows->addWidget(make_foot());
  connect(&measured_, &LoudnessReadings::rows_changed, this, &LoudnessView::refill);
  connect(&measured_, &LoudnessReadings::measured, this, &LoudnessView::refresh);
  connect(&measured_, &LoudnessReadings::rested, this, [this](const QString& sentence) {
    refresh();
    if (!sentence.isEmpty()) note_->setText(sentence);
  });
  connect(plate_, &LoudnessPlate::selected, this, [this](auto seconds) {
    selection_ = seconds;
    measure_selection();
  });
  connect(&Theme::instance(), &Theme::changed, this, &LoudnessView::refresh);
  set_unit();
}

QWidget* LoudnessView::make_head() {
  auto* head = new QWidget(this);
  auto* row = new QHBoxLayout(head);
  row->setContentsMargins(0, 0, 0, 0);
  row->setSpacing(6);
  auto* title = title_label(tr("Loudness"), head);
  row->addWidget(title);
  filter_ = new QLineEdit(head);
  filter_->setPlaceholderText(tr("filter names"));
  filter_->setClearButtonEnabled(true);
  filter_->setMaximumWidth(150);
  filter_->setAccessibleName(tr("Only rows whose name holds this"));
  connect(filter_, &QLineEdit::textChanged, this, &LoudnessView::apply_filter);
  row->addWidget(filter_);
  QSettings settings;
  auto field = [&](const char* key, const QString& before, double low, double high, double usual, const QString& unit,
                   const QString& hint) {
    row->addWidget(soft_label(before, head));
    auto* box = new NumberField(head);
    box->setRange(low, high);
    box->setDecimals(1);
    box->setSingleStep(0.5);
    box->setValue(settings.value(key, usual).toDouble());
    box->setSuffix(" " + unit);
    box->setMaximumWidth(96);
    box->setToolTip(hint);
    box->setAccessibleName(hint);
    connect(box, &NumberField::valueChanged, this, [this, key](double value) {
      QSettings().setValue(key, value);
      refresh();
      draw();
    });
    row->addWidget(box);
    return box;
  };
  target_ = field("loudness/target", tr("  target"), -60, 0, -16, "LUFS", tr("Target: rows that miss it are marked"));
  tolerance_ = field("loudness/tolerance", QString::fromUtf8("\u00b1"), 0, 20, 3, "LU",
                     tr("How far from the target is well, LU"));
  peak_limit_ =
      field("loudness/peak", tr("peaks to"), -20, 6, -1, "dBTP", tr("True peaks above this are marked, dBTP"));
  set_term(target_, "to_target"), set_term(tolerance_, "to_target"), set_term(peak_limit_, "true_peak");
  note_ = note_label(head);
  row->addWidget(note_, 1);
  unit_ = new QComboBox(head);
  unit_->addItems({"LUFS", "LKFS"});
  unit_->setCurrentText(settings.value("loudness/unit", "LUFS").toString());
  unit_->setToolTip(tr("The unit's name; both are the same thing"));
  unit_->setAccessibleName(tr("The unit's name"));
  connect(unit_, &QComboBox::currentTextChanged, this, [this](const QString& name) {
    QSettings().setValue("loudness/unit", name);
    plate_->set_unit(name);
    set_unit();
  });
  row->addWidget(unit_);
  auto* copies = new QPushButton(tr("Levelled copies…"), head);
  copies->setProperty("main", true);
  copies->setToolTip(tr("Write copies of the chosen masters at a target, tagged, read back and checked"));
  connect(copies, &QPushButton::clicked, this, &LoudnessView::copies_wanted);
  row->addWidget(copies);
  auto* save = new QPushButton(tr("Save as CSV…"), head);
  connect(save, &QPushButton::clicked, this, &LoudnessView::save_csv);
  row->addWidget(save);
  run_ = new QPushButton(tr("Cancel"), head);
  connect(run_, &QPushButton::clicked, this, [this] {
    measured_.is_running() ? measured_.cancel() : measured_.run();
    refresh();
  });
  row->addWidget(run_);
  return head;
}

void LoudnessView::make_table(QWidget* parent) {
  table_ = new ResultTable(tr("Loudness of all masters and returns"), parent);
  table_->setMinimumHeight(90);
  table_->verticalHeader()->setDefaultSectionSize(27);
  table_->setItemDelegateForColumn(ribbon_column, new RibbonPainter(table_));
  table_->horizontalHeader()->setMinimumSectionSize(48);
  connect(table_, &ResultTable::chosen_changed, this, [this] {
    draw();
    measure_selection();
  });
  connect(table_, &ResultTable::opened, this,
          [this](size_t row) { emit opened(QString::fromStdString(measured_.rows()[row].id)); });
}

std::vector<app::Column> LoudnessView::columns_shown() {
  const QString unit = unit_->currentText();
  const auto of = [this](auto what) {
    return [this, what](size_t n) {
      const LoudnessRow& row = measured_.rows()[n];
      return row.measured ? Cell(what(*row.measured)) : Cell{};
    };
  };
  const auto value = [of](std::optional<double> (*what)(const Loudness&), int decimals) {
    return of([=](const Measured& m) { return number_cell(what(m.loudness), decimals); });
  };
  const auto inked = [of](std::function<Cell(const Measured&)> what, std::function<bool(const Measured&)> is_bad) {
    return of([=](const Measured& m) {
      Cell cell = what(m);
      if (is_bad(m)) cell.ink = Role::rust;
      return cell;
    });
  };
  using L = Loudness;
  return {
      {tr("Clip"),
       {},
       [this](size_t n) {
         const LoudnessRow& row = measured_.rows()[n];
         const QString name = row.is_master ? row.name : "    " + row.name;
         return Cell{name, {}, row.is_master ? row.name : tr("%1, of %2").arg(row.name, row.master), {}, row.is_master};
       },
       false,
       158},
      {tr("Short-term, \u221250 to 0 %1").arg(unit),
       tr("How short-term loudness spreads; the stroke is the integrated loudness"),
       [this](size_t n) { return ribbon_cell(measured_.rows()[n]); }, false, app::Column::stretch},
      {tr("Integrated"), tr("Gated loudness of the whole, %1").arg(unit),
       inked([](const Measured& m) { return number_cell(m.loudness.integrated_lufs, 1); },
             [this](const Measured& m) { return is_off_target(m.loudness); }),
       true, 72, "integrated"},
      {tr("Range"), tr("Loudness range, LU"), value(range_of, 1), true, 50, "loudness_range"},
      {tr("S max"), tr("Greatest 3 s, %1").arg(unit), value([](const L& l) { return l.short_term_max_lufs; }, 1), true,
       54, "short_term"},
      {tr("M max"), tr("Greatest 400 ms, %1").arg(unit), value([](const L& l) { return l.momentary_max_lufs; }, 1),
       true, 54, "momentary"},
      {tr("True peak"), tr("dBTP"),
       inked([](const Measured& m) { return number_cell(m.loudness.true_peak_dbtp, 2); },
             [this](const Measured& m) {
               return m.loudness.true_peak_dbtp.value_or(-999) > peak_limit_->value() + 0.005;
             }),
       true, 70, "true_peak"},
      {tr("PLR"), tr("True peak less integrated loudness, dB"), value([](const L& l) { return l.plr_db; }, 1), true, 48,
       "plr"},
      {tr("Clipped"), tr("Runs of three or more equal full-scale samples"),
       inked([](const Measured& m) { return number_cell(double(m.levels.clipped_runs), 0); },
             [](const Measured& m) { return m.levels.clipped_runs > 0; }),
       true, 60, "clipped"},
      {tr("To target"), tr("The gain that brings it to the target: with it, all of these are equally loud"),
       of([this](const Measured& m) { return match_cell(m.loudness); }), true, 68, "to_target"},
  };
}

void LoudnessView::set_unit() {
  table_->set_columns(columns_shown());
  refill();
}

void LoudnessView::refill() {
  std::erase_if(ribbons_, [this](const auto& entry) { return !measured_.row(entry.first); });
  refresh();
  apply_filter();
  draw();
}

void LoudnessView::refresh() {
  table_->set_rows(measured_.rows().size(),
                   [this](size_t n) { return QString::fromStdString(measured_.rows()[n].id); });
  const size_t waiting = measured_.waiting(), all = measured_.rows().size();
  const auto left = measured_.left_s();
  note_->setText(all == 0                 ? tr("drop masters and what came back of them")
                 : waiting == 0           ? QString()
                 : measured_.is_running() ? tr("%1 of %2 measured%3")
                                                .arg(all - waiting)
                                                .arg(all)
                                                .arg(left ? tr(", about %1 left").arg(clock(*left, 0)) : QString())
                                          : tr("%1 not measured").arg(waiting));
  run_->setText(measured_.is_running() ? tr("Cancel") : tr("Measure"));
  run_->setVisible(waiting > 0);
  plate_->set_target(target_->value(), tolerance_->value());
}

/// A ribbon is made once for what it shows.
Cell LoudnessView::ribbon_cell(const LoudnessRow& row) {
  if (!row.measured) return {row.failure, {}, row.failure};
  auto& [of, ribbon] = ribbons_[row.id];
  if (std::exchange(of, row.measured) != row.measured)
    ribbon = std::make_shared<const Ribbon>(ribbon_of(row.measured->loudness, row.is_master));
  return {.value = row.measured->loudness.integrated_lufs, .picture = QVariant::fromValue(ribbon)};
}

Cell LoudnessView::match_cell(const Loudness& l) const {
  if (!l.integrated_lufs) return number_cell({}, 1);
  const double gain = target_->value() - *l.integrated_lufs;
  return {(gain > 0 ? "+" : "") + number(gain, 1), gain};
}

bool LoudnessView::is_off_target(const Loudness& l) const {
  return l.integrated_lufs && std::abs(*l.integrated_lufs - target_->value()) > tolerance_->value() + 0.005;
}

void LoudnessView::apply_filter() {
  const QString part = filter_->text().trimmed();
  if (part.isEmpty()) return table_->set_filter({});
  table_->set_filter([this, part](size_t n) {
    const LoudnessRow& row = measured_.rows()[n];
    return row.name.contains(part, Qt::CaseInsensitive) ||
           (!row.is_master && row.master.contains(part, Qt::CaseInsensitive));
  });
}

std::vector<std::string> LoudnessView::chosen() const {
  std::vector<std::string> ids;
  for (const size_t n : table_->chosen()) ids.push_back(measured_.rows()[n].id);
  return ids;
}

void LoudnessView::follow(const std::string& master_id, const std::string& trial_id) {
  if (followed_ == std::pair{master_id, trial_id} || table_->rows() == 0) return;
  followed_ = {master_id, trial_id};
  std::vector<size_t> rows;
  for (size_t n = 0; n < measured_.rows().size(); ++n)
    if (measured_.rows()[n].id == trial_id || measured_.rows()[n].id == master_id) rows.push_back(n);
  table_->choose(rows);
}

void LoudnessView::draw() {
  std::vector<LoudnessLine> lines;
  for (const std::string& id : chosen())
    if (const LoudnessRow* row = measured_.row(id); row && row->measured)
      lines.push_back({row->is_master ? row->name : row->master + ", " + row->name,
                       {row->measured, &row->measured->loudness},
                       sliding_lufs(row->measured->loudness.pieces, 4),
                       sliding_lufs(row->measured->loudness.pieces, 30),
                       row->is_master});
  plate_->show_lines(std::move(lines));
}

QWidget* LoudnessView::make_foot() {
  auto* foot = new QWidget(this);
  auto* row = new QHBoxLayout(foot);
  row->setContentsMargins(0, 0, 0, 0);
  within_ = soft_label("", foot);
  within_->setWordWrap(true);
  row->addWidget(within_, 1);
  dialogue_ = new QPushButton(tr("Use as dialogue"), foot);
  dialogue_->setToolTip(tr("Outlets that measure long programmes by their dialogue take this stretch of the master"));
  connect(dialogue_, &QPushButton::clicked, this, &LoudnessView::name_dialogue);
  dialogue_->hide();
  row->addWidget(dialogue_);
  auto choice = [&](const QString& hint, const std::vector<std::pair<QString, QVariant>>& items) {
    auto* box = new QComboBox(foot);
    for (const auto& [text, value] : items) box->addItem(text, value);
    box->setToolTip(hint);
    box->setAccessibleName(hint);
    connect(box, &QComboBox::currentIndexChanged, this, &LoudnessView::measure_selection);
    row->addWidget(box);
    return box;
  };
  listen_ = choice(tr("What of the chosen rows is measured here"),
                   {{tr("all channels"), QPoint(int(Listen::all), 0)},
                    {tr("mono as from two"), QPoint(int(Listen::all), dual_mono)},
                    {tr("mid"), QPoint(int(Listen::mid), 0)},
                    {tr("side"), QPoint(int(Listen::side), 0)},
                    {tr("left"), QPoint(int(Listen::one), 0)},
                    {tr("right"), QPoint(int(Listen::one), 1)}});
  for (int c = 2; c < 8; ++c) listen_->addItem(tr("channel %1").arg(c + 1), QPoint(int(Listen::one), c));
  rms_window_ = choice(
      tr("Window of the greatest RMS"),
      {{tr("RMS in 50 ms"), 0.05}, {tr("RMS in 300 ms"), 0.3}, {tr("RMS in 1 s"), 1.0}, {tr("RMS in 10 s"), 10.0}});
  rms_window_->setCurrentIndex(usual_window);
  return foot;
}

MeterOptions LoudnessView::asked() const {
  MeterOptions options;
  const QPoint listen = listen_->currentData().toPoint();
  options.listen = Listen(listen.x());
  options.dual_mono = listen.y() == dual_mono;
  options.channel = options.dual_mono ? 0 : listen.y();
  options.rms_window_s = rms_window_->currentData().toDouble();
  return options;
}

namespace {

QString numbers_of(const LoudnessRow& row, const Loudness& l, const QString& unit) {
  auto shown = [](std::optional<double> v, int decimals) {
    return v ? number(*v, decimals) : QString::fromUtf8("\u2013");
  };
  return LoudnessView::tr("%1: %2 %3, range %4 LU, %5 dBTP, PLR %6, RMS %7, at most %8 dBFS")
      .arg(row.name, shown(l.integrated_lufs, 2), unit, shown(range_of(l), 1), shown(l.true_peak_dbtp, 2),
           shown(l.plr_db, 1), shown(l.rms_dbfs, 1), shown(l.rms_max_dbfs, 1));
}

}  // namespace

/// The chosen rows within what is selected in the plate and in the channels asked for, off the interface thread.
void LoudnessView::measure_selection() {
  narrow_.drop();
  show_within(within_->text(), {});
  std::vector<LoudnessRow> wanted;
  for (const std::string& id : chosen())
    if (const LoudnessRow* row = measured_.row(id)) wanted.push_back(*row);
  if (wanted.empty())
    return within_->setText(selection_ ? tr("Choose rows to measure the selection in them.") : QString());
  const bool plain = !selection_ && listen_->currentIndex() == 0 && rms_window_->currentIndex() == usual_window;
  const QString dot = QString::fromUtf8("   \u00b7   ");
  if (plain) {  // as the table has it
    QStringList words;
    for (const LoudnessRow& row : wanted)
      if (row.measured) words << numbers_of(row, row.measured->loudness, unit_->currentText());
    return show_within(words.join(dot), {});
  }
  within_->setText(tr("measuring…"));
  const QString from =
      selection_ ? tr("%1 to %2   ").arg(position(selection_->first, 1), position(selection_->second, 1)) : QString();
  narrow_.start([this, wanted, from, dot, unit = unit_->currentText(), ask = asked(), range = selection_](
                    const Job& job, const Tell& tell) {
    QStringList words;
    std::optional<std::pair<std::string, Dialogue>> stretch;
    for (const LoudnessRow& row : wanted) {
      try {
        auto clip = Clip::open(row.file, job);
        if (row.chain) clip = pass(clip, *row.chain, job, {grant_here()}).ret;
        MeterOptions own = ask;
        const double rate = clip->format().sample_rate_hz;
        if (range) own.first = int64_t(range->first * rate), own.last = int64_t(range->second * rate);
        const Loudness heard = measure_loudness(*clip, own, job);
        words << numbers_of(row, heard, unit);
        if (range && row.is_master && wanted.size() == 1 && ask.listen == Listen::all && heard.integrated_lufs)
          stretch = {row.id, {range->first, range->second, *heard.integrated_lufs}};
      } catch (const Cancelled&) {
        throw;
      } catch (const std::exception& error) {  // the others are measured all the same
        words << tr("%1: %2").arg(row.name, QString::fromUtf8(error.what()));
      }
    }
    const QString text = from + words.join(dot);
    tell([this, text, stretch] { show_within(text, stretch); });
  });
}

void LoudnessView::show_within(const QString& text, const std::optional<std::pair<std::string, Dialogue>>& stretch) {
  within_->setText(text);
  stretch_ = stretch;
  const LoudnessRow* one = chosen().size() == 1 && !selection_ ? measured_.row(chosen().front()) : nullptr;
  const bool forget = !stretch_ && one && one->dialogue;
  dialogue_->setText(forget ? tr("Forget dialogue") : tr("Use as dialogue"));
  dialogue_->setVisible(stretch_ || forget);
}

void LoudnessView::name_dialogue() {
  if (!stretch_) {
    measured_.set_dialogue(chosen().front(), {});
    return show_within(within_->text(), {});
  }
  measured_.set_dialogue(stretch_->first, stretch_->second);
  within_->setText(
      tr("%1 LUFS from %2 to %3 is the dialogue now: outlets that ask for it go by that.")
          .arg(number(stretch_->second.lufs, 1), clock(stretch_->second.from_s, 1), clock(stretch_->second.to_s, 1)));
  dialogue_->hide();
}

QString LoudnessView::csv() const {
  std::vector<Json> rows;
  for (int place = 0; place < table_->shown(); ++place) {
    const LoudnessRow& row = measured_.rows()[table_->row_at(place)];
    if (!row.measured) continue;
    const QString name = row.is_master ? row.name : row.master + ", " + row.name;
    rows.push_back(measured_json(name.toStdString(), *row.measured));
  }
  return QString::fromStdString(measured_csv(rows));
}

void LoudnessView::save_csv() { save_table(this, "loudness.csv", csv()); }

}  // namespace heathmist::app
