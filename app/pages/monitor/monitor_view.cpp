#include "app/pages/monitor/monitor_view.hpp"

#include <QHBoxLayout>
#include <QMenu>
#include <QSplitter>
#include <QVBoxLayout>
#include <cmath>

#include "app/theme/theme.hpp"
#include "app/widgets/labels.hpp"
#include "app/widgets/saving.hpp"
#include "app/widgets/terms.hpp"
#include "core/printable.hpp"

namespace heathmist::app {

namespace {

struct NumberWords {
  const char *name, *unit, *hint, *term;
};
constexpr NumberWords numbers[] = {
    {QT_TRANSLATE_NOOP("MonitorView", "Momentary"), "LUFS",
     QT_TRANSLATE_NOOP("MonitorView", "Loudness of the last 400 ms"), "momentary"},
    {QT_TRANSLATE_NOOP("MonitorView", "Short-term"), "LUFS",
     QT_TRANSLATE_NOOP("MonitorView", "Loudness of the last 3 s"), "short_term"},
    {QT_TRANSLATE_NOOP("MonitorView", "Integrated"), "LUFS",
     QT_TRANSLATE_NOOP("MonitorView", "Gated loudness since the reset (EBU R 128)"), "integrated"},
    {QT_TRANSLATE_NOOP("MonitorView", "Range"), "LU",
     QT_TRANSLATE_NOOP("MonitorView", "Loudness range since the reset (EBU Tech 3342)"), "loudness_range"},
    {QT_TRANSLATE_NOOP("MonitorView", "True peak"), "dBTP",
     QT_TRANSLATE_NOOP("MonitorView", "The greatest since the reset"), "true_peak"},
    {QT_TRANSLATE_NOOP("MonitorView", "PLR"), "dB",
     QT_TRANSLATE_NOOP("MonitorView", "True peak over integrated loudness"), "plr"}};

QString shown(std::optional<double> value) { return value ? number(*value, 1) : QString(QChar(0x2013)); }

}  // namespace

MonitorView::MonitorView(Queue& queue, QWidget* parent) : QWidget(parent), writing_(new Writing(queue, this, this)) {
  auto* rows = new QVBoxLayout(this);
  rows->setContentsMargins(16, 4, 16, 8);
  rows->setSpacing(8);
  rows->addWidget(answer_ = answer_label(this, "integrated"));
  rows->addWidget(note_ = soft_label({}, this));
  note_->setWordWrap(true);
  note_->hide();
  rows->addWidget(make_head(queue));
  rows->addWidget(make_numbers());
  rows->addWidget(make_plots(), 1);
  timer_.setInterval(100);  // what moves faster cannot be read, and costs a day of somebody's battery
  connect(&timer_, &QTimer::timeout, this, &MonitorView::show_now);
  connect(writing_, &Writing::ended, this, [this](Outcome outcome, const QString& sentence) {
    say(outcome == Outcome::done ? tr("Kept.") : how_it_ended(outcome, sentence));
    emit rested();
  });
  refresh();
}

MonitorView::~MonitorView() { delete writing_; }  // it may still read what the monitor keeps

QWidget* MonitorView::make_head(Queue& queue) {
  auto* head = new QWidget(this);
  auto* lines = new QVBoxLayout(head);
  lines->setContentsMargins(0, 0, 0, 0);
  lines->setSpacing(6);
  lines->addWidget(form_ = new DeviceForm(queue, false, head));
  auto* row = new QHBoxLayout;
  row->setSpacing(8);
  run_ = new QPushButton(tr("Watch"), head);
  run_->setProperty("main", true);
  reset_ = new QPushButton(tr("Begin anew"), head);
  reset_->setToolTip(tr("Integrated loudness, range, peaks and average spectrum begin anew"));
  keep_ = new QPushButton(tr("Keep the last"), head);
  keep_->setToolTip(tr("Of the last hour, as a 24-bit WAV file"));
  auto* menu = new QMenu(keep_);
  for (const int minutes : {1, 5, 15, 60})
    menu->addAction(tr("%n minute(s)", nullptr, minutes).replace("(s)", minutes == 1 ? "" : "s"), this,
                    [this, minutes] { keep_last(minutes); });
  keep_->setMenu(menu);
  outlet_ = new QComboBox(head);
  outlet_->setAccessibleName(tr("The outlet whose target is drawn"));
  outlet_->setToolTip(outlet_->accessibleName());
  show_outlets();
  sent_ = new QComboBox(head);
  sent_->setAccessibleName(tr("What is sent out meanwhile"));
  sent_->setToolTip(
      tr("A master is played through the output, round and round, so that a processor's return is watched"));
  sent_->addItem(tr("nothing"));
  for (QWidget* w : {static_cast<QWidget*>(run_), static_cast<QWidget*>(reset_), static_cast<QWidget*>(keep_)})
    row->addWidget(w);
  row->addSpacing(8);
  row->addWidget(soft_label(tr("send"), head));
  row->addWidget(sent_, 1);
  row->addWidget(make_listening(head), 1);
  row->addWidget(soft_label(tr("against"), head));
  row->addWidget(outlet_, 1);
  lines->addLayout(row);
  connect(run_, &QPushButton::clicked, this, [this] { monitor_ ? stop() : start(); });
  connect(reset_, &QPushButton::clicked, this, &MonitorView::reset);
  connect(form_, &DeviceForm::changed, this, &MonitorView::refresh);
  connect(sent_, &QComboBox::currentIndexChanged, this, &MonitorView::refresh);
  lines->addWidget(live_ = soft_label({}, head));
  set_term(live_, "match");
  live_->hide();
  connect(outlet_, &QComboBox::currentIndexChanged, this, [this] {
    shown_seconds_ = -1;
    if (monitor_) show_now();
  });
  return head;
}

QWidget* MonitorView::make_listening(QWidget* head) {
  listening_ = new QWidget(head);
  auto* row = new QHBoxLayout(listening_);
  row->setContentsMargins(0, 0, 0, 0);
  row->setSpacing(8);
  listened_ = new QComboBox(listening_);
  listened_->setAccessibleName(tr("Where the master and its return are heard"));
  listened_->setToolTip(
      tr("The master, and live what comes back of it, at the same spot and equally loud; 1 and 2 switch, M matches"));
  row->addWidget(soft_label(tr("hear at"), listening_));
  row->addWidget(listened_, 1);
  return listening_;
}

QWidget* MonitorView::make_numbers() {
  auto* strip = new QWidget(this);
  auto* row = new QHBoxLayout(strip);
  row->setContentsMargins(0, 0, 0, 0);
  row->setSpacing(22);
  for (size_t n = 0; n < values_.size(); ++n) {
    auto* cell = new QWidget(strip);
    auto* rows = new QVBoxLayout(cell);
    rows->setContentsMargins(0, 0, 0, 0);
    rows->setSpacing(0);
    values_[n] = new QLabel(QString(QChar(0x2013)), cell);
    values_[n]->setFont(face(Type::headline, true));
    values_[n]->setMinimumWidth(62);
    rows->addWidget(values_[n]);
    rows->addWidget(soft_label(tr("%1, %2").arg(tr(numbers[n].name), numbers[n].unit), cell));
    cell->setToolTip(tr(numbers[n].hint));
    set_term(cell, numbers[n].term);
    row->addWidget(cell);
  }
  row->addWidget(bars_ = new LevelBars(strip), 1);
  return strip;
}

QWidget* MonitorView::make_plots() {
  auto* both = new QSplitter(Qt::Vertical, this);
  auto* now = new QSplitter(Qt::Horizontal, both);
  now->addWidget(spectrum_ = new LiveSpectrumPlate(now));
  now->addWidget(stereo_ = new StereoPlate(now));
  now->setStretchFactor(0, 1);
  now->setSizes({700, 220});
  auto* hour = new QSplitter(Qt::Horizontal, both);
  course_ = new GraphPlate(tr("loudness of the last hour"), tr("Short-term loudness of the last hour"), hour);
  set_term(course_, "short_term");
  course_->set_axes(tr("minutes"), tr("LUFS"));
  course_->set_names_in_a_row();
  over_time_ = new SpectrogramPlate(hour);
  over_time_->set_levels(-120, -30);
  hour->addWidget(course_);
  hour->addWidget(over_time_);
  both->addWidget(now);
  both->addWidget(hour);
  both->setStretchFactor(0, 3), both->setStretchFactor(1, 2);
  both->setSizes({300, 200});
  return both;
}

void MonitorView::show_bench(const Bench& bench) {
  const QString before = sent_->currentText();
  const QSignalBlocker quiet(sent_);
  masters_.clear();
  sent_->clear();
  sent_->addItem(tr("nothing"));
  for (const Master& m : bench.masters) {
    masters_.emplace_back(QString::fromStdString(m.name), m.audio.file);
    sent_->addItem(masters_.back().first);
  }
  sent_->setCurrentIndex(std::max(0, sent_->findText(before)));
  show_outlets();
  refresh();
}

/// They may have been changed on their own page.
void MonitorView::show_outlets() {
  const QString before = outlet_->currentText();
  const QSignalBlocker quiet(outlet_);
  known_ = known_outlets();
  outlet_->clear();
  outlet_->addItem(tr("no target"), -1);
  for (size_t n = 0; n < known_.size(); ++n)
    outlet_->addItem(tr("%1, %2 LUFS").arg(QString::fromStdString(known_[n].name), number(known_[n].target_lufs, 0)),
                     int(n));
  outlet_->setCurrentIndex(std::max(0, outlet_->findText(before)));
}

/// Pairs of outputs beside those that send.
void MonitorView::show_places() {
  auto places = form_->outputs_beside();
  listening_->setVisible(sent_->currentIndex() > 0);
  if (places == places_ && listened_->count() > 0) return;
  const int before = listened_->currentIndex();
  const auto kept = before > 0 ? std::optional(places_[size_t(before - 1)]) : std::nullopt;
  places_ = std::move(places);
  listened_->clear();
  listened_->addItem(tr("nowhere"));
  const auto order = form_->order();
  for (const auto& place : places_) {
    const QString pair = tr("outputs %1, %2").arg(place.first + 1).arg(place.first + 2);
    const bool own = order && place.device == order->output;
    listened_->addItem(own ? pair : tr("%1, %2").arg(QString::fromStdString(printable(place.device)), pair));
    if (kept == place) listened_->setCurrentIndex(listened_->count() - 1);
  }
}

void MonitorView::hear(bool ret, bool matched) {
  hears_return_ = ret, matched_ = matched;
  if (!monitor_) return;
  monitor_->hear_return(ret);
  monitor_->match(matched);
  show_now();
}

void MonitorView::say(const QString& sentence) {
  note_->setText(sentence);
  note_->setVisible(!sentence.isEmpty());
}

void MonitorView::refresh() {
  const QSignalBlocker quiet(form_);
  const int sends = sent_->currentIndex() - 1;
  form_->set_plays(sends >= 0);
  form_->set_played(sends >= 0 && size_t(sends) < masters_.size() ? std::optional(masters_[size_t(sends)].second)
                                                                  : std::nullopt);
  show_places();
  live_->setVisible(is_heard());
  run_->setText(monitor_ ? tr("Stop") : tr("Watch"));
  run_->setEnabled(monitor_ || form_->order());
  for (QWidget* w : {static_cast<QWidget*>(form_), static_cast<QWidget*>(sent_), static_cast<QWidget*>(listened_)})
    w->setEnabled(!monitor_);
  reset_->setEnabled(bool(monitor_));
  keep_->setEnabled(monitor_ && monitor_->history());
  if (monitor_) return;
  if (shown_seconds_ < 0)
    answer_->setText(form_->is_looking() ? tr("Looking for audio devices…") : tr("How loud is what comes in?"));
}

void MonitorView::start() {
  refresh();  // the file that is sent may be another one by now
  const auto order = form_->order();
  if (monitor_ || !order) return;
  MonitorPlan plan{.stream = *order, .play = form_->played()};
  if (const int place = listened_->currentIndex(); plan.play && place > 0) plan.listen = places_[size_t(place - 1)];
  say({});
  try {
    emit started();
    monitor_ = std::make_unique<Monitor>(plan);
    heard_ = plan.listen.has_value();
    monitor_->hear_return(hears_return_), monitor_->match(matched_);
  } catch (const std::exception& error) {
    say(QString::fromUtf8(error.what()));
    return refresh();
  }
  shown_seconds_ = -1, shown_blocks_ = 0;
  spectrum_->set_frequencies_of(monitor_->hz());
  timer_.start();
  refresh();
}

/// What was measured stays to be looked at; what is kept of the sound goes.
void MonitorView::stop() {
  if (!monitor_) return;
  if (writing_->is_running()) return say(tr("The last minutes are being written: stop when that is done."));
  shown_seconds_ = -1;  // to its last second
  show_now();
  timer_.stop();
  monitor_.reset();
  if (std::exchange(heard_, false)) emit live_ended();
  bars_->clear();
  refresh();
}

void MonitorView::reset() {
  if (monitor_) monitor_->reset();
}

void MonitorView::keep_last(int minutes) {
  if (!monitor_ || writing_->is_running()) return;
  if (const auto to = ask_where(this, {tr("Keep the last minutes"), tr("kept.wav"), tr("WAV (*.wav)"), "wav"}))
    keep_last(minutes, *to);
}

void MonitorView::keep_last(int minutes, const Destination& to) {
  const AudioHistory* history = monitor_ ? monitor_->history() : nullptr;
  if (!history || writing_->is_running()) return;
  const int64_t end = history->end(), first = end - int64_t(minutes) * 60 * monitor_->sample_rate_hz();
  writing_->start(tr("Keeping the last minutes"), false,
                  [history, first, end, to](const Job& job, const Tell&) { history->write(first, end, to, job); });
}

void MonitorView::show_now() {
  if (!monitor_) return;
  const auto r = monitor_->reading();
  const std::optional<double> values[] = {r.loudness.momentary_lufs,  r.loudness.short_term_lufs,
                                          r.loudness.integrated_lufs, r.loudness.range_lu,
                                          r.loudness.true_peak_dbtp,  r.plr_db};
  for (size_t n = 0; n < std::size(values); ++n) values_[n]->setText(shown(values[n]));
  bars_->show_levels({r.peak.begin(), r.peak.end()}, {r.held_peak.begin(), r.held_peak.end()});
  stereo_->show_cloud(r.stereo, r.loudness.correlation);
  if (r.spectrum.blocks != shown_blocks_ && !(even_ = !even_))
    spectrum_->show_lines(r.spectrum, r.live ? r.live->master_spectrum : std::vector<float>());
  shown_blocks_ = r.spectrum.blocks;
  show_range(r);
  if (r.live) show_live(*r.live);
  if (!r.lost.empty()) say(QString::fromStdString(r.lost) + ".");
  show_hour(int64_t(r.seconds));
}

void MonitorView::show_live(const LiveReading& live) {
  if (!live.begun) return live_->setText(tr("A chirp goes round first, so that both are heard at the same spot…"));
  const bool known = live.master_lufs && live.return_lufs, even = std::abs(live.return_gain_db) < 0.05;
  const QString off = number(std::abs(live.return_gain_db), 1),
                which = live.return_gain_db > 0 ? tr("softer") : tr("louder");
  QString text = live.hears_return ? tr("You hear the return") : tr("You hear the master");
  if (known && even) text += live.hears_return ? tr(", as loud as the master") : tr("; the return is as loud");
  if (known && !even && !live.matched)
    text += (live.hears_return ? tr(" as it comes back, %1 dB %2 than the master") : tr("; the return is %1 dB %2"))
                .arg(off, which);
  if (known && !even && live.matched)
    text +=
        (live.hears_return ? tr(", %2 %1 dB to the master's loudness") : tr("; the return is %2 %1 dB to its loudness"))
            .arg(off, live.return_gain_db > 0 ? tr("raised") : tr("lowered"));
  if (live.trim_db < -0.05) text += tr("; both %1 dB lower, so that neither clips").arg(number(-live.trim_db, 1));
  if (live.round_trip_samples)
    text += tr("; round trip %1 samples, %2 ms")
                .arg(number(*live.round_trip_samples, 1),
                     number(1000 * *live.round_trip_samples / monitor_->sample_rate_hz(), 1));
  else
    text += tr("; the chirp did not come back, so the two are not at the same spot");
  live_->setText(text + ".");
  emit live_changed(live.matched ? tr("live %1%2 dB").arg(live.return_gain_db >= 0 ? "+" : "\u2212", off)
                                 : tr("live, as it comes"));
}

/// The answer: how far from the target, and whether a peak went beyond.
void MonitorView::show_range(const MonitorReading& r) {
  const QString since = clock(r.seconds, 0);
  const auto loud = r.loudness.integrated_lufs;
  if (!loud) return answer_->setText(tr("Silence so far, for %1.").arg(since));
  QString text = tr("%1 LUFS integrated after %2").arg(number(*loud, 1), since);
  if (const int n = outlet_->currentData().toInt(); n >= 0) {
    const Outlet& o = known_[size_t(n)];
    const double off = *loud - o.target_lufs;
    text += std::abs(off) < 0.05
                ? tr(": at the target")
                : tr(": %1 LU %2 the target").arg(number(std::abs(off), 1), off > 0 ? tr("over") : tr("under"));
    const auto peak = r.loudness.true_peak_dbtp;
    if (o.max_true_peak_dbtp && peak && *peak > *o.max_true_peak_dbtp)
      text += tr("; true peak %1 dBTP, %2 allowed").arg(number(*peak, 1), number(*o.max_true_peak_dbtp, 1));
  }
  if (r.interruptions > 0) text += tr("; %1 interruptions").arg(r.interruptions);
  answer_->setText(text + ".");
}

/// The more there is, the less a second of it is seen: the hour is drawn anew when it has grown by a part of itself.
void MonitorView::show_hour(int64_t second) {
  const auto seen = int64_t(shown_length_);
  if (shown_seconds_ >= 0 && second - shown_seconds_ < std::max<int64_t>(1, seen / 300)) return;
  shown_seconds_ = second;
  const auto seconds = monitor_->seconds();
  std::optional<double> target;
  if (const int n = outlet_->currentData().toInt(); n >= 0) target = known_[size_t(n)].target_lufs;
  std::vector<double> xs, ys;
  for (size_t n = 0; n < seconds.size(); ++n)
    if (const auto& s = seconds[n].short_term_lufs; s && *s > -80) xs.push_back(double(n) / 60), ys.push_back(*s);
  course_->show_series(
      [xs, ys] {
        return std::vector<Series>{
            {.name = tr("short-term"), .xs = xs, .ys = ys, .ink = colour(Role::ret), .marked = false}};
      },
      target);
  const auto length = double(std::max<size_t>(1, seconds.size()));
  if (over_time_->from_s() <= 0 && over_time_->to_s() >= shown_length_) over_time_->set_length(length);
  shown_length_ = length;  // where somebody looks at a part of it, that stays in view
  over_time_->show_cells({{QString(), std::make_shared<const Spectrogram>(spectrogram_of(seconds, monitor_->hz()))}});
}

}  // namespace heathmist::app
