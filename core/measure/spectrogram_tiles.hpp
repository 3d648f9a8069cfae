// Spectrograms in tiles: what was worked out for one view serves the next, at every zoom.
//
//   SpectrogramTiles tiles;
//   Spectrogram s = tiles.cells(*clip, "mill-race", options, job);   // whole tiles about what was asked for
//
// A tile is a run of columns whose length in seconds is a power of two, so that views of one zoom share their tiles
// wherever they begin.
#pragma once
#include <atomic>
#include <list>
#include <map>
#include <mutex>
#include <tuple>

#include "core/measure/spectrogram.hpp"

namespace heathmist {

class SpectrogramTiles {
 public:
  static constexpr int tile_columns = 128;
  /// `most_cells`: what is kept, the longest unused given up first.
  explicit SpectrogramTiles(size_t most_cells = 32'000'000) : most_cells_(most_cells) {}
  /// At least `options.columns` columns over [first_s, last_s), all tiles that touch it. `name` stands for the clip's
  /// content. A tile that is at hand with more blocks is taken as it is. Throws as spectrogram_of(). Any thread.
  Spectrogram cells(const Clip& clip, const std::string& name, const SpectrogramOptions& options, const Job& job = {});
  /// Whether cells() would have to make nothing.
  bool at_hand(const Clip& clip, const std::string& name, const SpectrogramOptions& options);
  int64_t made() const { return made_; }  ///< tiles worked out so far

 private:
  using Key = std::tuple<std::string, int, int64_t, int, double, double, int, size_t, bool, int, int>;
  struct Tile {
    Key key;
    int blocks = 0;
    std::shared_ptr<const Spectrogram> cells;
  };
  struct Run;  // of tiles about what was asked for
  static Run run_of(const Clip& clip, const SpectrogramOptions& options);
  static Key key_of(const std::string& name, const SpectrogramOptions& options, const Run& run, int64_t tile);
  std::shared_ptr<const Spectrogram> kept(const Key& key, int blocks);
  void keep(Tile tile);
  size_t most_cells_, cells_ = 0;
  std::atomic<int64_t> made_ = 0;
  std::mutex lock_;
  std::list<Tile> tiles_;  // latest first
  std::map<Key, std::list<Tile>::iterator> places_;
};

}  // namespace heathmist
