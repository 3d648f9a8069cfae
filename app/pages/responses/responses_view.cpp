#include "app/pages/responses/responses_view.hpp"

#include <QDragEnterEvent>
#include <QElapsedTimer>
#include <QHBoxLayout>
#include <QMimeData>
#include <QSplitter>
#include <QVBoxLayout>
#include <algorithm>

#include "app/theme/theme.hpp"
#include "app/widgets/audio_files.hpp"
#include "app/widgets/labels.hpp"
#include "core/audio/scratch.hpp"
#include "core/compare/json.hpp"
#include "core/dsp/noise.hpp"
#include "core/stages/chain.hpp"

namespace heathmist::app {

namespace {

const std::vector<double>& enough_db() {
  static const std::vector<double> all{-60, -80, -100};
  return all;
}

QString name_of(const ResponseRow& row) { return QString::fromStdString(row.file.stem().string()); }
QString seconds(double s) {
  return s < 1 ? QObject::tr("%1 ms").arg(number(1000 * s, 0)) : QObject::tr("%1 s").arg(number(s, 2));
}

/// What a second of stereo takes: ten of them through the convolution itself.
double cost_of(const std::filesystem::path& file, int rate_hz, const Job& job) {
  constexpr int length_s = 10;
  dsp::Noise chance(1);
  Planar noise(2, int64_t(length_s) * rate_hz);
  for (int c = 0; c < 2; ++c)
    for (double& v : noise.channel(c)) v = 0.1 * chance.gaussian();
  Chain chain;
  chain.stages = {{"convolution", {{"response", file.string()}}}};
  const auto clip = made_clip(noise, rate_hz, "noise");
  QElapsedTimer timer;
  timer.start();
  pass(clip, chain, Job{job.stop, {}, 1});
  return double(timer.nsecsElapsed()) / 1e9 / length_s;
}

ResponseRow read_row(ResponseRow row, const std::optional<Spectrum>& programme, const Job& job) {
  try {
    const auto clip = Clip::open(row.file, job.part(0, 0.1));
    row.reading = study_response(*clip, job.part(0.1, 0.2));
    row.enough = enough_frames(*clip, enough_db(), programme, job.part(0.2, 0.7));
    if (clip->format().channels <= 2) row.cost = cost_of(row.file, clip->format().sample_rate_hz, job);
  } catch (const Cancelled&) {
    throw;
  } catch (const std::exception& error) {
    row.reading.reset(), row.failure = QString::fromUtf8(error.what());
  }
  return row;
}

/// As fine as a response of a second asks for.
std::optional<Spectrum> programme_of(const std::filesystem::path& file, const Job& job) {
  if (file.empty()) return {};
  const auto clip = Clip::open(file, job.part(0, 0.5));
  return average_spectrum(*clip, 8192, 0, -1, 400, job.part(0.5, 1));
}

}  // namespace

ResponsesView::ResponsesView(Queue& queue, QWidget* parent) : QWidget(parent), work_(queue), nulling_(queue) {
  setAcceptDrops(true);
  auto* rows = new QVBoxLayout(this);
  rows->setContentsMargins(12, 4, 12, 6);
  rows->setSpacing(4);
  rows->addWidget(make_head());
  rows->addWidget(answer_ = answer_label(this));
  rows->addWidget(detail_ = soft_label({}, this));
  detail_->setWordWrap(true);
  auto* split = new QSplitter(Qt::Vertical, this);
  split->setHandleWidth(1);
  make_table(split);
  decays_ = new GraphPlate("decay", tr("Energy that is left of each response over time"), split);
  decays_->set_axes(tr("seconds after its onset"), tr("left of it, dB"));
  split->setSizes({200, 360});
  rows->addWidget(split, 1);
  connect(&work_, &LongWork::ended, this, [this](Outcome outcome, const QString& failure) {
    note_->setText(how_it_ended(outcome, failure));
    look_at_chosen();
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
  connect(take_out, &QPushButton::clicked, this, &ResponsesView::remove_chosen);
  row->addWidget(take_out);
  auto* add_files = new QPushButton(tr("Add responses\u2026"), head);
  add_files->setProperty("main", true);
  connect(add_files, &QPushButton::clicked, this, [this] {
    std::vector<std::filesystem::path> files;
    for (const QString& file : choose_audio_files(this)) files.push_back(file.toStdString());
    add(files);
  });
  row->addWidget(add_files);
  connect(programme_, &QComboBox::currentIndexChanged, this, [this] {
    for (ResponseRow& r : rows_) r.enough.clear();
    null_.reset();
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
      return rows_[n].reading ? what(rows_[n], *rows_[n].reading) : Cell{QString::fromUtf8("\u2026")};
    };
  };
  const auto time = [of](const QString& title, const QString& hint, std::optional<double> ImpulseResponse::*member) {
    return Column{title, hint, of([member](const ResponseRow&, const ImpulseResponse& r) {
                    return r.*member ? Cell{seconds(*(r.*member)), *(r.*member)} : number_cell({}, 0);
                  }),
                  true, 60};
  };
  const auto enough = [of](size_t place) {
    return Column{
        QObject::tr("To %1").arg(number(enough_db()[place], 0)),
        QObject::tr("How much of it is enough: what lies behind adds no more than this, against the whole, dB"),
        of([place](const ResponseRow& row, const ImpulseResponse& r) {
          if (place >= row.enough.size()) return Cell{QString::fromUtf8("\u2026")};
          if (!row.enough[place]) return Cell{QObject::tr("all of it"), 1e9};
          const double s = double(*row.enough[place]) / r.sample_rate_hz;
          return Cell{seconds(s), s};
        }),
        true, 66};
  };
  table_->set_columns(
      {{tr("Response"),
        {},
        [this](size_t n) {
          return Cell{name_of(rows_[n]),
                      {},
                      rows_[n].failure.isEmpty() ? QString::fromStdString(rows_[n].file.string()) : rows_[n].failure,
                      rows_[n].failure.isEmpty() ? std::nullopt : std::optional(Role::rust)};
        },
        false,
        Column::stretch},
       {tr("Rate"),
        {},
        of([](const ResponseRow&, const ImpulseResponse& r) {
          return Cell{tr("%1 kHz").arg(r.sample_rate_hz / 1000.0), double(r.sample_rate_hz)};
        }),
        true,
        74},
       {tr("Length"),
        {},
        of([](const ResponseRow&, const ImpulseResponse& r) {
          return Cell{seconds(r.length_s), r.length_s};
        }),
        true,
        70},
       {tr("Onset"), tr("Where it first comes within 20 dB of its peak"),
        of([](const ResponseRow&, const ImpulseResponse& r) {
          return Cell{tr("%1 ms").arg(number(1000 * r.onset_s, 1)), r.onset_s};
        }),
        true, 72},
       time(tr("T20"), tr("Time of 60 dB, by the decay from \u22125 to \u221225 dB (ISO 3382-1)"),
            &ImpulseResponse::t20_s),
       time(tr("T30"), tr("Time of 60 dB, by the decay from \u22125 to \u221235 dB (ISO 3382-1)"),
            &ImpulseResponse::t30_s),
       {tr("C80, dB"), tr("The first 80 ms against the rest"),
        of([](const ResponseRow&, const ImpulseResponse& r) { return number_cell(r.clarity_db, 1); }), true, 70},
       enough(0),
       enough(1),
       enough(2),
       {tr("Work"), tr("Of one core for stereo at its rate, on this machine as it was"),
        of([](const ResponseRow& row, const ImpulseResponse&) {
          return row.cost ? Cell{tr("%1 %").arg(number(100 * *row.cost, 1)), *row.cost} : number_cell({}, 0);
        }),
        true, 66}});
  table_->setSelectionMode(QAbstractItemView::ExtendedSelection);
  connect(table_, &ResultTable::chosen_changed, this, &ResponsesView::look_at_chosen);
}

void ResponsesView::show_bench(const Bench& bench) {
  const auto before = programme_->currentData();
  const QSignalBlocker quiet(programme_);
  while (programme_->count() > 1) programme_->removeItem(1);
  for (const Master& m : bench.masters)
    programme_->addItem(QString::fromStdString(m.name), QString::fromStdString(m.audio.file.string()));
  programme_->setCurrentIndex(std::max(0, programme_->findData(before)));
  if (!work_.is_running()) run();  // it is told of every row that the ledger learns
}

std::filesystem::path ResponsesView::programme_file() const {
  return programme_->currentData().toString().toStdString();
}

void ResponsesView::add(const std::vector<std::filesystem::path>& files) {
  for (const auto& file : files)
    if (std::none_of(rows_.begin(), rows_.end(), [&](const ResponseRow& r) { return r.file == file; }))
      rows_.push_back({file});
  draw();
  emit files_changed();
  run();
}

void ResponsesView::remove_chosen() {
  auto chosen = table_->chosen();
  std::sort(chosen.rbegin(), chosen.rend());
  for (const size_t n : chosen) rows_.erase(rows_.begin() + long(n));
  null_.reset();
  draw();
  emit files_changed();
}

void ResponsesView::forget(const std::filesystem::path& file) {
  for (ResponseRow& r : rows_)
    if (r.file == file) r = {file};
  if (file == programme_file())
    for (ResponseRow& r : rows_) r.enough.clear();
  run();
}

std::vector<std::filesystem::path> ResponsesView::files() const {
  std::vector<std::filesystem::path> all;
  for (const ResponseRow& r : rows_) all.push_back(r.file);
  return all;
}

void ResponsesView::run() {
  std::vector<ResponseRow> open;
  for (const ResponseRow& r : rows_)
    if (r.failure.isEmpty() && (!r.reading || r.enough.empty())) open.push_back(r);
  if (open.empty() || !isVisible()) return;
  note_->setText(tr("reading\u2026"));
  work_.start([this, open, file = programme_file()](const Job& job, const Tell& tell) {
    const auto programme = programme_of(file, job.part(0, 0.2));
    for (size_t n = 0; n < open.size(); ++n) {
      const auto count = double(open.size());
      tell([this, row = read_row(open[n], programme,
                                 job.part(0.2 + 0.8 * double(n) / count, 0.2 + 0.8 * double(n + 1) / count))] {
        take(row);
      });
    }
  });
}

void ResponsesView::take(const ResponseRow& row) {
  for (ResponseRow& r : rows_)
    if (r.file == row.file) r = row;
  draw();
}

/// Two that are chosen are nulled with each other.
void ResponsesView::look_at_chosen() {
  null_.reset();
  const auto chosen = table_->chosen();
  nulling_.drop();
  if (chosen.size() == 2 && rows_[chosen[0]].reading && rows_[chosen[1]].reading)
    nulling_.start([this, a = rows_[chosen[0]].file, b = rows_[chosen[1]].file, file = programme_file()](
                       const Job& job, const Tell& tell) {
      const auto programme = programme_of(file, job.part(0, 0.3));
      const auto null = null_responses(Clip::open(a), Clip::open(b), programme, job.part(0.3, 1));
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
  if (!row.reading || row.enough.empty()) return tr("Reading %1\u2026").arg(name_of(row));
  const QString decay = row.reading->t30_s   ? tr("rings for %1 (T30)").arg(seconds(*row.reading->t30_s))
                        : row.reading->t20_s ? tr("rings for %1 (T20)").arg(seconds(*row.reading->t20_s))
                                             : tr("does not fall far enough to tell its time");
  if (!row.enough[1]) return tr("%1 %2; all of it is needed.").arg(name_of(row), decay);
  return tr("%1 %2; %3 of it are enough 80 dB under %4.")
      .arg(name_of(row), decay, seconds(double(*row.enough[1]) / row.reading->sample_rate_hz),
           programme_->currentText());
}

std::vector<Series> ResponsesView::series() const {
  constexpr Qt::PenStyle styles[] = {Qt::DashLine, Qt::DotLine, Qt::DashDotLine, Qt::DashDotDotLine};
  const auto chosen = table_->chosen();
  std::vector<Series> all;
  for (size_t n = 0; n < rows_.size(); ++n) {
    if (!rows_[n].reading) continue;
    const bool bold = chosen.empty() ? n == 0 : std::find(chosen.begin(), chosen.end(), n) != chosen.end();
    Series s;
    s.name = name_of(rows_[n]), s.marked = false;
    s.ink = colour(bold ? Role::residual : Role::soft),
    s.style = bold && (chosen.empty() || n == chosen.front()) ? Qt::SolidLine : styles[n % std::size(styles)];
    for (const auto& [at, db] : rows_[n].reading->decay)
      if (db > -120) s.xs.push_back(at), s.ys.push_back(db);
    all.push_back(std::move(s));
  }
  return all;
}

void ResponsesView::draw() {
  table_->set_rows(rows_.size(), [this](size_t n) { return QString::fromStdString(rows_[n].file.string()); });
  const auto chosen = table_->chosen();
  answer_->setText(answer_for(chosen));
  QString detail;
  if (chosen.size() == 2 && null_)
    detail = tr("The early part, up to 80 ms after the onset, leaves %1 dBr; the tail %2 dBr.")
                 .arg(number(null_->early_db, 1), number(null_->late_db, 1));
  if (const int taken = taken_for_->currentData().toInt(); taken > 0 && !rows_.empty()) {
    const ResponseRow& row = rows_[chosen.empty() ? 0 : chosen.front()];
    if (row.reading && row.reading->sample_rate_hz != taken) {
      const WrongRate wrong = at_wrong_rate(row.reading->sample_rate_hz, taken);
      detail += (detail.isEmpty() ? "" : " ") +
                tr("Taken for %1 kHz, everything in %2 shifts by %3 cents, and it rings %4 times as long.")
                    .arg(taken / 1000.0)
                    .arg(name_of(row), number(wrong.cents, 0), number(wrong.length_factor, 2));
    }
  }
  detail_->setText(detail);
  detail_->setVisible(!detail.isEmpty());
  decays_->show_series([this] { return series(); });
}

QString ResponsesView::csv() const {
  std::vector<Json> table;
  for (const ResponseRow& row : rows_) {
    if (!row.reading) continue;
    const ImpulseResponse& r = *row.reading;
    Json line{{"response", row.file.filename().string()},
              {"rate_hz", r.sample_rate_hz},
              {"channels", r.channels},
              {"length_s", r.length_s},
              {"onset_s", r.onset_s},
              {"edt_s", number_or_null(r.edt_s)},
              {"t20_s", number_or_null(r.t20_s)},
              {"t30_s", number_or_null(r.t30_s)},
              {"clarity_db", number_or_null(r.clarity_db)},
              {"noise_dbr", number_or_null(r.noise_dbr)}};
    for (size_t n = 0; n < row.enough.size(); ++n)
      line["enough_at_" + std::to_string(int(-enough_db()[n])) + "_s"] =
          row.enough[n] ? Json(double(*row.enough[n]) / r.sample_rate_hz) : Json(nullptr);
    line["work_share"] = number_or_null(row.cost);
    table.push_back(std::move(line));
  }
  return QString::fromStdString(csv_of(table, {"response"}));
}

void ResponsesView::dragEnterEvent(QDragEnterEvent* event) {
  if (event->mimeData()->hasUrls()) event->acceptProposedAction();
}

void ResponsesView::dropEvent(QDropEvent* event) {
  std::vector<std::filesystem::path> files;
  for (const QUrl& url : event->mimeData()->urls())
    if (url.isLocalFile()) files.push_back(url.toLocalFile().toStdString());
  event->acceptProposedAction();
  add(files);
}

}  // namespace heathmist::app
