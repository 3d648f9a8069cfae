#include "app/pages/device_form.hpp"

#include <QHBoxLayout>
#include <QVBoxLayout>
#include <algorithm>

#include "app/widgets/labels.hpp"
#include "core/printable.hpp"

namespace heathmist::app {

namespace {

QComboBox* box(QWidget* parent, const QString& hint, int characters) {
  auto* made = new QComboBox(parent);
  made->setAccessibleName(hint);
  made->setToolTip(hint);
  made->setMinimumContentsLength(characters);
  made->setSizeAdjustPolicy(QComboBox::AdjustToMinimumContentsLengthWithIcon);
  made->setSizePolicy(characters < 10 ? QSizePolicy::Fixed : QSizePolicy::Expanding, QSizePolicy::Fixed);
  return made;
}

struct Preset {
  const char *name, *settings;
};
constexpr Preset presets[] = {
    {QT_TRANSLATE_NOOP("DeviceForm", "wired straight, 1024 samples late"), ""},
    {QT_TRANSLATE_NOOP("DeviceForm", "a converter: 24 bits, noise at \u2212108 dBFS, 12 ppm off"),
     "delay_samples=1713.4,bits=24,noise_dbfs=-108,drift_ppm=12"},
    {QT_TRANSLATE_NOOP("DeviceForm",
                       "a poor line: \u22121.5 dB, inverted, hum at \u221270 dBFS, noise at \u221280 dBFS"),
     "delay_samples=1713.4,gain_db=-1.5,inverted=1,hum_dbfs=-70,noise_dbfs=-80"},
    {QT_TRANSLATE_NOOP("DeviceForm", "5 ms drop out every 5 s"), "dropout_every_s=5"}};

}  // namespace

DeviceForm::DeviceForm(Queue& queue, bool records, QWidget* parent)
    : QWidget(parent), looking_(queue), opening_(queue) {
  auto* rows = new QVBoxLayout(this);
  rows->setContentsMargins(0, 0, 0, 0);
  rows->setSpacing(6);
  auto* first = new QHBoxLayout;
  first->setSpacing(6);
  input_ = box(this, tr("The device that is recorded from"), 18);
  input_channels_ = box(this, tr("Which of its inputs"), 4);
  output_ = box(this, tr("The device that is played through"), 18);
  output_channels_ = box(this, tr("Which of its outputs"), 4);
  first->addWidget(soft_label(tr("from"), this));
  first->addWidget(input_, 1);
  first->addWidget(input_channels_);
  auto* through = soft_label(tr("through"), this);
  first->addWidget(through);
  first->addWidget(output_, 1);
  first->addWidget(output_channels_);
  output_widgets_ = {through, output_, output_channels_};
  rate_ = box(this, tr("The rate it runs at"), 7);
  word_ = box(this, tr("The word length of the recording"), 7);
  word_->addItem(tr("24 bit"), int(WordFormat::pcm24));
  word_->addItem(tr("16 bit"), int(WordFormat::pcm16));
  word_->addItem(tr("32 float"), int(WordFormat::float32));
  again_ = new QPushButton(tr("Look again"), this);
  again_->setToolTip(tr("Look for devices again, after one was connected"));
  auto* second = new QHBoxLayout;
  second->setSpacing(6);
  second->addWidget(soft_label(tr("at"), this));
  second->addWidget(rate_);
  second->addWidget(word_);
  word_->setVisible(records);
  second->addWidget(again_);
  rows->addLayout(first);
  rows->addLayout(second);
  stand_in_ = new QWidget(this);
  auto* inside = new QHBoxLayout(stand_in_);
  inside->setContentsMargins(0, 0, 0, 0);
  inside->setSpacing(6);
  preset_ = box(stand_in_, tr("What the simulated loop does to sound"), 30);
  for (const Preset& p : presets) preset_->addItem(tr(p.name));
  inside->addWidget(soft_label(tr("no hardware: the stand-in is"), stand_in_));
  inside->addWidget(preset_, 1);
  preset_->addItem(tr("as it is written:"));
  by_hand_ = new QLineEdit("delay_samples=1024, noise_dbfs=-96", this);
  by_hand_->setToolTip(
      tr("delay_samples, drift_ppm, gain_db, inverted, bits, noise_dbfs, hum_dbfs, dropout_every_s, dropout_ms, "
         "gone_after_s; what is left out is as it is in a straight wire"));
  by_hand_->setAccessibleName(tr("What the simulated loop does, as it is written"));
  by_hand_->hide();
  second->addWidget(stand_in_, 2);
  second->addStretch(1);
  rows->addWidget(by_hand_);
  rows->addWidget(note_ = soft_label({}, this));
  note_->setWordWrap(true);
  note_->hide();
  connect(input_, &QComboBox::activated, this, &DeviceForm::take_input);
  connect(output_, &QComboBox::activated, this, &DeviceForm::take_output);
  connect(rate_, &QComboBox::activated, this, &DeviceForm::tell);
  connect(preset_, &QComboBox::currentIndexChanged, this, [this](int which) {
    is_written_ = which == int(std::size(presets));
    tell();
  });
  connect(by_hand_, &QLineEdit::textChanged, this, &DeviceForm::tell);
  connect(again_, &QPushButton::clicked, this, &DeviceForm::look_again);
  connect(&opening_, &LongWork::ended, this, [this](Outcome outcome, const QString& sentence) {
    trouble_ = outcome == Outcome::failed ? sentence : QString();
    if (outcome == Outcome::failed) tell();
  });
  show_rates();
}

const Device* DeviceForm::device(const QComboBox* box) const {
  const auto name = box->currentData().toString().toStdString();
  for (const Device& d : devices_)
    if (d.name == name) return &d;
  return nullptr;
}

void DeviceForm::show_devices(const std::vector<Device>& devices) {
  const QString in = input_->currentData().toString(), out = output_->currentData().toString();
  devices_ = devices;
  input_->clear(), output_->clear();
  for (const Device& d : devices_) {
    const QString name = QString::fromStdString(d.name), shown = QString::fromStdString(printable(d.name));
    if (d.inputs > 0) input_->addItem(shown, name);
    if (d.outputs > 0) output_->addItem(shown, name);
  }
  const Device *first_in = default_input(devices_), *first_out = default_output(devices_);
  choose_input(input_->findData(in) >= 0 ? in : first_in ? QString::fromStdString(first_in->name) : QString());
  choose_output(output_->findData(out) >= 0 ? out : first_out ? QString::fromStdString(first_out->name) : QString());
}

void DeviceForm::choose_input(const QString& name) {
  input_->setCurrentIndex(input_->findData(name));
  take_input();
}

void DeviceForm::choose_output(const QString& name) {
  output_->setCurrentIndex(output_->findData(name));
  take_output();
}

/// Pairs of channels, and each by itself.
void DeviceForm::show_channels(QComboBox* box, int count, int kept) const {
  box->clear();
  for (int n = 1; n + 1 <= count; n += 2) box->addItem(QString("%1, %2").arg(n).arg(n + 1), QPoint(n - 1, 2));
  for (int n = 1; n <= count; ++n) box->addItem(QString::number(n), QPoint(n - 1, 1));
  box->setCurrentIndex(std::clamp(kept, 0, std::max(0, box->count() - 1)));
}

void DeviceForm::take_input() {
  const Device* d = device(input_);
  show_channels(input_channels_, d ? d->inputs : 0, input_channels_->currentIndex());
  const Device* out = device(output_);
  if (d && (!out || out->backend != d->backend)) {  // one clock, one way
    const Device* own = counterpart_of(devices_, *d);
    for (const Device& other : devices_)
      if (own ? &other == own : other.backend == d->backend && other.outputs > 0) {
        output_->setCurrentIndex(output_->findData(QString::fromStdString(other.name)));
        break;
      }
    out = device(output_);
    show_channels(output_channels_, out ? out->outputs : 0, 0);
  }
  show_rates();
}

void DeviceForm::take_output() {
  const Device *d = device(output_), *in = device(input_);
  show_channels(output_channels_, d ? d->outputs : 0, output_channels_->currentIndex());
  if (d && in && in->backend != d->backend)
    for (const Device& other : devices_)
      if (other.backend == d->backend && other.inputs > 0) {
        input_->setCurrentIndex(input_->findData(QString::fromStdString(other.name)));
        show_channels(input_channels_, other.inputs, 0);
        break;
      }
  show_rates();
}

void DeviceForm::look_again() {
  looking_.start([this](const Job&, const Tell& tell) {
    auto all = std::make_shared<std::vector<Device>>(devices());
    tell([this, all] { show_devices(*all); });
  });
}

void DeviceForm::set_played(const std::optional<std::filesystem::path>& file) {
  std::error_code trouble;
  std::optional<FileNow> now;
  if (file) now.emplace(*file, std::filesystem::last_write_time(*file, trouble));
  if (now == played_) return;
  played_ = now;
  trouble_.clear();
  clip_.reset();
  if (!now) return set_wanted_rate(0);
  set_wanted_rate(not_known);
  opening_.start([this, now = *now](const Job& job, const Tell& tell) {  // some are decoded for it
    auto clip = Clip::open(now.first, job);
    tell([this, now, clip = std::move(clip)] {
      if (played_ != now) return;
      clip_ = clip;
      set_wanted_rate(clip->format().sample_rate_hz);
    });
  });
}

void DeviceForm::set_wanted_rate(int rate_hz) {
  if (rate_hz == wanted_rate_) return;
  wanted_rate_ = rate_hz;
  show_rates();
}

void DeviceForm::set_plays(bool plays) {
  if (plays == plays_) return;
  plays_ = plays;
  for (QWidget* w : output_widgets_) w->setVisible(plays);
  show_rates();
}

/// The rates that both can; the one that is wanted is chosen, or the device's own.
void DeviceForm::show_rates() {
  const Device *in = device(input_), *out = plays_ ? device(output_) : nullptr;
  const int before = rate_->currentData().toInt();
  rate_->clear();
  if (in)
    for (const int hz : in->rates_hz)
      if ((!out || out->has_rate(hz)) && hz >= 7000) rate_->addItem(tr("%1 kHz").arg(khz(hz)), hz);
  for (const int hz : {wanted_rate_, before, in ? in->own_rate_hz.value_or(48000) : 48000})
    if (const int at = rate_->findData(hz); hz > 0 && at >= 0) {
      rate_->setCurrentIndex(at);
      break;
    }
  rate_->setEnabled(wanted_rate_ == 0);
  rate_->setToolTip(wanted_rate_ > 0 ? tr("The rate of the master: it is played as it is") : rate_->accessibleName());
  tell();
}

void DeviceForm::tell() {
  const Device* in = device(input_);
  stand_in_->setVisible(in && in->stand_in);
  by_hand_->setVisible(in && in->stand_in && is_written_);
  QString sentence = trouble_;
  const int hz = rate_->currentData().toInt();
  for (const Device* d : {in, plays_ ? device(output_) : nullptr})
    if (d && hz > 0 && d->converts(hz) && sentence.isEmpty())
      sentence = tr("%1 runs at %2 kHz: its server converts what passes at %3 kHz, and the null will show that, too.")
                     .arg(QString::fromStdString(printable(d->name)), khz(*d->own_rate_hz), khz(hz));
  if (wanted_rate_ > 0 && in && rate_->findData(wanted_rate_) < 0)
    sentence = tr("This device does not run at the master's %1 kHz: choose another one.").arg(khz(wanted_rate_));
  if (in && in->stand_in) stand_in(&sentence);
  note_->setText(sentence);
  note_->setVisible(!sentence.isEmpty());
  emit changed();
}

/// What is chosen, or written; none where what is written is wrong, and why.
std::optional<LoopSettings> DeviceForm::stand_in(QString* trouble) const {
  const int which = std::max(0, preset_->currentIndex());
  try {
    if (size_t(which) < std::size(presets)) return loop_settings(presets[which].settings);
    return loop_settings(by_hand_->text().remove(' ').toStdString());
  } catch (const std::invalid_argument& error) {
    if (trouble) *trouble = QString::fromUtf8(error.what()) + ".";
    return {};
  }
}

std::optional<StreamOrder> DeviceForm::order() const {
  const Device *in = device(input_), *out = plays_ ? device(output_) : nullptr;
  if (!in || rate_->currentIndex() < 0) return {};
  if (wanted_rate_ != 0 && rate_->currentData().toInt() != wanted_rate_) return {};
  StreamOrder order{.input = in->name, .output = {}, .sample_rate_hz = rate_->currentData().toInt()};
  if (in->stand_in) {
    const auto loop = stand_in();
    if (!loop) return {};
    order.loop = *loop;
    order.loop.clock = clock_;
  }
  const auto inputs = input_channels_->currentData().toPoint(), outputs = output_channels_->currentData().toPoint();
  order.first_input = inputs.x(), order.inputs = std::max(1, inputs.y());
  if (out) order.output = out->name, order.first_output = outputs.x(), order.outputs = std::max(1, outputs.y());
  return order;
}

std::vector<OutputPair> DeviceForm::outputs_beside() const {
  const auto sends = order();
  return sends ? heathmist::outputs_beside(devices_, *sends) : std::vector<OutputPair>();
}

WordFormat DeviceForm::word() const { return WordFormat(word_->currentData().toInt()); }

}  // namespace heathmist::app
