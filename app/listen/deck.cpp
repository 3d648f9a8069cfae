#include "app/listen/deck.hpp"

#include <algorithm>
#include <cmath>
#include <numbers>
#include <thread>

namespace heathmist::app {

Deck::Deck(Open open, QObject* parent) : QObject(parent), open_(std::move(open)) {
  watch_.setInterval(patience_ms);
  connect(&watch_, &QTimer::timeout, this, &Deck::look_after);
}

Deck::~Deck() {
  if (device_) device_->stop();
}

void Deck::load(std::shared_ptr<const Stimuli> stimuli) {
  pause();
  stimuli_ = std::move(stimuli);
  at_ = 0, chosen_ = 0;
  for (Sent& s : sent_) s.product = 0, s.energy = 0;
}

void Deck::play() {
  if (playing_ || !stimuli_ || stimuli_->sound.empty() || stimuli_->sound.size() > most) return;
  if (!device_) device_ = open_();
  weight_.fill(0), weight_[size_t(chosen_)] = 1, fade_ = 0, stopping_ = false;
  seen_ = given_;
  playing_ = device_->start(stimuli_->rate_hz, [this](std::span<double> out) { render(out); });
  if (!playing_) return emit dropped_out();
  watch_.start();
  emit playing_changed(true);
}

void Deck::pause() {
  if (!playing_) return;
  stopping_ = true;  // it fades out while the device takes what it still asks for
  std::this_thread::sleep_for(std::chrono::milliseconds(30));
  device_->stop();
  playing_ = false;
  watch_.stop();
  emit playing_changed(false);
}

double Deck::place_s() const { return stimuli_ ? double(at_) / stimuli_->rate_hz : 0; }

std::optional<double> Deck::sent_lufs(size_t sound) const {
  if (!stimuli_ || sound >= stimuli_->sound.size()) return {};
  const double energy = sent_[sound].energy, product = sent_[sound].product;
  if (energy <= 0 || product <= 0) return {};
  return stimuli_->lufs[sound] + 20 * std::log10(product / energy);
}

void Deck::look_after() {
  const int64_t now = given_;
  if (std::exchange(seen_, now) != now) return;
  device_->stop();
  playing_ = false;
  watch_.stop();
  emit playing_changed(false);
  emit dropped_out();
}

/// A round begins from nothing and ends in it, so that its end and its beginning make no click.
double Deck::seam_gain(int64_t frame) const {
  const double rate = stimuli_->rate_hz, frames = double(stimuli_->sound.front().frames());
  const double edge = std::min(double(frame) + 0.5, frames - double(frame) - 0.5) / (seam_s * rate);
  return edge >= 1 ? 1 : 0.5 - 0.5 * std::cos(std::numbers::pi * edge);
}

void Deck::render(std::span<double> out) noexcept {
  const auto& sounds = stimuli_->sound;
  const int64_t frames = sounds.front().frames();
  const auto target = std::min(size_t(std::max(0, int(chosen_))), sounds.size() - 1);
  const double step = 1 / (switch_s * stimuli_->rate_hz), fade_step = 1 / (seam_s * stimuli_->rate_hz);
  const bool stopping = stopping_;
  int64_t at = at_;
  for (size_t n = 0; n + 1 < out.size(); n += 2) {
    fade_ = std::clamp(fade_ + (stopping ? -fade_step : fade_step), 0.0, 1.0);
    const double gain = fade_ * seam_gain(at);
    double left = 0, right = 0;
    for (size_t k = 0; k < sounds.size(); ++k) {
      weight_[k] = std::clamp(weight_[k] + (k == target ? step : -step), 0.0, 1.0);
      const double l = sounds[k].channel(0)[size_t(at)], r = sounds[k].channel(1)[size_t(at)];
      left += weight_[k] * l, right += weight_[k] * r;
    }
    out[n] = gain * left, out[n + 1] = gain * right;
    if (gain == 1 && weight_[target] == 1) {
      const double l = sounds[target].channel(0)[size_t(at)], r = sounds[target].channel(1)[size_t(at)];
      sent_[target].product = sent_[target].product + out[n] * l + out[n + 1] * r;
      sent_[target].energy = sent_[target].energy + l * l + r * r;
    }
    if (++at == frames) at = 0;
  }
  at_ = at;
  given_ = given_ + int64_t(out.size() / 2);
}

}  // namespace heathmist::app
