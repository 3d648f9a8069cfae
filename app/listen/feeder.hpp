// Reads what is heard ahead, in a thread of its own, into a ring that the device's thread empties. Nobody waits for
// anybody: orders lie in a box until the feeder looks into it, and what was read for an order that has been changed
// meanwhile is known by its epoch.
#pragma once
#include <atomic>
#include <chrono>
#include <functional>
#include <memory>
#include <semaphore>
#include <string>
#include <thread>

#include "app/listen/pair_stream.hpp"

namespace heathmist::app {

class Feeder {
 public:
  static constexpr size_t block_frames = 512;
  struct Block {
    uint64_t epoch = 0;
    int64_t first = 0;
    size_t frames = 0;
    std::array<MixFrame, block_frames> data;
  };
  /// What is to be read.
  struct Order {
    std::shared_ptr<PairStream> source{};  ///< none: nothing; read by the feeder alone
    Hearing hearing{};
    std::optional<std::pair<double, double>> loop_s{};  ///< cut to what there is
    bool running = false;
    uint64_t epoch = 1;  ///< another one: reading begins anew,
    int64_t from = 0;    ///< from this frame on
  };
  using Lost = std::function<void(const std::shared_ptr<PairStream>& source, const std::string& sentence)>;

  /// `lost`: called by the feeder's thread where a file went away or broke off; nothing more is read of it.
  explicit Feeder(Lost lost);
  ~Feeder();
  /// Takes the place of the order before it. Never waits.
  void set(const Order& order);

  /// The oldest block that is read; none: nothing is. For the device's thread: never waits, allocates nothing.
  const Block* front() const;
  void drop_front();

 private:
  static constexpr size_t ring_blocks = 320;
  static constexpr double ahead_s = 0.4;  // read ahead, at every rate
  /// What is read next.
  struct Piece {
    int64_t first = 0, then = 0;  // then: where the one after it begins
    size_t frames = 0;
  };
  void feed(std::stop_token stop);
  void take_order();
  std::optional<Piece> next_piece() const;  // nothing to be read: none
  bool has_room() const;
  std::string read(const Piece& piece, Block& block);  // what went wrong; empty: nothing
  std::string lost_file();

  Lost lost_;
  std::atomic<Order*> box_{nullptr};
  std::counting_semaphore<> wake_{0};
  std::vector<Block> ring_{ring_blocks};
  std::atomic<size_t> written_{0}, read_{0};
  // the feeder's own
  Order order_{};
  int64_t at_ = 0;
  std::chrono::steady_clock::time_point looked_at_files_{};
  std::jthread thread_;
};

}  // namespace heathmist::app
