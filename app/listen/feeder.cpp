#include "app/listen/feeder.hpp"

#include <QObject>
#include <algorithm>
#include <cmath>
#include <filesystem>

namespace heathmist::app {

namespace {

/// The loop within what is there: a trial may be shorter than the one it was made on. Nothing to loop: both 0.
std::pair<int64_t, int64_t> loop_frames(const Feeder::Order& order) {
  if (!order.loop_s) return {0, 0};
  const int64_t length = order.source->frames(), rate = order.source->rate_hz();
  const auto from = std::clamp<int64_t>(std::llround(order.loop_s->first * double(rate)), 0, length),
             to = std::clamp<int64_t>(std::llround(order.loop_s->second * double(rate)), 0, length);
  return to - from >= int64_t(Feeder::block_frames) / 8 ? std::pair{from, to} : std::pair<int64_t, int64_t>{0, 0};
}

}  // namespace

Feeder::Feeder(Lost lost) : lost_(std::move(lost)) {
  thread_ = std::jthread([this](std::stop_token stop) { feed(stop); });
}

Feeder::~Feeder() {
  thread_.request_stop();
  wake_.release();
  thread_.join();
  delete box_.exchange(nullptr);
}

void Feeder::set(const Order& order) {
  delete box_.exchange(new Order(order));
  wake_.release();
}

const Feeder::Block* Feeder::front() const { return read_ < written_ ? &ring_[read_ % ring_blocks] : nullptr; }

void Feeder::drop_front() { ++read_; }

void Feeder::take_order() {
  const std::unique_ptr<Order> fresh(box_.exchange(nullptr));
  if (!fresh) return;
  if (fresh->epoch != order_.epoch) at_ = fresh->from;
  order_ = *fresh;
}

void Feeder::feed(std::stop_token stop) {
  while (!stop.stop_requested()) {
    take_order();
    const auto piece = next_piece();
    if (!piece) {
      (void)wake_.try_acquire_for(std::chrono::milliseconds(8));  // the device has made room, or not yet
      continue;
    }
    Block& block = ring_[written_ % ring_blocks];
    if (const std::string trouble = read(*piece, block); !trouble.empty()) {
      lost_(order_.source, trouble);
      order_.source.reset();
      continue;
    }
    block.epoch = order_.epoch, block.first = piece->first, block.frames = piece->frames;
    at_ = piece->then;
    ++written_;
  }
}

bool Feeder::has_room() const {
  const size_t ahead = written_ - read_;
  return ahead < ring_blocks && double(ahead * block_frames) < ahead_s * order_.source->rate_hz();
}

std::optional<Feeder::Piece> Feeder::next_piece() const {
  if (!order_.source || !order_.running || !has_room()) return {};
  const auto [from, to] = loop_frames(order_);
  const bool looping = to > from && at_ < to;
  const int64_t end = looping ? to : order_.source->frames();
  if (at_ >= end) return {};
  Piece piece{at_};
  piece.frames = size_t(std::min<int64_t>(int64_t(block_frames), end - at_));
  piece.then = at_ + int64_t(piece.frames);
  if (looping && piece.then >= end) piece.then = from;
  return piece;
}

std::string Feeder::read(const Piece& piece, Block& block) {
  try {
    std::string trouble = lost_file();
    if (trouble.empty()) order_.source->read(piece.first, order_.hearing, {block.data.data(), piece.frames});
    return trouble;
  } catch (const std::exception& error) {
    return error.what();
  } catch (...) {
    return QObject::tr("Something went wrong while reading; choose the trial again.").toStdString();
  }
}

/// Looked for twice a second: a file that was deleted can be read on for as long as it is open, but is no proof any
/// more.
std::string Feeder::lost_file() {
  const auto now = std::chrono::steady_clock::now();
  if (now - looked_at_files_ < std::chrono::milliseconds(500)) return {};
  looked_at_files_ = now;
  std::error_code trouble;
  const auto other = order_.hearing.other ? order_.hearing.other->clip : nullptr;
  for (const auto& clip : {order_.source->pair().master, order_.source->pair().ret, other}) {
    if (!clip) continue;
    const auto& file = clip->path();
    if (!file.is_absolute() || std::filesystem::exists(file, trouble)) continue;
    return QObject::tr("%1 is gone while it is heard; put it back, or point to it anew (Ctrl L).")
        .arg(QString::fromStdString(file.string()))
        .toStdString();
  }
  return {};
}

}  // namespace heathmist::app
