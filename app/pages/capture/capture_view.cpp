#include "app/pages/capture/capture_view.hpp"

#include <QDateTime>
#include <QDir>
#include <QFileInfo>
#include <QHBoxLayout>
#include <QVBoxLayout>

#include "app/pages/device_form.hpp"
#include "app/theme/theme.hpp"
#include "app/widgets/labels.hpp"
#include "app/widgets/saving.hpp"
#include "core/audio/folders.hpp"
#include "core/audio/scratch.hpp"
#include "core/devices/unfinished.hpp"
#include "core/printable.hpp"
#include "core/probes/engine_answers.hpp"

namespace heathmist::app {

namespace {

constexpr double floor_s = 10;

std::filesystem::path notes_folder() { return config_folder() / "recordings"; }

struct WhatWords {
  CaptureView::What what;
  const char *name, *hint;
};
const WhatWords whats[] = {
    {CaptureView::What::round_trip, QT_TRANSLATE_NOOP("CaptureView", "play a master, record what comes back"),
     QT_TRANSLATE_NOOP("CaptureView",
                       "A chirp goes in front, so that the round trip is known; the recording becomes a trial")},
    {CaptureView::What::played_elsewhere, QT_TRANSLATE_NOOP("CaptureView", "record what something else plays"),
     QT_TRANSLATE_NOOP("CaptureView", "A site or a disc player plays the master; the recording becomes a trial of it")},
    {CaptureView::What::floor, QT_TRANSLATE_NOOP("CaptureView", "record silence: the floor of the route"),
     QT_TRANSLATE_NOOP("CaptureView", "What the route itself adds; the bench takes it as its floor")},
    {CaptureView::What::loop_check, QT_TRANSLATE_NOOP("CaptureView", "check the loop itself"),
     QT_TRANSLATE_NOOP("CaptureView", "A probe goes round: is the loop transparent to the bit?")}};

QString length_words(double seconds) { return clock(seconds, 1); }

QString facts_of(const Captured& c) {
  QStringList facts{
      QObject::tr("%1 at %2 kHz").arg(length_words(double(c.frames) / c.sample_rate_hz), khz(c.sample_rate_hz))};
  if (c.latency_samples)
    facts << QObject::tr("round trip %1 samples, %2 ms")
                 .arg(number(*c.latency_samples, 2), number(*c.latency_samples * 1000 / c.sample_rate_hz, 2));
  facts << (c.interruptions == 0   ? QObject::tr("no interruption was told")
            : c.interruptions == 1 ? QObject::tr("1 interruption, at %1").arg(length_words(c.interrupted_s.front()))
                                   : QObject::tr("%1 interruptions, the first at %2")
                                         .arg(c.interruptions)
                                         .arg(length_words(c.interrupted_s.front())));
  return facts.join(QObject::tr(" · "));
}

}  // namespace

CaptureView::CaptureView(Queue& queue, QWidget* parent) : QWidget(parent), work_(queue) {
  auto* rows = new QVBoxLayout(this);
  rows->setContentsMargins(16, 4, 16, 8);
  rows->setSpacing(8);
  rows->addWidget(answer_ = answer_label(this, "residual"));
  rows->addWidget(note_ = soft_label({}, this));
  note_->setWordWrap(true);
  rows->addWidget(make_form(queue));
  rows->addSpacing(6);
  rows->addWidget(title_label(tr("Level"), this));
  rows->addWidget(bars_ = new LevelBars(this));
  rows->addWidget(make_actions());
  rows->addWidget(facts_ = soft_label({}, this));
  facts_->setWordWrap(true);
  rows->addStretch();
  make_left_behind(rows);
  level_timer_.setInterval(50);
  connect(&level_timer_, &QTimer::timeout, this, &CaptureView::show_level);
  connect(&work_, &LongWork::ended, this, [this](Outcome outcome, const QString& sentence) {
    if (outcome == Outcome::failed) say(sentence);
    if (outcome == Outcome::cancelled) say(tr("Stopped before anything was recorded."));
    refresh();
    emit rested();
  });
  refresh();
}

CaptureView::~CaptureView() = default;

QWidget* CaptureView::make_form(Queue& queue) {
  auto* form = new QWidget(this);
  auto* lines = new QVBoxLayout(form);
  lines->setContentsMargins(0, 2, 0, 2);
  lines->setSpacing(6);
  auto* first = new QHBoxLayout;
  first->setSpacing(6);
  what_ = new QComboBox(form);
  for (const WhatWords& w : whats) {
    what_->addItem(tr(w.name), int(w.what));
    what_->setItemData(what_->count() - 1, tr(w.hint), Qt::ToolTipRole);
  }
  what_->setAccessibleName(tr("What is recorded"));
  masters_ = new QComboBox(form);
  masters_->setAccessibleName(tr("The master"));
  masters_->setToolTip(tr("The master that comes back"));
  masters_->setMinimumContentsLength(16);
  masters_->setSizeAdjustPolicy(QComboBox::AdjustToMinimumContentsLengthWithIcon);
  seconds_ = new NumberField(form);
  seconds_->setRange(0, 86400);
  seconds_->setDecimals(1);
  seconds_->setSuffix(tr(" s"));
  seconds_->setMinimumWidth(110);
  set_term(seconds_, "time");
  seconds_->setAccessibleName(tr("Length of the recording"));
  first->addWidget(what_, 1);
  first->addWidget(masters_, 1);
  first->addWidget(soft_label(tr("for"), form));
  first->addWidget(seconds_);
  lines->addLayout(first);
  lines->addWidget(form_ = new DeviceForm(queue, true, form));
  auto* last = new QHBoxLayout;
  last->setSpacing(6);
  file_ = new QLineEdit(form);
  file_->setAccessibleName(tr("The file that is recorded into"));
  browse_ = new QPushButton(tr("Choose…"), form);
  last->addWidget(soft_label(tr("into"), form));
  last->addWidget(file_, 1);
  last->addWidget(browse_);
  lines->addLayout(last);
  for (QComboBox* choice : {what_, masters_})
    connect(choice, &QComboBox::currentIndexChanged, this, &CaptureView::ask_anew);
  connect(form_, &DeviceForm::changed, this, [this] {
    if (level_ && form_->order() != level_of_) check_level();  // it is of another device
    refresh();
  });
  connect(browse_, &QPushButton::clicked, this, [this] {
    if (const auto to = ask_where(this, {tr("Record into"), file_->text(), tr("WAV (*.wav)"), "wav"}))
      file_->setText(QString::fromStdString(to->file.string())), folder_ = QFileInfo(file_->text()).path();
  });
  return form;
}

/// Something else is to be recorded: what was told of the last one goes.
void CaptureView::ask_anew() {
  answer_->setProperty("told", false);
  awaits_verdict_ = false;
  null_->hide();
  facts_->clear();
  say({});
  propose_file();
  refresh();
}

QWidget* CaptureView::make_actions() {
  auto* strip = new QWidget(this);
  auto* row = new QHBoxLayout(strip);
  row->setContentsMargins(0, 4, 0, 4);
  row->setSpacing(8);
  record_ = new QPushButton(tr("Record"), strip);
  record_->setProperty("main", true);
  stop_ = new QPushButton(tr("Stop and keep"), strip);
  check_ = new QPushButton(tr("Check the level"), strip);
  check_->setCheckable(true);
  check_->setToolTip(tr("Watch the input without recording"));
  null_ = new QPushButton(tr("Open its null"), strip);
  null_->hide();
  for (QPushButton* button : {record_, stop_, check_, null_}) row->addWidget(button);
  row->addStretch();
  connect(record_, &QPushButton::clicked, this, &CaptureView::start);
  connect(stop_, &QPushButton::clicked, this, &CaptureView::stop);
  connect(check_, &QPushButton::clicked, this, &CaptureView::check_level);
  connect(null_, &QPushButton::clicked, this, &CaptureView::null_wanted);
  return strip;
}

/// Recordings of runs that did not end: each is a file that plays.
void CaptureView::make_left_behind(QVBoxLayout* rows) {
  left_behind_ = new QWidget(this);
  auto* inside = new QVBoxLayout(left_behind_);
  inside->setContentsMargins(0, 0, 0, 0);
  inside->setSpacing(6);
  rows->addWidget(left_behind_);
  offer_left_behind();
}

void CaptureView::offer_left_behind() {
  qDeleteAll(left_behind_->findChildren<QWidget*>(Qt::FindDirectChildrenOnly));
  const auto all = unfinished_recordings(notes_folder());
  left_behind_->setVisible(!all.empty());
  if (all.empty()) return;
  left_behind_->layout()->addWidget(title_label(tr("Recordings that were cut off"), left_behind_));
  for (const Unfinished& u : all) {
    auto* line = new QWidget(left_behind_);
    auto* row = new QHBoxLayout(line);
    row->setContentsMargins(0, 0, 0, 0);
    QString length;
    try {
      length = length_words(Clip::open(u.file)->format().duration_s());
    } catch (const std::exception&) {
      length = tr("nothing that plays");
    }
    const QString file = QString::fromStdString(u.file.string());
    auto* name = new QLabel(
        tr("%1, %2%3")
            .arg(QFileInfo(file).fileName(), length,
                 u.master_name.empty() ? QString() : tr(", of %1").arg(QString::fromStdString(u.master_name))),
        line);
    name->setToolTip(file);
    auto* take = new QPushButton(tr("Add as a trial"), line);
    auto* leave = new QPushButton(tr("Leave it there"), line);
    leave->setToolTip(tr("The file stays where it is, and is not offered any more"));
    row->addWidget(name, 1);
    row->addWidget(take);
    row->addWidget(leave);
    left_behind_->layout()->addWidget(line);
    const auto forget = [this, path = u.file] {
      forget_recording(notes_folder(), path);
      QTimer::singleShot(0, this, &CaptureView::offer_left_behind);
    };
    connect(leave, &QPushButton::clicked, this, forget);
    connect(take, &QPushButton::clicked, this, [this, forget, file, master = u.master] {
      for (const MasterFile& m : masters_of_bench_)
        if (m.file == master) {
          forget();
          emit recorded(QString::fromStdString(m.id), file);
          return;
        }
      say(tr(
          "The master it was recorded of is not on this bench: open its bench, or drop both files into the window."));
    });
  }
}

void CaptureView::show_bench(const Bench& bench, const std::string& master) {
  const QString before = masters_->currentData().toString();
  masters_of_bench_.clear();
  const QSignalBlocker quiet(masters_);
  masters_->clear();
  for (const Master& m : bench.masters) {
    masters_of_bench_.push_back({m.id, m.name, m.audio.file});
    masters_->addItem(QString::fromStdString(m.name), QString::fromStdString(m.id));
  }
  const int at = masters_->findData(master.empty() ? before : QString::fromStdString(master));
  masters_->setCurrentIndex(std::max(0, at));
  propose_file();
  refresh();
}

const CaptureView::MasterFile* CaptureView::chosen_master() const {
  const int at = masters_->currentIndex();
  return at >= 0 && size_t(at) < masters_of_bench_.size() ? &masters_of_bench_[size_t(at)] : nullptr;
}

/// Beside the master, by the time; what was typed since stays.
void CaptureView::propose_file() {
  if (!file_->text().isEmpty() && file_->text() != proposed_) return;
  const MasterFile* m = chosen_master();
  const QString folder = !folder_.isEmpty() ? folder_
                         : m                ? QString::fromStdString(m->file.parent_path().string())
                                            : QDir::homePath();
  const QString name = what() == What::floor || !m ? tr("floor") : QString::fromStdString(m->file.stem().string());
  proposed_ = QDir(folder).filePath(
      tr("%1 recorded %2.wav").arg(name, QDateTime::currentDateTime().toString("yyyy-MM-dd hhmmss")));
  file_->setText(proposed_);
}

CaptureView::What CaptureView::what() const { return What(what_->currentData().toInt()); }
void CaptureView::choose(What what) { what_->setCurrentIndex(what_->findData(int(what))); }

void CaptureView::say(const QString& sentence) {
  note_->setText(sentence);
  note_->setVisible(!sentence.isEmpty());
}

void CaptureView::refresh() {
  const bool running = work_.is_running(), of_master = what() == What::round_trip || what() == What::played_elsewhere;
  const MasterFile* m = chosen_master();
  const QSignalBlocker quiet(form_);  // what is set here is looked at below
  masters_->setVisible(of_master);
  seconds_->setEnabled(what() != What::loop_check && !running);
  seconds_->setSpecialValueText(what() == What::round_trip         ? tr("as long as it is")
                                : what() == What::played_elsewhere ? tr("until it is stopped")
                                                                   : tr("10 s"));
  form_->set_plays(what() != What::played_elsewhere);
  form_->set_played(what() == What::round_trip && m ? std::optional(m->file) : std::nullopt);
  for (QWidget* w : {static_cast<QWidget*>(file_), static_cast<QWidget*>(browse_)})
    w->setEnabled(what() != What::loop_check && !running);
  for (QWidget* w : {static_cast<QWidget*>(what_), static_cast<QWidget*>(masters_), static_cast<QWidget*>(form_)})
    w->setEnabled(!running);
  const bool can = form_->order() && (!of_master || m);
  record_->setText(what() == What::loop_check ? tr("Check the loop") : tr("Record"));
  record_->setVisible(!running), record_->setEnabled(can);
  stop_->setVisible(running);
  check_->setEnabled(can && !running);
  check_->setChecked(bool(level_));
  check_->setText(level_ ? tr("Stop watching") : tr("Check the level"));
  if (running) return;
  if (answer_->property("told").toBool()) return;
  answer_->setText(of_master && !m ? tr("A bench with a master is needed: drop its file into the window.")
                   : !form_->order()
                       ? (form_->is_looking() ? tr("Looking for audio devices…") : tr("This device cannot be used so."))
                   : what() == What::loop_check ? tr("Is the loop itself transparent?")
                   : what() == What::floor      ? tr("What does the route add to silence?")
                   : what() == What::round_trip
                       ? tr("What comes back of %1?").arg(QString::fromStdString(m->name))
                       : tr("What does something else make of %1?").arg(QString::fromStdString(m->name)));
}

void CaptureView::check_level() {
  if (level_) {
    level_.reset();
    level_timer_.stop();
    bars_->clear();
    return refresh();
  }
  auto order = level_of_ = form_->order();
  if (!order) return;
  order->output.clear();
  emit device_wanted();
  try {
    level_ = std::make_unique<Monitor>(MonitorPlan{.stream = *order, .history_s = 0});
    level_timer_.start();
  } catch (const std::exception& error) {
    say(QString::fromUtf8(error.what()));
  }
  refresh();
}

void CaptureView::show_level() {
  if (!level_) return;
  const auto r = level_->reading();
  bars_->show_levels({r.peak.begin(), r.peak.end()}, {r.held_peak.begin(), r.held_peak.end()});
  if (r.lost.empty()) return;
  say(QString::fromStdString(r.lost) + ".");
  check_level();
}

void CaptureView::start() {
  const auto order = form_->order();
  if (work_.is_running() || !order) return;
  if (level_) check_level();
  ask_anew();
  emit device_wanted();
  if (what() == What::loop_check) return begin_loop_check(*order);
  CapturePlan plan{
      .stream = *order, .word = form_->word(), .to = Destination(file_->text().toStdString(), false, files_in_use())};
  if (seconds_->value() > 0) plan.seconds = seconds_->value();
  if (what() == What::floor) {
    plan.seconds = plan.seconds.value_or(floor_s);  // behind the silence that is played nothing is played
    plan.play = made_clip(Planar(1, order->sample_rate_hz), order->sample_rate_hz, "silence");
    plan.chirp = false;
  }
  begin(std::move(plan), chosen_master());
}

void CaptureView::begin(CapturePlan plan, const MasterFile* master) {
  const What kind = what();
  const MasterFile of = master ? *master : MasterFile{};
  answer_->setProperty("told", true);
  answer_->setText(kind == What::round_trip ? tr("Listening for the chirp…") : tr("Recording…"));
  work_.start([this, plan = std::move(plan), kind, of](const Job& job, const Tell& tell) mutable {
    if (kind == What::round_trip) plan.play = Clip::open(of.file, job);
    if (kind != What::floor) plan.to.inputs.push_back(of.file);
    const auto note = std::make_shared<RecordingNote>(
        notes_folder(), Unfinished{plan.to.file, kind == What::floor ? std::string() : of.name, of.file});
    try {
      const auto done = std::make_shared<Captured>(
          capture(plan, job, [&](const CaptureReading& r) { tell([this, r] { take(r); }); }));
      tell([this, note, done, kind, id = of.id] {  // where the window is gone by then, the next one offers it
        note->done();
        end(*done, kind, id);
      });
    } catch (...) {  // nothing was recorded
      note->done();
      throw;
    }
  });
  refresh();
}

void CaptureView::take(const CaptureReading& r) {
  bars_->show_levels(r.peak, r.held_peak);
  if (r.state == CaptureReading::State::chirp) return;
  answer_->setText(r.of_seconds > 0 ? tr("Recording: %1 of %2").arg(length_words(r.seconds), length_words(r.of_seconds))
                                    : tr("Recording: %1").arg(length_words(r.seconds)));
  if (r.interruptions > 0) say(tr("%1 interruptions so far: sound was lost on the way.").arg(r.interruptions));
}

void CaptureView::end(const Captured& c, What kind, const std::string& master_id) {
  facts_->setText(facts_of(c));
  say(!c.cut_short.empty() ? QString::fromStdString(c.cut_short)
      : kind == What::round_trip && !c.latency_samples
          ? tr("The chirp did not come back: the round trip is not known. Look whether the device is wired to itself.")
      : c.interruptions > 0 ? tr("Sound was lost on the way: what the null tells at those places is of the recording.")
                            : QString());
  const QString file = QString::fromStdString(c.file.string());
  answer_->setText(tr("Recorded: %1").arg(QFileInfo(file).fileName()));
  file_->clear();
  propose_file();
  if (kind == What::floor) return emit floor_recorded(file);
  awaits_verdict_ = true;
  emit recorded(QString::fromStdString(master_id), file);
}

void CaptureView::begin_loop_check(const StreamOrder& order) {
  answer_->setProperty("told", true);
  answer_->setText(tr("Listening for the chirp…"));
  work_.start([this, order, word = form_->word()](const Job& job, const Tell& tell) {
    const auto check = std::make_shared<LoopCheck>(
        check_loop(order, word, job, [&](const CaptureReading& r) { tell([this, r] { take(r); }); }));
    tell([this, check] { end_loop_check(*check); });
  });
  refresh();
}

void CaptureView::end_loop_check(const LoopCheck& check) {
  const auto findings = engine_findings(check.reading);
  answer_->setText(check.reading.transit && check.reading.transit->identical
                       ? tr("The loop is transparent: every bit comes back.")
                   : findings.empty() ? tr("The loop was read.")
                                      : QString::fromStdString(findings.front().text));
  QStringList others;
  for (size_t n = 1; n < findings.size(); ++n) others << QString::fromStdString(findings[n].text);
  say(others.join(" "));
  facts_->setText(facts_of(check.captured));
}

void CaptureView::show_verdict(const QString& sentence) {
  if (!awaits_verdict_) return;
  null_->show();
  answer_->setText(sentence);
}

}  // namespace heathmist::app
