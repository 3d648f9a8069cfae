#include "app/pages/word_lengths/word_lengths_view.hpp"

#include <QSplitter>
#include <QVBoxLayout>
#include <algorithm>
#include <set>

#include "app/widgets/labels.hpp"
#include "app/widgets/saving.hpp"
#include "app/widgets/terms.hpp"
#include "core/compare/json.hpp"

namespace heathmist::app {

namespace {

constexpr int points = 400;
constexpr double name_at_hz = 8000, shown_error_db = 1;
constexpr size_t most_named = 6;  // more names than that cover what they name

/// From faint to full ink as bits go up; the chosen cut is heavier.
QColor ink_for(const WordCut& cut) {
  const QColor full = colour(Role::ink), faint = colour(Role::soft);
  const float t = float(cut.bits - 8) / 16;
  return QColor::fromRgbF(faint.redF() + t * (full.redF() - faint.redF()),
                          faint.greenF() + t * (full.greenF() - faint.greenF()),
                          faint.blueF() + t * (full.blueF() - faint.blueF()));
}

Qt::PenStyle style_for(const WordCut& cut) {
  return cut.dither == "none"          ? Qt::DashLine
         : cut.dither == "rectangular" ? Qt::DashDotLine
         : cut.dither == "gaussian"    ? Qt::DashDotDotLine
                                       : Qt::SolidLine;
}

}  // namespace

WordLengthsView::WordLengthsView(Queue& queue, QWidget* parent) : QWidget(parent), work_(queue) {
  auto* rows = new QVBoxLayout(this);
  rows->setContentsMargins(12, 4, 6, 6);
  rows->setSpacing(4);
  rows->addWidget(make_head());
  rows->addWidget(headline_ = answer_label(this, "word_noise"));
  auto* split = new QSplitter(Qt::Vertical, this);
  split->setHandleWidth(1);
  auto* plates = new QSplitter(Qt::Horizontal, split);
  plates->setHandleWidth(1);
  densities_ = new LinesPlate("word-lengths", tr("Noise of each word length, dBFS per root Hz, theory dotted"), plates);
  densities_->set_unit(tr("dBFS per root Hz"));
  densities_->set_depth(170, -290);
  densities_->set_legend(false);
  set_term(densities_, "word_noise");
  levels_ = new GraphPlate("low-levels", tr("What comes back of a tone, by what went in, theory dotted"), plates);
  set_term(levels_, "linearity");
  levels_->set_axes(tr("tone that went in, dBFS"), tr("came back, dB more or less"));
  for (QWidget* plate : {static_cast<QWidget*>(densities_), static_cast<QWidget*>(levels_)})
    plate->setMinimumSize(200, 160);
  plates->setSizes({430, 360});
  make_table(split);
  split->setSizes({400, 180});
  rows->addWidget(split, 1);
  connect(&work_, &LongWork::progressed, this,
          [this](double fraction) { note_->setText(work_.in_words(tr("cutting"), fraction)); });
  connect(&work_, &LongWork::ended, this, [this](Outcome outcome, const QString& failure) {
    run_->setText(tr("Run"));
    note_->setText(how_it_ended(outcome, failure));
    draw();
    emit rested();
  });
  connect(&Theme::instance(), &Theme::changed, this, &WordLengthsView::draw);
  draw();
}

QWidget* WordLengthsView::make_head() {
  auto* head = new QWidget(this);
  auto* row = new QHBoxLayout(head);
  row->setContentsMargins(0, 0, 0, 0);
  row->setSpacing(6);
  auto choice = [&](const QString& hint, const std::vector<std::pair<QString, QVariant>>& items, int initial) {
    auto* box = new QComboBox(head);
    for (const auto& [text, value] : items) box->addItem(text, value);
    box->setCurrentIndex(initial);
    box->setToolTip(hint);
    box->setAccessibleName(hint);
    connect(box, &QComboBox::currentIndexChanged, this, &WordLengthsView::fill);
    row->addWidget(box);
    return box;
  };
  bits_ = choice(tr("Which word lengths are shown"),
                 {{tr("all word lengths"), 0},
                  {tr("8 bit"), 8},
                  {tr("12 bit"), 12},
                  {tr("16 bit"), 16},
                  {tr("20 bit"), 20},
                  {tr("24 bit"), 24}},
                 0);
  dither_ = choice(tr("With which dither"),
                   {{tr("every dither"), ""},
                    {tr("no dither"), "none"},
                    {tr("RPDF"), "rectangular"},
                    {tr("TPDF"), "triangular"},
                    {tr("high-passed TPDF"), "triangular_high"},
                    {tr("Gaussian"), "gaussian"}},
                   3);
  row->addWidget(note_ = note_label(head), 1);
  hear_ = new QPushButton(tr("Hear a fade through it"), head);
  hear_->setToolTip(
      tr("A chord that fades away under the last step, before and after the cut, turned up so that it can be heard"));
  connect(hear_, &QPushButton::clicked, this, &WordLengthsView::hear);
  row->addWidget(hear_);
  auto* save = new QPushButton(tr("Save as CSV…"), head);
  connect(save, &QPushButton::clicked, this, [this] { save_table(this, "word-lengths.csv", csv()); });
  row->addWidget(save);
  run_ = new QPushButton(tr("Run"), head);
  run_->setProperty("main", true);
  run_->setObjectName("run");
  run_->setToolTip(tr("Cut a tone and a fading tone to every word length with every dither, and read what is left"));
  connect(run_, &QPushButton::clicked, this, [this] { work_.is_running() ? work_.cancel() : start(); });
  row->addWidget(run_);
  return head;
}

void WordLengthsView::make_table(QWidget* parent) {
  table_ = new ResultTable(tr("Word lengths and dithers"), parent);
  table_->set_empty(tr("A row for each word length: its noise, what theory says, and how true low levels stay"));
  const auto value = [this](double WordRow::*of) {
    return [this, of](size_t n) { return number_cell(rows_[n].*of, 2); };
  };
  table_->set_columns(
      {{tr("Cut to"),
        {},
        [this](size_t n) { return Cell{QString::fromStdString(label_of(rows_[n].cut))}; },
        false,
        app::Column::stretch},
       {tr("Noise, dBFS"), tr("Of the error, 20 Hz to 20 kHz, with 997 Hz at −20 dBFS on the way"),
        value(&WordRow::noise_dbfs), true, 124, "word_noise"},
       {tr("Theory, dBFS"), tr("Of rounding and dither together"), value(&WordRow::theory_dbfs), true, 124,
        "word_noise"},
       {tr("A-weighted, dBFS"), {}, value(&WordRow::noise_a_dbfs), true, 124, "word_noise"},
       {tr("Linear within, dB"),
        tr("The greatest departure of a tone's level, where noise lets it be read within 0.1 dB"),
        [this](size_t n) { return number_cell(std::abs(rows_[n].worst_linearity_db), 2); }, true, 124, "linearity"}});
  table_->setMinimumHeight(90);
  table_->sort_by(noise_column, Qt::DescendingOrder);
  connect(table_, &ResultTable::chosen_changed, this, &WordLengthsView::draw);
}

/// It takes few seconds and none of the user's files: the page opens with an answer.
void WordLengthsView::showEvent(QShowEvent* event) {
  QWidget::showEvent(event);
  if (!was_run_) start();
}

void WordLengthsView::start() {
  was_run_ = true;
  run_->setText(tr("Cancel"));
  rows_.clear();
  fill();
  work_.start([this](const Job& job, const Tell& tell) {
    const auto cuts = board_cuts();
    for_each_segment(
        int64_t(cuts.size()), job, [] { return 0; },
        [&](int, int64_t n) {
          auto row =
              std::make_shared<WordRow>(read_word_cut(cuts[size_t(n)], WordLengthsView::rate_hz, Job{job.stop, {}, 1}));
          tell([this, row] {
            rows_.push_back(std::move(*row));
            fill();
          });
        });
  });
}

bool WordLengthsView::is_in(const WordCut& cut) const {
  const int bits = bits_->currentData().toInt();
  const std::string dither = dither_->currentData().toString().toStdString();
  return (bits == 0 || bits == cut.bits) && (dither.empty() || dither == cut.dither);
}

void WordLengthsView::show_only(int bits, const std::string& dither) {
  bits_->setCurrentIndex(std::max(0, bits_->findData(bits)));
  dither_->setCurrentIndex(std::max(0, dither_->findData(QString::fromStdString(dither))));
}

void WordLengthsView::fill() {
  table_->set_rows(rows_.size(), [this](size_t n) { return QString::fromStdString(label_of(rows_[n].cut)); });
  table_->set_filter([this](size_t n) { return is_in(rows_[n].cut); });
  draw();
}

const WordRow* WordLengthsView::chosen() const {
  const auto rows = table_->chosen();
  return rows.empty() || rows.front() >= rows_.size() ? nullptr : &rows_[rows.front()];
}

std::vector<NamedLine> WordLengthsView::density_lines() const {
  std::vector<NamedLine> lines;
  Showing showing;
  showing.unit = SpectrumUnit::per_root_hz, showing.points = points, showing.high_hz = WordLengthsView::rate_hz / 2.0;
  for (const WordRow& r : rows_) {
    if (!is_in(r.cut)) continue;
    const bool heavy = chosen() == &r;
    SpectrumLine curve = smoothed(r.error.average, showing.low_hz, showing.high_hz, points, true, 12);
    const double shift = 10 * std::log10(2 / r.error.average.bin_hz);
    for (double& db : curve.db) db += shift;
    NamedLine theory{tr("%1, theory").arg(QString::fromStdString(label_of(r.cut))),
                     curve.hz,
                     {},
                     colour(Role::straw),
                     Qt::DotLine,
                     false,
                     1.6};
    for (const double hz : curve.hz) theory.db.push_back(theory_per_root_hz(r.cut, hz, WordLengthsView::rate_hz));
    lines.push_back({QString::fromStdString(label_of(r.cut)), std::move(curve.hz), std::move(curve.db), ink_for(r.cut),
                     style_for(r.cut), false, heavy ? 2.4 : 1.2});
    lines.push_back(std::move(theory));
  }
  return lines;
}

std::vector<LineMark> WordLengthsView::density_words() const {
  std::vector<LineMark> words;
  std::set<int> named;
  for (const WordRow& r : rows_)
    if (is_in(r.cut) && (chosen() == &r || named.insert(r.cut.bits).second))
      words.push_back({name_at_hz, theory_per_root_hz(r.cut, name_at_hz, WordLengthsView::rate_hz),
                       QString::fromStdString(label_of(r.cut)), colour(Role::ink), false});
  return words;
}

std::vector<Series> WordLengthsView::level_series() const {
  std::vector<Series> all;
  for (const WordRow& r : rows_) {
    if (!is_in(r.cut)) continue;
    Series read{QString::fromStdString(label_of(r.cut)), {}, {}, {}, ink_for(r.cut), style_for(r.cut), true};
    Series theory{"", {}, {}, {}, colour(Role::straw), Qt::DotLine, true, false};
    for (const LevelPoint& p : r.levels) {
      if (p.out_dbfs && p.error_db < shown_error_db) {
        read.xs.push_back(p.in_dbfs), read.ys.push_back(*p.out_dbfs - p.in_dbfs);
        read.errors.push_back(p.error_db);
      }
      if (p.theory_dbfs) theory.xs.push_back(p.in_dbfs), theory.ys.push_back(*p.theory_dbfs - p.in_dbfs);
    }
    all.push_back(std::move(read));
    all.push_back(std::move(theory));
  }
  if (all.size() > 2 * most_named)
    for (Series& s : all) s.name.clear();
  if (!all.empty()) all.back().name = tr("theory");
  return all;
}

void WordLengthsView::draw() {
  densities_->show_lines([this] { return density_lines(); }, [this] { return density_words(); });
  levels_->show_series([this] { return level_series(); });
  const WordRow* row = chosen();
  hear_->setEnabled(row != nullptr);
  headline_->setText(
      row ? QString("%1: %2").arg(QString::fromStdString(label_of(row->cut)), QString::fromStdString(label_of(*row)))
      : !rows_.empty() ? tr("Choose a word length to read it in words and to hear a fade through it.")
      : work_.is_running()
          ? tr("Cutting…")
          : tr("What does each word length leave, and how true do low levels stay? Run reads them all."));
}

void WordLengthsView::hear() {
  if (const WordRow* row = chosen()) emit hear_wanted(row->cut);
}

QString WordLengthsView::csv() const {
  std::vector<Json> table;
  for (const WordRow& row : rows_) table.push_back(word_line(row));
  return QString::fromStdString(csv_of(table));
}

}  // namespace heathmist::app
