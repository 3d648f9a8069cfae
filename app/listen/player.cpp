#include "app/listen/player.hpp"

#include <algorithm>
#include <cmath>

namespace heathmist::app {

Player::Player(std::unique_ptr<OutputDevice> device, QObject* parent)
    : QObject(parent), device_(std::move(device)), feeder_([this](const auto& source, const std::string& sentence) {
        QMetaObject::invokeMethod(
            this, [this, source, text = QString::fromStdString(sentence)] { give_up(source, text); },
            Qt::QueuedConnection);
      }) {
  ticker_.setInterval(33);
  connect(&ticker_, &QTimer::timeout, this, [this] {
    emit moved(place_s());
    if (const auto why = device_->lost(); !why.empty()) return lose_device(QString::fromStdString(why));
    if (ended_.exchange(false)) {
      pause();
      seek(0);
    }
  });
  fading_out_.setSingleShot(true);
  fading_out_.setInterval(fade_out_ms);
  connect(&fading_out_, &QTimer::timeout, this, &Player::stop_device);
}

Player::~Player() { device_->stop(); }

namespace {

bool same_fit(const Fit& a, const Fit& b) {
  return a.delay_samples == b.delay_samples && a.drift_ppm == b.drift_ppm && a.gain_db == b.gain_db &&
         a.first == b.first && a.last == b.last &&
         std::equal(a.pairs.begin(), a.pairs.end(), b.pairs.begin(), b.pairs.end(), [](const auto& x, const auto& y) {
           return x.master == y.master && x.ret == y.ret && x.inverted == y.inverted;
         });
}

}  // namespace

void Player::set_source(const Comparable& pair, const Fit& fit) {
  const auto& now = order_.source;
  if (now && now->pair().master == pair.master && now->pair().ret == pair.ret && same_fit(now->fit(), fit)) return;
  std::shared_ptr<PairStream> source;
  try {
    source = std::make_shared<PairStream>(pair, fit);
  } catch (const std::exception& error) {  // a file has vanished meanwhile: nothing to be heard
    clear_source();
    emit failed(QString::fromUtf8(error.what()));
    return;
  }
  const int rate = source->rate_hz();
  const bool other_rate = rate != rate_;
  if (other_rate) stop_device();
  const double at_s = place_s();
  order_.source = std::move(source);
  order_.hearing.cause.reset();
  order_.hearing.other.reset();
  rate_ = rate;
  length_ = pair.master->format().frames;
  read_from(std::llround(at_s * rate));
  if (other_rate) {
    mixer_ = Mixer(rate);
    meter_ = std::make_unique<LiveMeter>(rate);
    set_mix(mix_);
    if (playing_) restart_device();
  }
  emit source_changed();
}

void Player::clear_source() {
  pause();
  stop_device();
  order_.source.reset();
  order_.hearing.cause.reset();
  order_.hearing.other.reset();
  rate_ = 0;
  read_from(0);
  emit source_changed();
}

/// Reading begins anew there; what was read ahead is not heard.
void Player::read_from(int64_t frame) {
  order_.from = order_.source ? std::clamp<int64_t>(frame, 0, length_) : 0;
  place_ = order_.from;  // the device's thread may still put its own there, until it sees the epoch
  epoch_ = ++order_.epoch;
  feeder_.set(order_);
}

void Player::stop_device() {
  device_->stop();
  sounding_ = false;
}

/// The device is stopped.
void Player::restart_device() {
  seam_ = Seam(rate_);
  follows_.reset();
  mixer_.set(mix_);
  mixer_.finish_fade();
  sounding_ = true;
  if (!device_->start(rate_, [this](std::span<double> out) { render(out); })) {
    device_ = simulated_output();  // the device went away: time goes on
    device_->start(rate_, [this](std::span<double> out) { render(out); });
  }
  emit device_changed();
}

void Player::set_device(std::unique_ptr<OutputDevice> device) {
  device_->stop();
  device_ = std::move(device);
  device_->set_at_own_rate(at_own_rate_);
  if (playing_)
    restart_device();
  else
    sounding_ = false;
  emit device_changed();
}

/// The place stays; the device is tried again by the next play().
void Player::lose_device(const QString& sentence) {
  pause();
  stop_device();
  emit failed(tr("%1; choose another one in the menu at the right of the listening bar, or play again.").arg(sentence));
}

void Player::set_at_own_rate(bool on) {
  at_own_rate_ = on;
  device_->set_at_own_rate(on);
  if (playing_) {
    device_->stop();
    restart_device();
  }
  emit device_changed();
}

void Player::play() {
  if (!has_source() || playing_) return;
  fading_out_.stop();
  device_->stop();  // it may still be fading out
  playing_ = true;
  stopping_ = false;
  ended_ = false;  // the device may have said so again after the last time
  order_.running = true;
  feeder_.set(order_);
  restart_device();
  ticker_.start();
  emit playing_changed(true);
}

void Player::pause() {
  if (!playing_) return;
  playing_ = false;
  stopping_ = true;
  order_.running = false;
  ticker_.stop();
  seek(place_s());
  emit playing_changed(false);
  fading_out_.start();
}

void Player::seek(double at_s) {
  if (!order_.source) return;
  read_from(std::llround(at_s * rate_));
  emit moved(place_s());
}

double Player::place_s() const { return rate_ > 0 ? double(place_) / rate_ : 0; }

void Player::set_loop(std::optional<std::pair<double, double>> seconds) {
  order_.loop_s = seconds;
  feeder_.set(order_);
}

void Player::set_band(std::optional<std::pair<double, double>> hz) {
  order_.hearing.band_hz = hz;
  read_from(place_);
}

void Player::set_other(std::shared_ptr<const OtherSound> other) {
  if (other == order_.hearing.other) return;
  order_.hearing.other = std::move(other);
  read_from(place_);
}

void Player::set_cause(std::shared_ptr<const Clip> cause) {
  if (cause == order_.hearing.cause) return;
  if (cause) order_.hearing.other.reset();  // it is of the return
  order_.hearing.cause = std::move(cause);
  read_from(place_);
}

void Player::set_mix(const MixSettings& settings) {
  mix_ = settings;
  heard_ = int(settings.heard);
  return_gain_ = settings.return_gain;
  lift_db_ = settings.lift_db;
  if (!sounding_) {
    mixer_.set(settings);
    mixer_.finish_fade();
  }
}

void Player::give_up(const std::shared_ptr<PairStream>& source, const QString& sentence) {
  if (order_.source != source) return;  // another was chosen meanwhile
  pause();
  clear_source();
  emit failed(sentence);
}

/// On the device's thread: allocates nothing, waits for nothing, throws nothing.
void Player::render(std::span<double> out) noexcept {
  mixer_.set({Heard(heard_.load()), return_gain_, lift_db_});
  size_t done = 0;
  const size_t wanted = out.size() / 2;
  while (!stopping_ && done < wanted) {
    const Feeder::Block* next = feeder_.front();
    if (!next) break;
    const Feeder::Block& block = *next;
    if (block.epoch != epoch_ || used_ >= block.frames) {
      used_ = 0;
      feeder_.drop_front();
      continue;
    }
    const size_t frames = std::min(wanted - done, block.frames - used_);
    const Follows here{block.epoch, block.first + int64_t(used_)};
    if (follows_ != here) seam_.jump();  // a start, a seek, the end of a loop, another band
    const auto part = out.subspan(2 * done, 2 * frames);
    mixer_.process({block.data.data() + used_, frames}, part);
    seam_.process(part);
    used_ += frames;
    done += frames;
    place_ = block.first + int64_t(used_);
    follows_ = Follows{here.epoch, place_.load()};
  }
  if (done < wanted) {  // a stop, the end, or what is to come is not read yet
    if (follows_) seam_.jump();
    follows_.reset();
    const auto rest = out.subspan(2 * done);
    std::fill(rest.begin(), rest.end(), 0.0);
    seam_.process(rest);
  }
  meter_->add(out);
  if (done == 0 && place_ >= length_) ended_ = true;
}

}  // namespace heathmist::app
