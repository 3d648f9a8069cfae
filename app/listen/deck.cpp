#include "app/listen/deck.hpp"

#include <algorithm>
#include <cmath>

namespace heathmist::app {

Deck::Deck(Open open, QObject* parent) : QObject(parent), open_(std::move(open)) {
  watch_.setInterval(patience_ms);
  connect(&watch_, &QTimer::timeout, this, &Deck::look_after);
  fading_out_.setSingleShot(true);
  fading_out_.setInterval(fade_out_ms);
  connect(&fading_out_, &QTimer::timeout, this, &Deck::stop_device);
}

Deck::~Deck() { stop_device(); }

void Deck::stop_device() {
  fading_out_.stop();
  if (device_) device_->stop();
}

void Deck::load(std::shared_ptr<const Stimuli> stimuli) {
  pause();
  stop_device();  // nothing of the one before is read any more
  stimuli_ = std::move(stimuli);
  sound_.fill(nullptr);
  for (size_t k = 0; stimuli_ && k < std::min(most, stimuli_->sound.size()); ++k) sound_[k] = &stimuli_->sound[k];
  for (Change& c : changes_) c.offer = nullptr, c.offered = c.taken = nullptr;
  at_ = 0, chosen_ = 0;
  for (Sent& s : sent_) s.product = 0, s.energy = 0;
}

void Deck::put(size_t sound, std::shared_ptr<const Planar> in_its_place) {
  if (!stimuli_ || sound >= stimuli_->sound.size() || in_its_place->frames() != stimuli_->sound.front().frames())
    return;
  Change& c = changes_[sound];
  const bool was_taken = c.offer.exchange(in_its_place.get()) == nullptr;
  if (was_taken) c.taken = std::move(c.offered);  // the one before it is not read any more
  c.offered = std::move(in_its_place);
}

void Deck::play() {
  if (playing_ || !stimuli_ || stimuli_->sound.empty() || stimuli_->sound.size() > most) return;
  stop_device();  // it may still be fading out
  if (!device_) device_ = open_();
  weight_.fill(0), weight_[std::min(size_t(chosen_), stimuli_->sound.size() - 1)] = 1;
  seam_ = Seam(stimuli_->rate_hz);
  since_jump_ = 0, fades_out_ = false, stopping_ = false;
  seen_ = given_;
  playing_ = device_->start(stimuli_->rate_hz, [this](std::span<double> out) { render(out); });
  if (!playing_) return emit dropped_out();
  watch_.start();
  emit playing_changed(true);
}

void Deck::pause() {
  if (!playing_) return;
  stopping_ = true;
  playing_ = false;
  watch_.stop();
  fading_out_.start();
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
  stop_device();
  playing_ = false;
  watch_.stop();
  emit playing_changed(false);
  emit dropped_out();
}

void Deck::render(std::span<double> out) noexcept {
  const int64_t frames = stimuli_->sound.front().frames();
  const size_t target = target_now();
  given_ = given_ + int64_t(out.size() / 2);
  if (stopping_) {
    if (!std::exchange(fades_out_, true)) seam_.jump();
    std::fill(out.begin(), out.end(), 0.0);
    return seam_.process(out);
  }
  int64_t at = at_;
  while (out.size() >= 2) {
    const auto piece = out.first(2 * size_t(std::min(int64_t(out.size() / 2), frames - at)));
    if (since_jump_ == 0) seam_.jump();
    const bool as_it_is = weight_[target] == 1 && double(since_jump_) >= Seam::fade_s * stimuli_->rate_hz;
    mix(piece, at, target);
    seam_.process(piece);
    if (as_it_is) note_sent(piece, at, target);
    at += int64_t(piece.size() / 2), since_jump_ += int64_t(piece.size() / 2);
    if (at == frames) at = 0, since_jump_ = 0;
    out = out.subspan(piece.size());
  }
  at_ = at;
}

/// The chosen one, once what has been put in its place is there.
size_t Deck::target_now() noexcept {
  const size_t chosen = std::min(size_t(std::max(0, int(chosen_))), stimuli_->sound.size() - 1);
  bool waits = false;
  for (size_t k = 0; k < stimuli_->sound.size(); ++k) {
    if (!changes_[k].offer.load()) continue;
    if (weight_[k] > 0)
      waits = waits || k == chosen;
    else if (const Planar* next = changes_[k].offer.exchange(nullptr))
      sound_[k] = next;
  }
  return waits ? 0 : chosen;
}

/// All sounds by their weights, which move towards the chosen one.
void Deck::mix(std::span<double> out, int64_t at, size_t target) noexcept {
  const size_t count = stimuli_->sound.size();
  const double step = 1 / (switch_s_ * stimuli_->rate_hz);
  for (size_t n = 0; n + 1 < out.size(); n += 2, ++at) {
    out[n] = out[n + 1] = 0;
    for (size_t k = 0; k < count; ++k) {
      weight_[k] = std::clamp(weight_[k] + (k == target ? step : -step), 0.0, 1.0);
      for (int c = 0; c < 2; ++c) out[n + size_t(c)] += weight_[k] * sound_[k]->channel(c)[size_t(at)];
    }
  }
}

void Deck::note_sent(std::span<const double> out, int64_t at, size_t target) noexcept {
  double product = 0, energy = 0;
  for (size_t n = 0; n < out.size(); ++n) {
    const double own = sound_[target]->channel(int(n % 2))[size_t(at) + n / 2];
    product += out[n] * own, energy += own * own;
  }
  sent_[target].product = sent_[target].product + product;
  sent_[target].energy = sent_[target].energy + energy;
}

}  // namespace heathmist::app
