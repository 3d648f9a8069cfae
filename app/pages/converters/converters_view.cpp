#include "app/pages/converters/converters_view.hpp"

#include <QFileDialog>
#include <QHeaderView>
#include <QInputDialog>
#include <QVBoxLayout>
#include <algorithm>

#include "app/theme/theme.hpp"
#include "app/widgets/labels.hpp"
#include "app/widgets/saving.hpp"

namespace heathmist::app {

namespace {

constexpr int usual_rates[] = {32000, 44100, 48000, 88200, 96000, 176400, 192000, 352800, 384000};

QString kilohertz(int hz) { return QObject::tr("%1 kHz").arg(hz / 1000.0); }

Role role_of(Grade grade) {
  constexpr Role roles[] = {Role::moss, Role::straw, Role::gorse, Role::rust};
  return roles[int(grade)];
}

QString milliseconds(double seconds) { return number(1000 * seconds, 2); }

QString short_name(const BoardRow& row) { return QString::fromStdString(row.name).section(" by ", -1); }

/// One that fails keeps none of the others back; what failed is told in the end.
void each(size_t count, const std::function<void(size_t)>& work) {
  std::string failures;
  for (size_t n = 0; n < count; ++n) {
    try {
      work(n);
    } catch (const Cancelled&) {
      throw;
    } catch (const std::exception& error) {
      failures += (failures.empty() ? "" : "\n") + std::string(error.what());
    }
  }
  if (!failures.empty()) throw std::runtime_error(failures);
}

/// What came out where, small.
QPixmap picture_of(const AliasMap& map, QSize size) {
  QImage image(map.columns, map.rows, QImage::Format_RGB32);
  for (int c = 0; c < map.columns; ++c)
    for (int r = 0; r < map.rows; ++r)
      image.setPixelColor(
          c, map.rows - 1 - r,
          Theme::instance().heat(std::clamp(1 + double(map.db[size_t(c * map.rows + r)]) / 150, 0.0, 1.0)));
  return QPixmap::fromImage(image.scaled(size, Qt::IgnoreAspectRatio, Qt::SmoothTransformation));
}

QString words_of(const BoardRow& row) { return QString::fromStdString(label_of(row.sweep)); }

bool folds(const BoardRow& row) { return row.sweep.audible.db > -250; }

}  // namespace

ConvertersView::ConvertersView(Queue& queue, QWidget* parent)
    : QWidget(parent), work_(queue), recalling_(queue), writing_(queue) {
  auto* rows = new QVBoxLayout(this);
  rows->setContentsMargins(12, 4, 6, 6);
  rows->setSpacing(4);
  rows->addWidget(make_head());
  sentence_ = answer_label(this, "folds");
  rows->addWidget(sentence_);
  auto* split = new QSplitter(Qt::Vertical, this);
  split->setHandleWidth(1);
  make_table(split);
  large_ = new QSplitter(Qt::Horizontal, split);
  large_->setHandleWidth(1);
  for (int n = 0; n < most_large; ++n) {
    plates_.push_back(new FoldPlate(large_));
    plates_.back()->setMinimumSize(160, 150);
  }
  split->setSizes({340, 280});
  rows->addWidget(split, 1);
  connect(&work_, &LongWork::progressed, this, [this](double fraction) {
    const auto left = work_.left_s(fraction);
    note_->setText(left ? tr("%1 read, about %2 left").arg(rows_.size()).arg(clock(*left, 0)) : tr("sweeping…"));
  });
  connect(&work_, &LongWork::ended, this, [this](Outcome outcome, const QString& failure) {
    run_->setText(tr("Run"));
    note_->setText(how_it_ended(outcome, failure));
    draw();
    if (!failure.isEmpty()) sentence_->setText(failure);
    emit rested();
  });
  connect(&recalling_, &LongWork::ended, this, [this] {
    const auto read =
        size_t(std::count_if(rows_.begin(), rows_.end(), [](const BoardRow& r) { return r.chain.has_value(); }));
    const size_t all = wanted().size();  // a run may have been broken off
    if (read > 0)
      note_->setText(read >= all ? tr("as they were read before")
                                 : tr("%1 of %2, as they were read before; Run reads the rest").arg(read).arg(all));
    emit recalled();
  });
  connect(&writing_, &LongWork::ended, this, [this](Outcome outcome, const QString& failure) {
    const bool written = outcome == Outcome::done;
    emit probe_written(written, written ? written_words_ : failure);
  });
  connect(&Theme::instance(), &Theme::changed, this, &ConvertersView::fill);
  draw();
}

QWidget* ConvertersView::make_head() {
  auto* head = new QWidget(this);
  auto* row = new QHBoxLayout(head);
  row->setContentsMargins(0, 0, 0, 0);
  row->setSpacing(6);
  auto rates = [&](int initial, const QString& hint) {
    auto* box = new QComboBox(head);
    for (const int hz : usual_rates) box->addItem(kilohertz(hz), hz);
    box->setCurrentIndex(box->findData(initial));
    box->setToolTip(hint);
    box->setAccessibleName(hint);
    connect(box, &QComboBox::currentIndexChanged, this, [this] {
      work_.drop();
      run_->setText(tr("Run"));
      note_->clear();
      std::erase_if(rows_, [](const BoardRow& r) { return r.chain.has_value(); });
      fill();
      recall();
    });
    row->addWidget(box);
    return box;
  };
  from_ = rates(96000, tr("The rate that goes in"));
  row->addWidget(new QLabel(tr("to"), head));
  to_ = rates(44100, tr("The rate that comes out"));
  note_ = note_label(head);
  row->addWidget(note_, 1);
  for (const auto& [text, hint, work] :
       {std::tuple{tr("Write a probe…"), tr("A sweep to send through some other program"),
                   &ConvertersView::write_probe_file},
        {tr("Bring in a return…"), tr("Sweep probes that came back from some other program"),
         &ConvertersView::choose_returns}}) {
    auto* button = new QPushButton(text, head);
    button->setToolTip(hint);
    connect(button, &QPushButton::clicked, this, work);
    row->addWidget(button);
  }
  auto* save = new QPushButton(tr("Save as CSV…"), head);
  connect(save, &QPushButton::clicked, this, [this] { save_table(this, "converters.csv", csv()); });
  row->addWidget(save);
  run_ = new QPushButton(tr("Run"), head);
  run_->setProperty("main", true);
  run_->setToolTip(tr("Send a sweep through every converter and read what comes out"));
  connect(run_, &QPushButton::clicked, this, [this] { work_.is_running() ? work_.cancel() : start(); });
  row->addWidget(run_);
  return head;
}

void ConvertersView::make_table(QWidget* parent) {
  table_ = new ResultTable(tr("Converters for this pair of rates"), parent);
  table_->set_empty(tr("A row for each converter: what folds back, ripple, edges, ringing, delay, and how fast it is"));
  const auto of = [this](auto what) { return [this, what](size_t n) -> Cell { return what(rows_[n]); }; };
  const auto brief = [](std::optional<double> hz) { return number_cell(hz ? std::optional(*hz / 1000) : hz, 1).text; };
  table_->set_columns(
      {{tr("Converter"),
        {},
        of([](const BoardRow& r) {
          return Cell{short_name(r), {}, QString::fromStdString(r.name) + "\n" + words_of(r)};
        }),
        false,
        app::Column::stretch},
       {tr("In by out"), tr("Input frequency across, output frequency upwards: anything off the line is an alias"),
        of([](const BoardRow& r) {
          return Cell{.picture = QIcon(picture_of(r.map, {64, 24}))};
        }),
        false, 76, "fold"},
       {tr("Grade"),
        {},
        of([](const BoardRow& r) {
          const Grade grade = grade_of(r.sweep);
          return Cell{tr(name_of(grade)), double(grade), words_of(r), role_of(grade)};
        }),
        false,
        70,
        "folds"},
       {tr("Folds, dB"), tr("The strongest alias or image under 20 kHz, against the tone that went in"),
        of([](const BoardRow& r) {
          return Cell{folds(r) ? number(r.sweep.audible.db, 0) : tr("none"), r.sweep.audible.db};
        }),
        true, 88, "folds"},
       {tr("From, to"), tr("Which tone that was, and where it lands"), of([brief](const BoardRow& r) {
          const auto& alias = r.sweep.audible;
          return folds(r) ? Cell{tr("%1 to %2 kHz").arg(brief(alias.in_hz), brief(alias.out_hz)), alias.in_hz} : Cell{};
        }),
        true, 116, "fold"},
       {tr("Ripple, dB"), tr("Greatest less least level from 20 Hz to 0.9 of half the lower rate"),
        of([](const BoardRow& r) { return number_cell(r.sweep.ripple_db, r.sweep.ripple_db < 0.1 ? 3 : 2); }), true, 74,
        "ripple"},
       {tr("\u22120.1, \u22123 dB"), tr("Where the pass band has fallen by 0.1 and by 3 dB"),
        of([brief](const BoardRow& r) {
          const auto& e = r.sweep.edges;
          return Cell{tr("%1, %2 kHz").arg(brief(e.minus_0_1_db), brief(e.minus_3_db)), e.minus_3_db};
        }),
        true, 102, "band_edge"},
       {tr("Rings, ms"), tr("How long an impulse rings before its peak, above \u221260 dB"), of([](const BoardRow& r) {
          return r.impulse ? Cell{milliseconds(r.impulse->pre_ringing_s), r.impulse->pre_ringing_s}
                           : number_cell({}, 1);
        }),
        true, 72, "pre_ringing", 1},
       {tr("Delay, ms"), tr("Group delay in the pass band"), of([](const BoardRow& r) {
          return Cell{milliseconds(r.sweep.delay_s), r.sweep.delay_s};
        }),
        true, 74, "group_delay", 2},
       {tr("THD+N, dB"), tr("Of 997 Hz at \u22121 dBFS, 20 Hz to 20 kHz"),
        of([](const BoardRow& r) { return number_cell(r.thd_n_db, 1); }), true, 82, "thd_n"},
       {tr("Speed"), tr("Seconds of one channel converted in a second, on this machine as it was"),
        of([](const BoardRow& r) { return number_cell(r.speed, 0, r.speed ? QString::fromUtf8("\u00d7") : ""); }), true,
        62, "speed", 3}});
  table_->verticalHeader()->setDefaultSectionSize(28);
  table_->setIconSize({64, 24});
  table_->setMinimumHeight(110);
  table_->sort_by(folds_column, Qt::AscendingOrder);
  connect(table_, &ResultTable::chosen_changed, this, &ConvertersView::draw);
}

void ConvertersView::set_rates(int from_hz, int to_hz) {
  from_->setCurrentIndex(std::max(0, from_->findData(from_hz)));
  to_->setCurrentIndex(std::max(0, to_->findData(to_hz)));
}

void ConvertersView::run(std::function<void(const Job&, const std::function<void(BoardRow)>&)> work) {
  run_->setText(tr("Cancel"));
  work_.start([this, work = std::move(work)](const Job& job, const Tell& tell) {
    work(job, [this, &tell](BoardRow row) { tell([this, row = std::move(row)] { take(row); }); });
  });
}

std::vector<Chain> ConvertersView::wanted() const {
  std::vector<Chain> chains = board_converters(to_hz());
  std::erase_if(chains, [&](const Chain& c) { return !QString::fromStdString(title_of(c)).contains(only_); });
  return chains;
}

bool ConvertersView::has_read() const {
  return std::any_of(rows_.begin(), rows_.end(), [](const BoardRow& r) { return r.chain.has_value(); });
}

void ConvertersView::recall() {
  if (has_read() || work_.is_running() || from_hz() == to_hz()) return;
  recalling_.start([this, chains = wanted(), from = from_hz()](const Job& job, const Tell& tell) {
    for (const Chain& chain : chains) {
      job.check();
      if (auto row = kept_converter(chain, from)) tell([this, row = std::move(*row)] { take(row); });
    }
  });
}

void ConvertersView::start() {
  if (from_hz() == to_hz()) return note_->setText(tr("two rates that differ, please"));
  recalling_.drop();
  std::erase_if(rows_, [](const BoardRow& r) { return r.chain.has_value(); });
  fill();
  std::vector<Chain> chains = wanted();
  run([chains, from = from_hz()](const Job& job, const auto& give) {
    const auto all = double(chains.size());
    each(chains.size(),
         [&](size_t n) { give(read_converter(chains[n], from, job.part(double(n) / all, double(n + 1) / all))); });
  });
}

void ConvertersView::bring(const QStringList& files) {
  if (work_.is_running() || files.isEmpty()) return;
  run([files](const Job& job, const auto& give) {
    each(size_t(files.size()), [&](size_t n) { give(read_returned_sweep(files[qsizetype(n)].toStdString(), job)); });
  });
}

void ConvertersView::choose_returns() {
  bring(QFileDialog::getOpenFileNames(
      this, tr("Sweep probes that came back"), {},
      tr("Audio (*.wav *.aif *.aiff *.flac *.w64 *.caf *.mp3 *.m4a *.ogg *.opus);;All files (*)")));
}

void ConvertersView::write_probe_file() {
  QStringList titles;
  std::vector<ProbeKind> kinds;
  for (const auto& kind : probe_kinds())
    if (!kind.for_engines) kinds.push_back(kind), titles << QString::fromStdString(kind.title);
  bool chosen = false;
  const QString title = QInputDialog::getItem(
      this, tr("Write a probe"), tr("Which one, at %1:").arg(kilohertz(from_hz())), titles, 0, false, &chosen);
  if (!chosen) return;
  const auto& kind = kinds[size_t(titles.indexOf(title))];
  const QString name = QString("%1-%2.wav").arg(QString::fromStdString(kind.key)).arg(from_hz());
  if (const auto to = ask_where(this, {tr("Write a probe"), name, tr("WAV (*.wav)"), "wav"}))
    write_probe_to(kind.key, *to);
}

void ConvertersView::write_probe_to(const std::string& kind, const Destination& to) {
  const auto score = probe_score(kind, from_hz());
  writing_.start([score, to](const Job&, const Tell&) { write_probe(score, to, ProbeWord::pcm24); });
  QStringList lines;
  for (const auto& line : instructions(score)) lines << QString::fromStdString(line);
  lines.back() = tr("Then bring in what came back, with the button beside this one.");
  written_words_ = lines.join("\n\n");
}

void ConvertersView::take(BoardRow row) {
  rows_.push_back(std::move(row));
  fill();
}

void ConvertersView::fill() {
  table_->set_rows(rows_.size(), [this](size_t n) { return QString::fromStdString(rows_[n].name); });
  if (!rows_.empty() && table_->chosen().empty()) table_->choose({0});
  draw();
}

void ConvertersView::draw() {
  std::vector<const BoardRow*> large;
  for (const size_t n : table_->chosen())
    if (large.size() < most_large) large.push_back(&rows_[n]);
  large_->setSizes({100, 100, 100});
  for (int n = 0; n < most_large; ++n) {
    FoldPlate* plate = plates_[size_t(n)];
    plate->setVisible(n < std::max(1, int(large.size())));
    if (size_t(n) < large.size()) {
      const auto& r = large[size_t(n)]->sweep;
      plate->show_fold({QString::fromStdString(large[size_t(n)]->name), double(r.from_hz), double(r.to_hz),
                        fold_lines(r.from_hz, r.to_hz), large[size_t(n)]->map});
    } else if (n == 0) {
      plate->show_fold({tr("Where tones land: solid as they are, dotted their images"),
                        double(from_hz()),
                        double(to_hz()),
                        fold_lines(from_hz(), to_hz()),
                        {}});
    }
  }
  sentence_->setText(
      !large.empty()
          ? tr("%1: %2").arg(short_name(*large.front()), QString::fromStdString(label_of(large.front()->sweep)))
      : work_.is_running() ? tr("Sweeping…")
                           : tr("What folds back when %1 become %2? Run sends a sweep through every converter.")
                                 .arg(kilohertz(from_hz()), kilohertz(to_hz())));
}

std::vector<FoldPlate*> ConvertersView::shown_plates() const {
  std::vector<FoldPlate*> all;
  for (FoldPlate* plate : plates_)
    if (!plate->isHidden()) all.push_back(plate);
  return all;
}

QString ConvertersView::csv() const {
  std::vector<Json> table;
  for (const BoardRow& row : rows_) table.push_back(board_line(row));
  return QString::fromStdString(csv_of(table));
}

}  // namespace heathmist::app
