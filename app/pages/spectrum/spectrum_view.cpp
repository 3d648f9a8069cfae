#include "app/pages/spectrum/opened_clips.hpp"

#include <QPushButton>
#include <QSplitter>
#include <QToolButton>
#include <QVBoxLayout>
#include <QWidgetAction>

#include "app/theme/theme.hpp"
#include "app/widgets/labels.hpp"
#include "app/widgets/saving.hpp"
#include "app/widgets/terms.hpp"
#include "core/probes/readings.hpp"

namespace heathmist::app {

namespace {

constexpr int most_lines = 100;                     // that are listed
constexpr size_t most_marks = 14;                   // beside aliases, which are all marked
constexpr double most_under_db = 100;               // the strongest line
constexpr double word_decades = 0.3, word_db = 14;  // room that a mark's word takes
constexpr double most_off_db = 6;                   // of a line's level from the curve: else it is no single line

double at_least(const std::optional<double>& value) { return value.value_or(0); }

}  // namespace

SpectrumView::SpectrumView(Queue& queue, QWidget* parent)
    : QWidget(parent), opened_(std::make_shared<Opened>()), work_(queue) {
  auto* rows = new QVBoxLayout(this);
  rows->setContentsMargins(12, 8, 6, 6);
  rows->setSpacing(4);
  rows->addWidget(make_head());
  headline_ = answer_label(this, "spectrum");
  rows->addWidget(headline_);
  auto* split = new QSplitter(Qt::Vertical, this);
  split->setHandleWidth(1);
  plates_ = new QStackedWidget(split);
  plate_ = new LinesPlate("spectrum", tr("Spectra of the chosen clips"), plates_);
  plate_->set_unit(tr("dBFS"));
  set_term(plate_, "spectrum");
  over_time_ = new SpectrogramPlate(plates_);
  plates_->addWidget(plate_);
  plates_->addWidget(over_time_);
  plate_->set_depth(230, -290);
  plate_->set_notes(true);
  plates_->setMinimumHeight(200);
  make_table(split);
  split->setSizes({420, 210});
  rows->addWidget(split, 1);
  settle_.setSingleShot(true);
  settle_.setInterval(30);
  connect(&settle_, &QTimer::timeout, this, &SpectrumView::run);
  connect(&work_, &LongWork::progressed, this, [this](double fraction) {
    const auto left = work_.left_s(fraction);
    note_->setText(left && *left > 1 ? tr("about %1 left").arg(clock(*left, 0)) : QString());
  });
  connect(&work_, &LongWork::ended, this, [this](Outcome, const QString& failure) {
    note_->setText(QString());
    if (!failure.isEmpty()) headline_->setText(failure);
    if (stale_) return run();  // the playhead or a choice moved on meanwhile
    emit rested();
  });
  connect(&Theme::instance(), &Theme::changed, this, &SpectrumView::show_lines);
  connect_over_time();
  fill_menu();
  show_kind();
  draw();
}

QComboBox* SpectrumView::choice(QWidget* head, const QString& hint,
                                const std::vector<std::pair<QString, QVariant>>& items, int initial) {
  auto* box = new QComboBox(head);
  for (const auto& [text, value] : items) box->addItem(text, value);
  box->setCurrentIndex(initial);
  box->setToolTip(hint);
  box->setAccessibleName(hint);
  if (head != this && !qobject_cast<QVBoxLayout*>(head->layout())) box->setMaximumWidth(124);
  head->layout()->addWidget(box);
  return box;
}

/// Size, window, overlap and averaging of the transform, behind one button that says what they are.
QToolButton* SpectrumView::make_transform(QWidget* head) {
  using dsp::Window;
  transform_ = new QToolButton(head);
  transform_->setToolTip(tr("Size, window, overlap and averaging of the transform"));
  transform_->setPopupMode(QToolButton::InstantPopup);
  auto* form = new QWidget;
  auto* column = new QVBoxLayout(form);
  column->setContentsMargins(10, 8, 10, 8);
  column->setSpacing(5);
  std::vector<std::pair<QString, QVariant>> sizes;
  for (int power = 9; power <= 20; ++power) sizes.emplace_back(tr("%1 points").arg(1 << power), 1 << power);
  size_ = choice(form, tr("Size of the FFT, points"), sizes, 16 - 9);
  window_ = choice(form, tr("Window; of Kaiser how far its side lobes lie down, dB"),
                   {{tr("Kaiser 200"), QPoint(int(Window::kaiser), 200)},
                    {tr("Kaiser 120"), QPoint(int(Window::kaiser), 120)},
                    {tr("Kaiser 80"), QPoint(int(Window::kaiser), 80)},
                    {tr("Hann"), QPoint(int(Window::hann), 0)},
                    {tr("Blackman-Harris"), QPoint(int(Window::blackman_harris), 0)},
                    {tr("flat top"), QPoint(int(Window::flat_top), 0)}},
                   0);
  overlap_ = choice(
      form, tr("How far neighbouring blocks overlap"),
      {{tr("overlap 0 %"), 0.0}, {tr("overlap 50 %"), 0.5}, {tr("overlap 75 %"), 0.75}, {tr("overlap 90 %"), 0.9}}, 1);
  blocks_ = choice(form, tr("How many blocks are averaged: spread over the whole, or in a row about the playhead"),
                   {{tr("1 block"), 1},
                    {tr("4 blocks"), 4},
                    {tr("16 blocks"), 16},
                    {tr("64 blocks"), 64},
                    {tr("600 blocks"), most_blocks},
                    {tr("every block"), every_block}},
                   4);
  auto* menu = new QMenu(transform_);
  auto* holder = new QWidgetAction(menu);
  holder->setDefaultWidget(form);
  menu->addAction(holder);
  transform_->setMenu(menu);
  auto say = [this] { transform_->setText(tr("FFT %1").arg(size_->currentData().toInt())); };
  connect(size_, &QComboBox::currentIndexChanged, this, say);
  say();
  return transform_;
}

QWidget* SpectrumView::make_head() {
  auto* head = new QWidget(this);
  auto* row = new QHBoxLayout(head);
  row->setContentsMargins(0, 0, 0, 0);
  row->setSpacing(5);
  auto* clips = new QToolButton(head);
  clips->setText(tr("Clips"));
  clips->setToolTip(tr("Which clips are drawn"));
  clips->setPopupMode(QToolButton::InstantPopup);
  clips_ = new QMenu(clips);
  clips->setMenu(clips_);
  row->addWidget(clips);
  kind_ = choice(head, tr("Over the whole or the selection, or of the moment at the playhead"),
                 {{tr("average"), average},
                  {tr("peak hold"), hold},
                  {tr("at playhead"), moment},
                  {tr("over time"), over_time_plain},
                  {tr("over time, sharp"), over_time_sharp}},
                 average);
  listen_ = choice(head, tr("Which channels"),
                   {{tr("all channels"), QPoint(int(Listen::all), 0)},
                    {tr("mid"), QPoint(int(Listen::mid), 0)},
                    {tr("side"), QPoint(int(Listen::side), 0)},
                    {tr("left"), QPoint(int(Listen::one), 0)},
                    {tr("right"), QPoint(int(Listen::one), 1)}},
                   0);
  row->addWidget(make_transform(head));
  unit_ = choice(head, tr("What a level is of"),
                 {{tr("per line"), int(SpectrumUnit::per_line)},
                  {tr("per \u221aHz"), int(SpectrumUnit::per_root_hz)},
                  {tr("third octave"), int(SpectrumUnit::third_octave)}},
                 0);
  slope_ = choice(head, tr("Slope that is added, dB per octave about 1 kHz"),
                  {{tr("no slope"), 0.0}, {tr("+3 dB/oct"), 3.0}, {tr("+4.5 dB/oct"), 4.5}, {tr("+6 dB/oct"), 6.0}}, 0);
  layout_ = choice(head, tr("How several clips stand"), {{tr("stacked"), false}, {tr("side by side"), true}}, 0);
  scale_ = choice(head, tr("Scale of the frequency axis"),
                  {{tr("log"), int(FrequencyScale::logarithmic)},
                   {tr("linear"), int(FrequencyScale::linear)},
                   {tr("mel"), int(FrequencyScale::mel)}},
                  0);
  levels_ =
      choice(head, tr("The lowest level that has a colour, dBFS"),
             {{tr("under −80"), -80}, {tr("under −120"), -120}, {tr("under −160"), -160}, {tr("under −200"), -200}}, 1);
  for (QComboBox* box : {kind_, listen_, size_, window_, overlap_, blocks_})
    connect(box, &QComboBox::currentIndexChanged, this, &SpectrumView::ask);
  for (QComboBox* box : {unit_, slope_, scale_})
    connect(box, &QComboBox::currentIndexChanged, this, &SpectrumView::draw);
  note_ = note_label(head);
  row->addWidget(note_, 1);
  auto* save = new QPushButton(tr("CSV…"), head);
  save->setToolTip(tr("Save the lines as CSV"));
  connect(save, &QPushButton::clicked, this, [this] { save_table(this, "lines.csv", csv()); });
  row->addWidget(save);
  return head;
}

void SpectrumView::make_table(QWidget* parent) {
  table_ = new ResultTable(tr("Lines of the spectrum"), parent);
  const auto of = [this](auto what) { return [this, what](size_t n) -> Cell { return what(told_[n].second); }; };
  using L = SpectralLine;
  table_->set_columns(
      {{tr("Clip"), {}, [this](size_t n) { return Cell{told_[n].first}; }, false, 130},
       {tr("Frequency"),
        {},
        of([](const L& l) {
          return l.hz < 1000 ? number_cell(l.hz, 2, tr(" Hz")) : Cell{tr("%1 kHz").arg(number(l.hz / 1000, 4)), l.hz};
        }),
        true,
        110,
        "frequency"},
       {tr("Note"),
        {},
        of([](const L& l) {
          return Cell{QString::fromStdString(note_of(l.hz)).replace('-', QChar(0x2212)), l.hz};
        }),
        false,
        84,
        "frequency"},
       {tr("Level, dBFS"), {}, of([](const L& l) { return number_cell(l.dbfs, 1); }), true, 108, "level"},
       {tr("dBr"), tr("Against the strongest tone of its clip"), of([](const L& l) { return number_cell(l.dbr, 1); }),
        true, 72, "dbr"},
       {tr("What it is"),
        {},
        of([](const L& l) {
          const bool bad = l.kind == L::Kind::alias;
          return Cell{QString::fromStdString(l.name), {}, {}, bad ? std::optional(Role::rust) : std::nullopt};
        }),
        false,
        Column::stretch}});
  table_->setMinimumHeight(90);
  table_->sort_by(3, Qt::DescendingOrder);
  connect(table_, &ResultTable::chosen_changed, this, &SpectrumView::point_at_line);
}

void SpectrumView::point_at_line() {
  if (const auto rows = table_->chosen(); !rows.empty()) plate_->point_at(told_[rows.front()].second.hz);
}

void SpectrumView::show_bench(const Bench& bench) {
  if (bench.masters == bench_.masters) return;
  bench_ = bench;
  fill_menu();
  ask();
}

void SpectrumView::show_trial(std::shared_ptr<const TrialResult> trial) {
  if (trial == trial_) return;
  trial_ = std::move(trial);
  residual_ = trial_ && trial_->report ? residual_clip(trial_->pair, trial_->report->fit) : nullptr;
  fill_menu();
  ask();
}

void SpectrumView::show_master(const std::string& id) {
  if (id == master_id_) return;
  master_id_ = id;
  if (trial_) return;
  fill_menu();
  ask();
}

void SpectrumView::look_again() { work_.drop(), ask(); }

void SpectrumView::set_playhead(double at_s) {
  playhead_s_ = at_s;
  if (is_over_time() && isVisible()) over_time_->set_playhead(at_s);
  if (kind_->currentIndex() == moment) ask();
}

void SpectrumView::set_selection(std::optional<std::pair<double, double>> seconds) {
  if (seconds == selection_) return;
  selection_ = seconds;
  ask();
}

void SpectrumView::choose(const std::string& key, bool in) {
  in ? void(in_.insert(key)) : void(in_.erase(key));
  fill_menu();
  ask();
}

std::vector<SpectrumView::Subject> SpectrumView::subjects() const {
  std::vector<Subject> all;
  if (trial_ && trial_->report) {
    all.push_back({"master", tr("master"), trial_->pair.master});
    all.push_back({"return", tr("return"), trial_->ret});
    all.push_back({"residual", tr("residual"), residual_});
  } else if (const Master* master = bench_.master(master_id_)) {
    all.push_back({"master", tr("master"), nullptr, master->audio.file});
  }
  for (const Master& m : bench_.masters) {
    const QString master = QString::fromStdString(m.name);
    all.push_back({m.id, master, nullptr, m.audio.file});
    for (const Trial& t : m.trials)
      all.push_back({t.id, tr("%1, %2").arg(master, QString::fromStdString(title_of(t))), nullptr,
                     t.chain ? m.audio.file : t.ret.file, t.chain});
  }
  return all;
}

void SpectrumView::fill_menu() {
  clips_->clear();
  for (const Subject& subject : subjects()) {
    if (!bench_.masters.empty() && subject.key == bench_.masters.front().id) clips_->addSeparator();
    auto* action = clips_->addAction(subject.clip ? tr("%1 of the trial").arg(subject.name) : subject.name);
    action->setCheckable(true);
    action->setChecked(in_.contains(subject.key));
    connect(action, &QAction::toggled, this, [this, key = subject.key](bool in) {
      in ? void(in_.insert(key)) : void(in_.erase(key));
      ask();
    });
  }
}

SpectraOptions SpectrumView::options() const {
  SpectraOptions o;
  o.fft_size = size_t(size_->currentData().toInt());
  const QPoint window = window_->currentData().toPoint(), listen = listen_->currentData().toPoint();
  o.window = dsp::Window(window.x());
  o.side_lobe_db = window.y();
  o.listen = Listen(listen.x());
  o.channel = listen.y();
  o.overlap = overlap_->currentData().toDouble();
  o.most_blocks = blocks_->currentData().toInt();
  return o;
}

void SpectrumView::ask() {
  stale_ = true;
  if (is_over_time()) work_.drop();                                                // what is in view now goes first
  if (isVisible() && !work_.is_running() && !settle_.isActive()) settle_.start();  // a playhead never stands still
}

void SpectrumView::showEvent(QShowEvent* event) {
  QWidget::showEvent(event);
  if (stale_) ask();
}

void SpectrumView::run() {
  stale_ = false;
  std::vector<Subject> wanted = subjects();
  std::erase_if(wanted, [&](const Subject& s) { return !in_.contains(s.key); });
  if (wanted.empty()) {
    seen_.clear();
    over_time_->show_cells({});
    return draw();
  }
  if (is_over_time()) return run_over_time(wanted);
  work_.start([this, wanted, o = options(), kind = kind_->currentIndex(), at = playhead_s_, range = selection_,
               opened = opened_, detours = detours()](const Job& job, const Tell& tell) {
    std::vector<Seen> seen;
    LineOptions naming;
    for (size_t n = 0; n < wanted.size(); ++n) {
      const Job part = job.part(double(n) / double(wanted.size()), double(n + 1) / double(wanted.size()));
      Seen one{wanted[n].key, wanted[n].name, 0, {}, {}, {}};
      try {
        const auto clip = opened->open(wanted[n], part);
        const double rate = clip->format().sample_rate_hz;
        SpectraOptions own = o;
        if (range) own.first = int64_t(range->first * rate), own.last = int64_t(range->second * rate);
        one.sample_rate_hz = int(rate);
        one.spectra = kind == moment ? momentary_spectra(*clip, int64_t(at * rate), o.most_blocks, own, part)
                                     : spectra_of(*clip, own, part);
        const bool suited = own.window == dsp::Window::kaiser && own.side_lobe_db >= 190;
        one.lines =
            suited || kind == moment ? read_lines(one.spectra.average, naming) : lines_of(*clip, own, naming, part);
        if (n == 0) naming = as_return_of(one.lines, rate), naming.detours = detours;
      } catch (const Cancelled&) {
        throw;
      } catch (const std::exception& error) {
        one.failure = QString::fromUtf8(error.what());
      }
      seen.push_back(std::move(one));
    }
    tell([this, seen = std::move(seen)] {
      seen_ = seen;
      draw();
      emit drawn();
    });
  });
}

/// Where the trial's return was sampled anew, as its explanation found.
std::vector<Detour> SpectrumView::detours() const {
  std::vector<Detour> all;
  if (!trial_ || !trial_->why || !in_.contains("master")) return all;
  for (const Aliasing& a : trial_->why->aliasing) {
    Detour d{double(trial_->report->master.sample_rate_hz), a.rate_hz, {}};
    for (const FoldedBand& b : a.bands)
      if (b.is_line) d.sources_hz.push_back(b.in_low_hz);
    all.push_back(std::move(d));
  }
  return all;
}

std::vector<NamedLine> SpectrumView::lines() const {
  std::vector<NamedLine> lines;
  Showing showing;
  showing.unit = SpectrumUnit(unit_->currentData().toInt());
  showing.slope_db_per_octave = slope_->currentData().toDouble();
  showing.logarithmic = (scale_->currentData().toInt() != int(FrequencyScale::linear));
  for (const Seen& s : seen_) showing.high_hz = std::max(showing.high_hz, s.sample_rate_hz / 2.0);
  const std::pair<Role, Qt::PenStyle> others[] = {
      {Role::ink, Qt::SolidLine}, {Role::soft, Qt::DashLine}, {Role::ink, Qt::DotLine}};
  size_t other = 0;
  const double high = showing.high_hz;
  for (const Seen& s : seen_) {
    if (!s.failure.isEmpty()) continue;
    const Spectrum& which = kind_->currentIndex() == hold ? s.spectra.hold : s.spectra.average;
    NamedLine line{s.name, {}, {}, {}, Qt::SolidLine, false, 1.2};
    if (s.key == "master")
      line.ink = colour(Role::master);
    else if (s.key == "return")
      line.ink = colour(Role::ret), line.style = Qt::DashLine;
    else if (s.key == "residual")
      line.ink = colour(Role::residual), line.filled = true;
    else
      line.ink = colour(others[other % 3].first), line.style = others[other % 3].second, ++other;
    showing.high_hz = high;
    SpectrumLine curve = shown(s.spectra, which, showing);
    if (&s == answered()) answer_ = curve;
    line.hz = std::move(curve.hz), line.db = std::move(curve.db);
    lines.push_back(std::move(line));
  }
  return lines;
}

void SpectrumView::draw() {
  plate_->set_logarithmic((scale_->currentData().toInt() != int(FrequencyScale::linear)));
  plate_->show_lines([this] { return lines(); }, [this] { return marks(); });
  show_lines();
}

QString SpectrumView::say(const Seen& s) const {
  if (!s.failure.isEmpty()) return s.failure;
  const LineReading& r = s.lines;
  QStringList words;
  const auto alias = std::find_if(r.lines.begin(), r.lines.end(),
                                  [](const SpectralLine& l) { return l.kind == SpectralLine::Kind::alias; });
  if (alias != r.lines.end())
    return tr("%1: %2 is %3, %4 dBFS")
        .arg(s.name, hertz(alias->hz, false), QString::fromStdString(alias->name), number(alias->dbfs, 1));
  if (is_test_tone(r) && r.thd_n_db) {
    words << tr("THD+N %1 dB").arg(number(*r.thd_n_db, 1));
    if (r.thd_db) words << tr("THD %1 dB").arg(number(*r.thd_db, 1));
    words << tr("SFDR %1 dB").arg(number(at_least(r.sfdr_db), 1))
          << tr("%1 equivalent bits").arg(number(at_least(r.equivalent_bits), 1));
    if (r.imd_db) words << tr("intermodulation %1 dB against %2").arg(number(*r.imd_db, 1), imd_against(r.imd_method));
    if (r.fft_size_to_resolve) words << QString::fromStdString(unresolved_text(r));
  } else if (!r.lines.empty())
    return tr("%1: strongest at %2 Hz, %3 dBFS")
        .arg(s.name, number(r.lines.front().hz, 1), number(r.lines.front().dbfs, 1));
  if (r.noise_dbfs)
    words << tr("between the lines %1 dBFS (%2 A)").arg(number(*r.noise_dbfs, 1), number(at_least(r.noise_a_dbfs), 1))
          << tr("%1 dBFS per \u221aHz").arg(number(*r.noise_per_root_hz_dbfs, 1));
  return words.isEmpty() ? tr("%1: silence").arg(s.name) : s.name + ": " + words.join(", ");
}

const SpectrumView::Seen* SpectrumView::answered() const {
  if (seen_.empty()) return nullptr;
  return seen_.back().key == "residual" && seen_.size() > 1 ? &seen_[seen_.size() - 2] : &seen_.back();
}

/// The curve's own height at a line, so that a mark stands on what is drawn.
double SpectrumView::answer_at(double hz) const {
  const auto at = std::lower_bound(answer_.hz.begin(), answer_.hz.end(), hz) - answer_.hz.begin();
  double db = -300;
  for (auto n = std::max<long>(0, at - 2); n <= at + 1 && n < long(answer_.db.size()); ++n)
    db = std::max(db, answer_.db[size_t(n)]);
  return db;
}

/// The strongest lines where they stand on the plate: only where a level is that of a line.
std::vector<LineMark> SpectrumView::marks() const {
  std::vector<LineMark> all;
  const Seen* s = answered();
  if (!s || SpectrumUnit(unit_->currentData().toInt()) != SpectrumUnit::per_line || slope_->currentIndex() != 0)
    return all;
  using What = SpectralLine::Kind;
  size_t plain = 0;
  for (const SpectralLine& l : s->lines.lines) {
    const bool alias = l.kind == What::alias;
    if (l.dbfs < s->lines.lines.front().dbfs - most_under_db) break;  // strongest first
    if (answer_at(l.hz) < l.dbfs - most_off_db || (!alias && ++plain > most_marks)) continue;
    const QString word = l.kind == What::fundamental && is_test_tone(s->lines) ? hertz(l.hz, false)
                         : alias                    ? tr("%1 folded").arg(hertz(l.before_hz, false))
                         : l.kind == What::harmonic ? QString::number(l.order) + QString::fromUtf8("\u00d7")
                         : l.kind == What::hum      ? tr("hum")
                                                    : QString();
    const double db = answer_at(l.hz);
    const bool free = std::none_of(all.begin(), all.end(), [&](const LineMark& m) {
      return !m.word.isEmpty() && std::abs(std::log10(m.hz / l.hz)) < word_decades && std::abs(m.db - db) < word_db;
    });
    all.push_back({l.hz, db, free ? word : QString(), colour(alias ? Role::rust : Role::ink)});
  }
  return all;
}

void SpectrumView::show_lines() {
  if (is_over_time()) return;  // the answer and the plate are of another kind
  const bool any = !seen_.empty();
  headline_->setText(any                      ? say(*answered())
                     : bench_.masters.empty() ? tr("Drop audio here to see its spectrum.")
                                              : tr("Choose clips to draw, or a trial in the ledger."));
  told_.clear();
  for (const Seen& s : seen_)
    for (size_t n = 0; n < std::min<size_t>(most_lines, s.lines.lines.size()); ++n)
      told_.emplace_back(s.name, s.lines.lines[n]);
  const QSignalBlocker quiet(table_);
  table_->set_rows(told_.size());
}

QString SpectrumView::csv() const {
  std::vector<Json> rows;
  for (const Seen& s : seen_)
    for (const auto& l : s.lines.lines) {
      rows.push_back({{"clip", s.name.toStdString()}});
      rows.back().update(line_json(l));
    }
  return QString::fromStdString(csv_of(rows));
}

}  // namespace heathmist::app
