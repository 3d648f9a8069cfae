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
    if (reader_ && pair_.master == pair.master && pair_.ret == pair.ret && same_fit(fit_, fit)) return;
  }
  std::unique_ptr<Reader> reader;
  std::unique_ptr<LaidReturn> laid;
  try {
    reader = pair.master->reader();
    laid = std::make_unique<LaidReturn>(*pair.ret, fit);
  } catch (const std::exception& error) {  // a file has vanished meanwhile: nothing to be heard
    clear_source();
    emit failed(QString::fromUtf8(error.what()));
    return;
  }
  const int rate = pair.master->format().sample_rate_hz;
  const bool other_rate = rate != rate_;
  if (other_rate) device_->stop();
  {
    std::scoped_lock held(lock_);
    const double at_s = rate_ > 0 ? double(place_) / rate_ : 0;
    pair_ = pair;
    fit_ = fit;
    reader_ = std::move(reader);
    laid_ = std::move(laid);
    cause_.reset(), cause_clip_.reset();
    rate_ = rate;
    prepare_band();
    length_ = pair.master->format().frames;
    read_at_ = std::clamp<int64_t>(std::llround(at_s * rate), 0, pair.master->format().frames);
    place_ = read_at_;
    ++epoch_;
  }
  if (other_rate) {
    mixer_ = Mixer(rate);
    meter_ = std::make_unique<LiveMeter>(rate);
    set_mix(mix());
    mixer_.settle();
    if (playing_) restart_device();
  }
  wake_.notify_all();
}

void Player::clear_source() {
  pause();
  device_->stop();
  std::scoped_lock held(lock_);
  reader_.reset();
  laid_.reset();
  cause_.reset(), cause_clip_.reset();
  pair_ = {};
  rate_ = 0;
  ++epoch_;
}

bool Player::has_source() const {
  std::scoped_lock held(lock_);
  return reader_ != nullptr;
}

void Player::restart_device() {
  if (!device_->start(rate_, [this](std::span<double> out) { render(out); })) {
    device_ = simulated_output();  // the device went away: time goes on
    device_->start(rate_, [this](std::span<double> out) { render(out); });
  }
}

void Player::play() {
  if (!has_source() || playing_) return;
  playing_ = true;
  ended_ = false;  // the device may have said so again after the last time
  wake_.notify_all();
  restart_device();
  ticker_.start();
  emit playing_changed(true);
}

void Player::pause() {
  if (!playing_) return;
  playing_ = false;
  device_->stop();
  ticker_.stop();
  seek(place_s());
  emit playing_changed(false);
}

void Player::seek(double at_s) {
  {
    std::scoped_lock held(lock_);
    if (!reader_) return;
    read_at_ = std::clamp<int64_t>(std::llround(at_s * rate_), 0, pair_.master->format().frames);
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
  if (!loop_s_ || !pair_.master) return {0, 0};
  const int64_t length = pair_.master->format().frames;
  const auto from = std::clamp<int64_t>(std::llround(loop_s_->first * rate_), 0, length),
             to = std::clamp<int64_t>(std::llround(loop_s_->second * rate_), 0, length);
  return to - from >= int64_t(block_frames) / 8 ? std::pair{from, to} : std::pair<int64_t, int64_t>{0, 0};
}

void Player::set_band(std::optional<std::pair<double, double>> hz) {
  std::scoped_lock held(lock_);
  band_ = hz;
  prepare_band();
  read_anew();
}

void Player::set_cause(std::shared_ptr<const Clip> cause) {
  std::scoped_lock held(lock_);
  if (cause == cause_clip_) return;
  cause_clip_ = std::move(cause);
  cause_.reset();
  read_anew();
}

/// What was read ahead is read again.
void Player::read_anew() {
  read_at_ = place_;
  ++epoch_;
}

void Player::prepare_band() {
  filters_.clear();
  if (band_ && rate_ > 0) filters_.assign(6, dsp::BandPass(rate_, band_->first, band_->second));
}

void Player::set_mix(const MixSettings& settings) {
  {
    std::scoped_lock held(lock_);
    mix_ = settings;
  }
  heard_ = int(settings.heard);
  return_gain_ = settings.return_gain;
  lift_db_ = settings.lift_db;
  if (!playing_) {
    mixer_.set(settings);
    mixer_.settle();
  }
}

MixSettings Player::mix() const {
  std::scoped_lock held(lock_);
  return mix_;
}

void Player::feed(std::stop_token stop) {
  while (!stop.stop_requested()) {
    bool fed = false;
    QString trouble;
    {
      std::unique_lock held(lock_);
      const bool room = written_ - read_ < ring_blocks;
      try {
        if (reader_ && playing_) trouble = lost_file();
        if (reader_ && room && playing_ && trouble.isEmpty()) fed = feed_block(ring_[written_ % ring_blocks]);
      } catch (const std::exception& error) {
        trouble = QString::fromUtf8(error.what());
      } catch (...) {
        trouble = tr("Something went wrong while reading; choose the trial again.");
      }
      if (!trouble.isEmpty()) reader_.reset(), laid_.reset();  // nothing more is read of it
      if (!fed) wake_.wait_for(held, stop, std::chrono::milliseconds(8), [] { return false; });
    }
    if (fed) ++written_;
    if (!trouble.isEmpty())
      QMetaObject::invokeMethod(
          this, [this, trouble] { give_up(trouble); }, Qt::QueuedConnection);
  }
}

/// Looked for twice a second: a file that was deleted can be read on for as long as it is open, but is no proof any
/// more.
QString Player::lost_file() {
  const auto now = std::chrono::steady_clock::now();
  if (now - looked_at_files_ < std::chrono::milliseconds(500)) return {};
  looked_at_files_ = now;
  std::error_code trouble;
  for (const auto& clip : {pair_.master, pair_.ret}) {
    const auto& file = clip->path();
    if (!file.is_absolute() || std::filesystem::exists(file, trouble)) continue;
    return tr("%1 is gone while it is heard; put it back, or point to it anew (Ctrl L).")
        .arg(QString::fromStdString(file.string()));
  }
  return {};
}

void Player::give_up(const QString& sentence) {
  pause();
  clear_source();
  emit failed(sentence);
}

bool Player::feed_block(RingBlock& block) {
  const int64_t length = pair_.master->format().frames;
  const auto [from, to] = loop_frames();
  const bool looping = to > from && read_at_ < to;
  const int64_t end = looping ? to : length;
  if (read_at_ >= end) return false;
  block.epoch = epoch_;
  block.first = read_at_;
  block.frames = size_t(std::min<int64_t>(int64_t(block_frames), end - read_at_));
  fill(block);
  read_at_ += int64_t(block.frames);
  if (looping && read_at_ >= end) read_at_ = from;
  return true;
}

void Player::fill(RingBlock& block) {
  Planar m, r;
  std::vector<double> residual(block.frames);
  reader_->read(read_at_, int64_t(block.frames), m);
  laid_->read(read_at_, int64_t(block.frames), r);
  const auto last_pair = fit_.pairs.size() - 1;
  for (size_t c = 0; c < 2; ++c) {
    const auto& pair = fit_.pairs[std::min(c, last_pair)];
    const auto from = m.channel(std::min<int>(int(c), m.channels() - 1)),
               to = r.channel(std::min<int>(int(c), r.channels() - 1));
    take_residual(m.channel(pair.master), r.channel(pair.ret), pair, fit_.gain(), residual);
    for (size_t n = 0; n < block.frames; ++n) {
      block.data[n].master[c] = from[n];
      block.data[n].ret[c] = to[n];
      const int64_t frame = read_at_ + int64_t(n);
      block.data[n].residual[c] = frame >= fit_.first && frame < fit_.last ? residual[n] : 0;
    }
  }
  if (cause_clip_) put_cause(block);
  if (filters_.empty()) return;
  for (size_t n = 0; n < block.frames; ++n)
    for (size_t c = 0; c < 2; ++c) {
      block.data[n].master[c] = filters_[c].run(block.data[n].master[c]);
      block.data[n].ret[c] = filters_[2 + c].run(block.data[n].ret[c]);
      block.data[n].residual[c] = filters_[4 + c].run(block.data[n].residual[c]);
    }
}

void Player::put_cause(RingBlock& block) {
  if (!cause_) cause_ = cause_clip_->reader();
  Planar part;
  cause_->read(block.first, int64_t(block.frames), part);
  for (size_t p = 0; p < fit_.pairs.size(); ++p) {
    const auto& pair = fit_.pairs[p];
    const auto of = part.channel(int(p));
    const double gain = (pair.inverted ? -1 : 1) * fit_.gain();
    for (size_t c = 0; c < 2; ++c) {
      const bool mono_return = pair_.ret->format().channels == 1, own_pair = std::min(c, fit_.pairs.size() - 1) == p;
      for (size_t n = 0; n < block.frames; ++n) {
        if (own_pair) block.data[n].residual[c] = of[n];
        if (mono_return ? p == 0 : pair.ret == int(c)) block.data[n].ret[c] -= gain * of[n];
      }
    }
  }
}

void Player::render(std::span<double> out) {
  mixer_.set({Heard(heard_.load()), return_gain_, lift_db_});
  size_t done = 0;
  const size_t wanted = out.size() / 2;
  while (done < wanted && read_ < written_) {
    RingBlock& block = ring_[read_ % ring_blocks];
    if (block.epoch != epoch_ || used_ >= block.frames) {
      used_ = 0;
      ++read_;
      continue;
    }
    const size_t frames = std::min(wanted - done, block.frames - used_);
    mixer_.process({block.data.data() + used_, frames}, out.subspan(2 * done, 2 * frames));
    used_ += frames;
    done += frames;
    place_ = block.first + int64_t(used_);
  }
  std::fill(out.begin() + long(2 * done), out.end(), 0.0);
  meter_->add(out);
  if (done == 0 && place_ >= length_) ended_ = true;
}

}  // namespace heathmist::app
