#include "app/listen/player.hpp"

#include <algorithm>
#include <cmath>
#include <filesystem>

namespace heathmist::app {

Player::Player(std::unique_ptr<OutputDevice> device, QObject* parent)
    : QObject(parent), device_(std::move(device)), ring_(ring_blocks) {
  ticker_.setInterval(33);
  connect(&ticker_, &QTimer::timeout, this, [this] {
    emit moved(place_s());
    if (ended_.exchange(false)) {
      pause();
      seek(0);
    }
  });
  fading_out_.setSingleShot(true);
  fading_out_.setInterval(fade_out_ms);
  connect(&fading_out_, &QTimer::timeout, this, &Player::stop_device);
  feeder_ = std::jthread([this](std::stop_token stop) { feed(stop); });
}

Player::~Player() {
  device_->stop();
  feeder_.request_stop();
  wake_.notify_all();
}

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
  {
    std::scoped_lock held(lock_);
    if (source_ && source_->pair().master == pair.master && source_->pair().ret == pair.ret &&
        same_fit(source_->fit(), fit))
      return;
  }
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
  {
    std::scoped_lock held(lock_);
    const double at_s = rate_ > 0 ? double(place_) / rate_ : 0;
    source_ = std::move(source);
    hearing_.cause.reset();
    rate_ = rate;
    length_ = pair.master->format().frames;
    read_at_ = std::clamp<int64_t>(std::llround(at_s * rate), 0, length_);
    place_ = read_at_;
    ++epoch_;
  }
  if (other_rate) {
    mixer_ = Mixer(rate);
    meter_ = std::make_unique<LiveMeter>(rate);
    set_mix(mix());
    if (playing_) restart_device();
  }
  wake_.notify_all();
  emit source_changed();
}

void Player::clear_source() {
  pause();
  stop_device();
  {
    std::scoped_lock held(lock_);
    source_.reset();
    hearing_.cause.reset();
    rate_ = 0;
    ++epoch_;
  }
  emit source_changed();
}

bool Player::has_source() const {
  std::scoped_lock held(lock_);
  return source_ != nullptr;
}

void Player::stop_device() {
  device_->stop();
  sounding_ = false;
}

/// The device is stopped.
void Player::restart_device() {
  seam_ = Seam(rate_);
  follows_.reset();
  mixer_.set(mix());
  mixer_.finish_fade();
  sounding_ = true;
  if (!device_->start(rate_, [this](std::span<double> out) { render(out); })) {
    device_ = simulated_output();  // the device went away: time goes on
    device_->start(rate_, [this](std::span<double> out) { render(out); });
  }
}

void Player::play() {
  if (!has_source() || playing_) return;
  fading_out_.stop();
  device_->stop();  // it may still be fading out
  playing_ = true;
  stopping_ = false;
  ended_ = false;  // the device may have said so again after the last time
  wake_.notify_all();
  restart_device();
  ticker_.start();
  emit playing_changed(true);
}

void Player::pause() {
  if (!playing_) return;
  playing_ = false;
  stopping_ = true;
  ticker_.stop();
  seek(place_s());
  emit playing_changed(false);
  fading_out_.start();
}

void Player::seek(double at_s) {
  {
    std::scoped_lock held(lock_);
    if (!source_) return;
    read_at_ = std::clamp<int64_t>(std::llround(at_s * rate_), 0, length_);
    place_ = read_at_;
    ++epoch_;
  }
  wake_.notify_all();
  emit moved(place_s());
}

double Player::place_s() const { return rate_ > 0 ? double(place_) / rate_ : 0; }

void Player::set_loop(std::optional<std::pair<double, double>> seconds) {
  std::scoped_lock held(lock_);
  loop_s_ = seconds;
}

/// The loop within what is there: a trial may be shorter than the one it was made on.
std::pair<int64_t, int64_t> Player::loop_frames() const {
  if (!loop_s_ || !source_) return {0, 0};
  const int64_t length = source_->frames(), rate = source_->rate_hz();
  const auto from = std::clamp<int64_t>(std::llround(loop_s_->first * double(rate)), 0, length),
             to = std::clamp<int64_t>(std::llround(loop_s_->second * double(rate)), 0, length);
  return to - from >= int64_t(block_frames) / 8 ? std::pair{from, to} : std::pair<int64_t, int64_t>{0, 0};
}

void Player::set_band(std::optional<std::pair<double, double>> hz) {
  std::scoped_lock held(lock_);
  hearing_.band_hz = hz;
  read_anew();
}

void Player::set_cause(std::shared_ptr<const Clip> cause) {
  std::scoped_lock held(lock_);
  if (cause == hearing_.cause) return;
  hearing_.cause = std::move(cause);
  read_anew();
}

/// What was read ahead is read again.
void Player::read_anew() {
  read_at_ = place_;
  ++epoch_;
}

void Player::set_mix(const MixSettings& settings) {
  {
    std::scoped_lock held(lock_);
    mix_ = settings;
  }
  heard_ = int(settings.heard);
  return_gain_ = settings.return_gain;
  lift_db_ = settings.lift_db;
  if (!sounding_) {
    mixer_.set(settings);
    mixer_.finish_fade();
  }
}

MixSettings Player::mix() const {
  std::scoped_lock held(lock_);
  return mix_;
}

/// Reads without the lock: a key that is pressed meanwhile waits for nothing, and what was read for what is no longer
/// asked for is thrown away.
void Player::feed(std::stop_token stop) {
  while (!stop.stop_requested()) {
    std::optional<Order> order;
    {
      std::unique_lock held(lock_);
      order = next_order();
      if (!order) {
        wake_.wait_for(held, stop, std::chrono::milliseconds(8), [] { return false; });
        continue;
      }
    }
    RingBlock& block = ring_[written_ % ring_blocks];
    QString trouble;
    try {
      trouble = lost_file(*order->source);
      if (trouble.isEmpty()) order->source->read(order->first, order->hearing, {block.data.data(), order->frames});
    } catch (const std::exception& error) {
      trouble = QString::fromUtf8(error.what());
    } catch (...) {
      trouble = tr("Something went wrong while reading; choose the trial again.");
    }
    if (!trouble.isEmpty()) {
      lose(order->source, trouble);
      continue;
    }
    block.epoch = order->epoch, block.first = order->first, block.frames = order->frames;
    std::scoped_lock held(lock_);
    if (epoch_ != order->epoch) continue;
    read_at_ = order->then;
    ++written_;
  }
}

bool Player::has_room() const {
  const size_t ahead = written_ - read_;
  return ahead < ring_blocks && double(ahead * block_frames) < ahead_s * source_->rate_hz();
}

std::optional<Player::Order> Player::next_order() const {
  if (!source_ || !playing_ || !has_room()) return {};
  const auto [from, to] = loop_frames();
  const bool looping = to > from && read_at_ < to;
  const int64_t end = looping ? to : source_->frames();
  if (read_at_ >= end) return {};
  Order order{source_, hearing_, epoch_, read_at_};
  order.frames = size_t(std::min<int64_t>(int64_t(block_frames), end - read_at_));
  order.then = read_at_ + int64_t(order.frames);
  if (looping && order.then >= end) order.then = from;
  return order;
}

/// Looked for twice a second: a file that was deleted can be read on for as long as it is open, but is no proof any
/// more.
QString Player::lost_file(const PairStream& source) {
  const auto now = std::chrono::steady_clock::now();
  if (now - looked_at_files_ < std::chrono::milliseconds(500)) return {};
  looked_at_files_ = now;
  std::error_code trouble;
  for (const auto& clip : {source.pair().master, source.pair().ret}) {
    const auto& file = clip->path();
    if (!file.is_absolute() || std::filesystem::exists(file, trouble)) continue;
    return tr("%1 is gone while it is heard; put it back, or point to it anew (Ctrl L).")
        .arg(QString::fromStdString(file.string()));
  }
  return {};
}

/// Nothing more is read of it, and the interface is told.
void Player::lose(const std::shared_ptr<PairStream>& source, const QString& sentence) {
  {
    std::scoped_lock held(lock_);
    if (source_ != source) return;  // another is heard already
    source_.reset();
  }
  QMetaObject::invokeMethod(
      this, [this, sentence] { give_up(sentence); }, Qt::QueuedConnection);
}

void Player::give_up(const QString& sentence) {
  if (has_source()) return;  // another was chosen meanwhile
  pause();
  clear_source();
  emit failed(sentence);
}

void Player::render(std::span<double> out) {
  mixer_.set({Heard(heard_.load()), return_gain_, lift_db_});
  size_t done = 0;
  const size_t wanted = out.size() / 2;
  while (!stopping_ && done < wanted && read_ < written_) {
    RingBlock& block = ring_[read_ % ring_blocks];
    if (block.epoch != epoch_ || used_ >= block.frames) {
      used_ = 0;
      ++read_;
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
