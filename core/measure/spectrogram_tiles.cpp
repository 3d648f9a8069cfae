#include "core/measure/spectrogram_tiles.hpp"

#include <algorithm>
#include <cmath>

namespace heathmist {

std::shared_ptr<const Spectrogram> SpectrogramTiles::kept(const Key& key, int blocks) {
  std::scoped_lock held(lock_);
  const auto place = places_.find(key);
  if (place == places_.end() || place->second->blocks < blocks) return nullptr;
  tiles_.splice(tiles_.begin(), tiles_, place->second);
  return place->second->cells;
}

void SpectrogramTiles::keep(Tile tile) {
  std::scoped_lock held(lock_);
  ++made_;
  auto give_up = [&](std::list<Tile>::iterator it) {
    cells_ -= it->cells->db.size();
    places_.erase(it->key);
    tiles_.erase(it);
  };
  if (const auto before = places_.find(tile.key); before != places_.end()) give_up(before->second);
  cells_ += tile.cells->db.size();
  tiles_.push_front(std::move(tile));
  places_[tiles_.front().key] = tiles_.begin();
  while (cells_ > most_cells_ && tiles_.size() > 1) give_up(std::prev(tiles_.end()));
}

struct SpectrogramTiles::Run {
  int zoom = 0;
  double tile_s = 0;
  int64_t first = 0, last = 0;
};

SpectrogramTiles::Run SpectrogramTiles::run_of(const Clip& clip, const SpectrogramOptions& o) {
  const double from = std::max(0.0, o.first_s), to = o.last_s > from ? o.last_s : clip.format().duration_s();
  Run run;
  run.zoom = int(std::floor(std::log2(std::max(1e-6, (to - from) / std::max(1, o.columns)))));
  run.tile_s = std::ldexp(tile_columns, run.zoom);
  run.first = int64_t(std::floor(from / run.tile_s));
  run.last = std::max(run.first + 1, int64_t(std::ceil(to / run.tile_s - 1e-9)));
  return run;
}

SpectrogramTiles::Key SpectrogramTiles::key_of(const std::string& name, const SpectrogramOptions& o, const Run& run,
                                               int64_t tile) {
  return {name,         run.zoom,   tile,         o.rows,        o.low_hz, o.high_hz,
          int(o.scale), o.fft_size, o.reassigned, int(o.listen), o.channel};
}

bool SpectrogramTiles::at_hand(const Clip& clip, const std::string& name, const SpectrogramOptions& o) {
  const Run run = run_of(clip, o);
  for (int64_t n = run.first; n < run.last; ++n)
    if (!kept(key_of(name, o, run, n), o.blocks)) return false;
  return true;
}

Spectrogram SpectrogramTiles::cells(const Clip& clip, const std::string& name, const SpectrogramOptions& o,
                                    const Job& job) {
  const Run run = run_of(clip, o);
  const auto count = double(run.last - run.first);
  Spectrogram all{0, o.rows, double(run.first) * run.tile_s, double(run.last) * run.tile_s, {}, {}};
  for (int64_t n = run.first; n < run.last; ++n) {
    SpectrogramOptions own = o;
    own.first_s = double(n) * run.tile_s, own.last_s = double(n + 1) * run.tile_s, own.columns = tile_columns;
    const Key key = key_of(name, o, run, n);
    auto tile = kept(key, o.blocks);
    if (!tile) {
      const double done = double(n - run.first);
      tile = std::make_shared<Spectrogram>(spectrogram_of(clip, own, job.part(done / count, (done + 1) / count)));
      keep({key, o.blocks, tile});
    }
    all.columns += tile->columns;
    if (all.edges_hz.empty()) all.edges_hz = tile->edges_hz;
    all.db.insert(all.db.end(), tile->db.begin(), tile->db.end());
  }
  return all;
}

}  // namespace heathmist
