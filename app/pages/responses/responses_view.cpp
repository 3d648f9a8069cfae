#include "app/pages/responses/responses_view.hpp"

#include <QDragEnterEvent>
#include <QHBoxLayout>
#include <QMimeData>
#include <QSplitter>
#include <QVBoxLayout>
#include <algorithm>

#include "app/theme/theme.hpp"
#include "app/widgets/audio_files.hpp"
#include "app/widgets/labels.hpp"
#include "app/widgets/terms.hpp"
#include "core/compare/json.hpp"

namespace heathmist::app {

namespace {

QString name_of(const ResponseRow& row) { return QString::fromStdString(row.file.stem().string()); }
QString seconds(double s) {
  return s < 1 ? QObject::tr("%1 ms").arg(number(1000 * s, 0)) : QObject::tr("%1 s").arg(number(s, 2));
}

QString share(double work) { return QObject::tr("%1 %").arg(number(100 * work, 1)); }

ResponseRow read_row(ResponseRow row, const Spectrum* programme, const Job& job) {
  try {
    row.study = study_response_file(row.file, programme, job);
  } catch (const Cancelled&) {
    throw;
  } catch (const std::exception& error) {
    row.failure = QString::fromUtf8(error.what());
  }
  return row;
}

QStringList names_in(const QComboBox& box) {
  QStringList all;
  for (int n = 0; n < box.count(); ++n) all << box.itemText(n) + "\n" + box.itemData(n).toString();
  return all;
}

}  // namespace

ResponsesView::ResponsesView(Queue& queue, QWidget* parent) : QWidget(parent), work_(queue), nulling_(queue) {
  setAcceptDrops(true);
  auto* rows = new QVBoxLayout(this);
  rows->setContentsMargins(12, 4, 12, 6);
  rows->setSpacing(4);
  rows->addWidget(make_head());
  rows->addWidget(answer_ = answer_label(this, "reverberation"));
  rows->addWidget(detail_ = soft_label({}, this));
  detail_->setWordWrap(true);
  auto* split = new QSplitter(Qt::Vertical, this);
  split->setHandleWidth(1);
  make_table(split);
  auto* plots = new QSplitter(Qt::Horizontal, split);
  plots->setChildrenCollapsible(false);
  decays_ = new GraphPlate("decay", tr("Energy that is left of each response over time"), plots);
  set_term(decays_, "reverberation");
  decays_->set_axes(tr("seconds after its onset"), tr("left of it, dB"));
  gains_ = new LinesPlate("gain", tr("Gain of each response over frequency, by sixth octaves"), plots);
  gains_->set_unit(tr("gain, dB"));
  set_term(gains_, "response_gain");
  gains_->set_legend(false);
  plots->setSizes({500, 500});
  split->setSizes({200, 360});
  rows->addWidget(split, 1);
  connect(&work_, &LongWork::ended, this, [this](Outcome outcome, const QString& failure) {
    note_->setText(how_it_ended(outcome, failure));
    null_chosen();
    emit rested();
  });
  connect(&nulling_, &LongWork::ended, this, [this](Outcome, const QString& failure) {
    if (!failure.isEmpty()) answer_->setText(failure);
  });
  connect(&Theme::instance(), &Theme::changed, this, &ResponsesView::draw);
  draw();
}

QWidget* ResponsesView::make_head() {
  auto* head = new QWidget(this);
  auto* row = new QHBoxLayout(head);
  row->setContentsMargins(0, 0, 0, 0);
  row->setSpacing(6);
  row->addWidget(soft_label(tr("for"), head));
  programme_ = new QComboBox(head);
  programme_->addItem(tr("white noise"), QString());
  programme_->setAccessibleName(tr("The programme that what is enough is reckoned for"));
  programme_->setToolTip(programme_->accessibleName());
  programme_->setMinimumContentsLength(14);
  row->addWidget(programme_);
  row->addWidget(soft_label(tr("taken for"), head));
  taken_for_ = new QComboBox(head);
  taken_for_->addItem(tr("its own rate"), 0);
  for (const int hz : {44100, 48000, 88200, 96000}) taken_for_->addItem(tr("%1 kHz").arg(hz / 1000.0), hz);
  taken_for_->setAccessibleName(tr("The rate an engine takes a response to be of"));
  taken_for_->setToolTip(taken_for_->accessibleName());
  row->addWidget(taken_for_);
  note_ = note_label(head);
  row->addWidget(note_, 1);
  auto* take_out = new QPushButton(tr("Take out"), head);
  take_out->setToolTip(tr("The chosen responses leave the list; their files stay"));
  connect(take_out, &QPushButton::clicked, this, &ResponsesView::taking_out_wanted);
  row->addWidget(take_out);
  auto* add_files = new QPushButton(tr("Add responses\u2026"), head);
  add_files->setProperty("main", true);
  connect(add_files, &QPushButton::clicked, this, &ResponsesView::adding_wanted);
  row->addWidget(add_files);
  connect(programme_, &QComboBox::currentIndexChanged, this, [this] {
    spectrum_.reset();
    for (ResponseRow& r : rows_) r.study.reset();
    null_.reset();
    draw();
    run();
  });
  connect(taken_for_, &QComboBox::currentIndexChanged, this, &ResponsesView::draw);
  return head;
}

void ResponsesView::make_table(QWidget* parent) {
  table_ = new ResultTable(tr("Impulse responses"), parent);
  const auto of = [this](auto what) {
    return [this, what](size_t n) -> Cell {
      if (!rows_[n].failure.isEmpty()) return {{}, {}, rows_[n].failure};
      return rows_[n].study ? what(*rows_[n].study, rows_[n].study->reading) : Cell{QString::fromUtf8("\u2026")};
    };
  };
  const auto time = [of](const QString& title, const QString& hint, std::optional<double> ImpulseResponse::*member) {
    return Column{title,
                  hint,
                  of([member](const ResponseStudy&, const ImpulseResponse& r) {
                    return r.*member ? Cell{seconds(*(r.*member)), *(r.*member)} : number_cell({}, 0);
                  }),
                  true,
                  60,
                  "reverberation"};
  };
  const auto enough = [of](size_t place) {
    return Column{
        QObject::tr("To %1").arg(number(response_cuts_db[place], 0)),
        QObject::tr("How much of it is enough: what lies behind adds no more than this, against the whole, dB"),
        of([place](const ResponseStudy& s, const ImpulseResponse& r) {
          const auto& cut = s.cuts[place];
          if (!cut.frames) return Cell{QObject::tr("all of it"), 1e9};
          const double length_s = double(*cut.frames) / r.sample_rate_hz;
          return Cell{seconds(length_s), length_s,
                      cut.work ? QObject::tr("%1 of one core").arg(share(*cut.work)) : QString()};
        }),
        true,
        66,
        "cut"};
  };
  table_->set_columns({{tr("Response"),
                        {},
                        [this](size_t n) {
                          return Cell{name_of(rows_[n]),
                                      {},
                                      rows_[n].failure.isEmpty() ? QString::fromStdString(rows_[n].file.string())
                                                                 : rows_[n].failure,
                                      rows_[n].failure.isEmpty() ? std::nullopt : std::optional(Role::rust)};
                        },
                        false,
                        Column::stretch},
                       {tr("Rate"),
                        {},
                        of([](const ResponseStudy&, const ImpulseResponse& r) {
                          return Cell{tr("%1 kHz").arg(r.sample_rate_hz / 1000.0), double(r.sample_rate_hz)};
                        }),
                        true,
                        74,
                        "sample_rate"},
                       {tr("Length"),
                        {},
                        of([](const ResponseStudy&, const ImpulseResponse& r) {
                          return Cell{seconds(r.length_s), r.length_s};
                        }),
                        true,
                        70,
                        "time"},
                       {tr("Onset"), tr("Where it first comes within 20 dB of its peak"),
                        of([](const ResponseStudy&, const ImpulseResponse& r) {
                          return Cell{tr("%1 ms").arg(number(1000 * r.onset_s, 1)), r.onset_s};
                        }),
                        true, 72, "onset"},
                       time(tr("T20"), tr("Time of 60 dB, by the decay from \u22125 to \u221225 dB (ISO 3382-1)"),
                            &ImpulseResponse::t20_s),
                       time(tr("T30"), tr("Time of 60 dB, by the decay from \u22125 to \u221235 dB (ISO 3382-1)"),
                            &ImpulseResponse::t30_s),
                       {tr("C80, dB"), tr("The first 80 ms against the rest"),
                        of([](const ResponseStudy&, const ImpulseResponse& r) { return number_cell(r.clarity_db, 1); }),
                        true, 70, "clarity"},
                       enough(0),
                       enough(1),
                       enough(2),
                       {tr("Work"), tr("Of one core for stereo at its rate, on this machine as it was"),
                        of([](const ResponseStudy& s, const ImpulseResponse&) {
                          return s.work ? Cell{share(*s.work), *s.work} : number_cell({}, 0);
                        }),
                        true, 66, "work"}});
  table_->setSelectionMode(QAbstractItemView::ExtendedSelection);
  connect(table_, &ResultTable::chosen_changed, this, &ResponsesView::null_chosen);
}

/// Only where they are others: a list that is open stays open.
void ResponsesView::fill_programmes(const Bench& bench) {
  QComboBox fresh;
  fresh.addItem(programme_->itemText(0), programme_->itemData(0));
  for (const Master& m : bench.masters)
    fresh.addItem(QString::fromStdString(m.name), QString::fromStdString(m.audio.file.string()));
  if (names_in(fresh) == names_in(*programme_)) return;
  const auto before = programme_->currentData();
  {
    const QSignalBlocker quiet(programme_);
    programme_->clear();
    for (int n = 0; n < fresh.count(); ++n) programme_->addItem(fresh.itemText(n), fresh.itemData(n));
    programme_->setCurrentIndex(std::max(0, programme_->findData(before)));
  }
  if (programme_->currentData() != before) emit programme_->currentIndexChanged(programme_->currentIndex());
}

void ResponsesView::show_bench(const Bench& bench) {
  fill_programmes(bench);
  std::vector<ResponseRow> fresh;
  for (const FileRef& ref : bench.responses) {
    const auto it = std::find_if(rows_.begin(), rows_.end(), [&](const ResponseRow& r) { return r.file == ref.file; });
    fresh.push_back(it == rows_.end() ? ResponseRow{ref.file} : *it);
  }
  const bool others = !std::equal(fresh.begin(), fresh.end(), rows_.begin(), rows_.end(),
                                  [](const ResponseRow& a, const ResponseRow& b) { return a.file == b.file; });
  if (others) {
    rows_ = std::move(fresh);
    null_.reset();
    draw();
  }
  if (others || !work_.is_running()) run();  // it is told of every row that the ledger learns
}

std::filesystem::path ResponsesView::programme_file() const {
  return programme_->currentData().toString().toStdString();
}

std::vector<std::filesystem::path> ResponsesView::chosen() const {
  std::vector<std::filesystem::path> files;
  for (const size_t n : table_->chosen()) files.push_back(rows_[n].file);
  return files;
}

void ResponsesView::forget(const std::filesystem::path& file) {
  const bool of_programme = file == programme_file();
  if (of_programme) spectrum_.reset();
  bool any = false;
  for (ResponseRow& r : rows_)
    if (r.file == file || of_programme) r = {r.file}, any = true;
  if (!any) return;
  null_.reset();
  draw();
  run();
}

/// Off the interface thread: worked out once, and kept until it is another.
std::shared_ptr<const Spectrum> ResponsesView::programme(const Job& job, const Tell& tell,
                                                         const std::filesystem::path& file,
                                                         std::shared_ptr<const Spectrum> known) {
  if (known || file.empty()) return known;
  auto spectrum = programme_spectrum(file, job);
  tell([this, spectrum] { spectrum_ = spectrum; });
  return spectrum;
}

void ResponsesView::run() {
  std::vector<ResponseRow> open;
  for (const ResponseRow& r : rows_)
    if (r.failure.isEmpty() && !r.study) open.push_back(r);
  if (open.empty()) {
    work_.drop();
    return note_->clear();
  }
  if (!isVisible()) return;
  note_->setText(tr("reading\u2026"));
  work_.start([this, open, file = programme_file(), known = spectrum_](const Job& job, const Tell& tell) {
    const auto spectrum = programme(job.part(0, 0.2), tell, file, known);
    for (size_t n = 0; n < open.size(); ++n) {
      const auto count = double(open.size());
      const Job part = job.part(0.2 + 0.8 * double(n) / count, 0.2 + 0.8 * double(n + 1) / count);
      tell([this, row = read_row(open[n], spectrum.get(), part)] { take(row); });
    }
  });
}

void ResponsesView::take(const ResponseRow& row) {
  for (ResponseRow& r : rows_)
    if (r.file == row.file) r = row;
  draw();
}

/// Two that are chosen are nulled with each other.
void ResponsesView::null_chosen() {
  null_.reset();
  nulling_.drop();
  const auto chosen = table_->chosen();
  if (chosen.size() == 2 && rows_[chosen[0]].study && rows_[chosen[1]].study)
    nulling_.start([this, a = rows_[chosen[0]].file, b = rows_[chosen[1]].file, file = programme_file(),
                    known = spectrum_](const Job& job, const Tell& tell) {
      const auto spectrum = programme(job.part(0, 0.3), tell, file, known);
      const auto null = null_responses(Clip::open(a), Clip::open(b), spectrum.get(), job.part(0.3, 1));
      tell([this, null] {
        null_ = null;
        draw();
      });
    });
  draw();
}

QString ResponsesView::answer_for(const std::vector<size_t>& chosen) const {
  if (rows_.empty()) return tr("How much of an impulse response is enough? Add some, or drop them here.");
  if (chosen.size() == 2 && null_)
    return tr("Nulled with each other, %1 and %2 leave %3 dBr.")
        .arg(name_of(rows_[chosen[0]]), name_of(rows_[chosen[1]]), number(null_->whole_db, 1));
  const ResponseRow& row = rows_[chosen.empty() ? 0 : chosen.front()];
  if (!row.failure.isEmpty()) return row.failure;
  if (!row.study) return tr("Reading %1\u2026").arg(name_of(row));
  const ImpulseResponse& r = row.study->reading;
  const QString decay = r.t30_s   ? tr("rings for %1 (T30)").arg(seconds(*r.t30_s))
                        : r.t20_s ? tr("rings for %1 (T20)").arg(seconds(*r.t20_s))
                                  : tr("does not fall far enough to tell its time");
  constexpr size_t told = 1;
  const auto enough = row.study->cuts[told].frames;
  if (!enough) return tr("%1 %2; all of it is needed.").arg(name_of(row), decay);
  return tr("%1 %2; %3 of it are enough %4 dB under %5.")
      .arg(name_of(row), decay, seconds(double(*enough) / r.sample_rate_hz), number(-response_cuts_db[told], 0),
           programme_->currentText());
}

/// The chosen ones stand out; each keeps its dashes in both plots.
ResponsesView::Stroke ResponsesView::stroke_of(size_t row) const {
  constexpr Qt::PenStyle styles[] = {Qt::DashLine, Qt::DotLine, Qt::DashDotLine, Qt::DashDotDotLine};
  const auto chosen = table_->chosen();
  const bool bold = chosen.empty() ? row == 0 : std::find(chosen.begin(), chosen.end(), row) != chosen.end();
  const bool solid = bold && (chosen.empty() || row == chosen.front());
  return {colour(bold ? Role::residual : Role::soft), solid ? Qt::SolidLine : styles[row % std::size(styles)]};
}

std::vector<Series> ResponsesView::decay_series() const {
  std::vector<Series> all;
  for (size_t n = 0; n < rows_.size(); ++n) {
    if (!rows_[n].study) continue;
    Series s;
    s.name = name_of(rows_[n]), s.marked = false;
    s.ink = stroke_of(n).ink, s.style = stroke_of(n).style;
    for (const auto& [at, db] : rows_[n].study->reading.decay)
      if (db > -120) s.xs.push_back(at), s.ys.push_back(db);
    all.push_back(std::move(s));
  }
  return all;
}

std::vector<NamedLine> ResponsesView::gain_lines() const {
  std::vector<NamedLine> all;
  for (size_t n = 0; n < rows_.size(); ++n) {
    if (!rows_[n].study) continue;
    const SpectrumLine& gain = rows_[n].study->reading.gain;
    all.push_back({name_of(rows_[n]), gain.hz, gain.db, stroke_of(n).ink, stroke_of(n).style});
  }
  return all;
}

QString ResponsesView::detail_for(const std::vector<size_t>& chosen) const {
  QStringList sentences;
  if (chosen.size() == 2 && null_)
    sentences << tr("The early part, up to 80 ms after the onset, leaves %1 dBr; the tail %2 dBr.")
                     .arg(number(null_->early_db, 1), number(null_->late_db, 1));
  const int taken = taken_for_->currentData().toInt();
  if (taken == 0 || rows_.empty()) return sentences.join(" ");
  const ResponseRow& row = rows_[chosen.empty() ? 0 : chosen.front()];
  if (!row.study || row.study->reading.sample_rate_hz == taken) return sentences.join(" ");
  const WrongRate wrong = at_wrong_rate(row.study->reading.sample_rate_hz, taken);
  sentences << tr("Taken for %1 kHz, everything in %2 shifts by %3 cents, and it rings %4 times as long.")
                   .arg(taken / 1000.0)
                   .arg(name_of(row), number(wrong.cents, 0), number(wrong.length_factor, 2));
  return sentences.join(" ");
}

void ResponsesView::draw() {
  table_->set_rows(rows_.size(), [this](size_t n) { return QString::fromStdString(rows_[n].file.string()); });
  const auto chosen = table_->chosen();
  answer_->setText(answer_for(chosen));
  detail_->setText(detail_for(chosen));
  detail_->setVisible(!detail_->text().isEmpty());
  decays_->show_series([this] { return decay_series(); });
  gains_->show_lines([this] { return gain_lines(); });
}

QString ResponsesView::csv() const {
  std::vector<Json> table;
  for (const ResponseRow& row : rows_)
    if (row.study) table.push_back(response_json(row.file, *row.study));
  return QString::fromStdString(csv_of(table, {"response"}));
}

void ResponsesView::dragEnterEvent(QDragEnterEvent* event) {
  if (event->mimeData()->hasUrls()) event->acceptProposedAction();
}

void ResponsesView::dropEvent(QDropEvent* event) { emit files_dropped(dropped_files(*event)); }

}  // namespace heathmist::app
