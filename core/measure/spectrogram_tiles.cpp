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

Spectrogram SpectrogramTiles::cells(const Clip& clip, const std::string& name, const SpectrogramOptions& o,
                                    const Job& job) {
  const double from = std::max(0.0, o.first_s), to = o.last_s > from ? o.last_s : clip.format().duration_s();
  const int zoom = int(std::floor(std::log2(std::max(1e-6, (to - from) / std::max(1, o.columns)))));
  const double tile_s = std::ldexp(tile_columns, zoom);
  const auto first = int64_t(std::floor(from / tile_s));
  const auto last = std::max(first + 1, int64_t(std::ceil(to / tile_s - 1e-9)));
  Spectrogram all{0, o.rows, double(first) * tile_s, double(last) * tile_s, {}, {}};
  for (int64_t n = first; n < last; ++n) {
    SpectrogramOptions own = o;
    own.first_s = double(n) * tile_s, own.last_s = double(n + 1) * tile_s, own.columns = tile_columns;
    const Key key{name,         zoom,          n,        o.rows, o.low_hz, o.high_hz, int(o.scale), o.fft_size,
                  o.reassigned, int(o.listen), o.channel};
    auto tile = kept(key, o.blocks);
    if (!tile) {
      tile = std::make_shared<Spectrogram>(spectrogram_of(
          clip, own, job.part(double(n - first) / double(last - first), double(n + 1 - first) / double(last - first))));
      keep({key, o.blocks, tile});
    }
    all.columns += tile->columns;
    if (all.edges_hz.empty()) all.edges_hz = tile->edges_hz;
    all.db.insert(all.db.end(), tile->db.begin(), tile->db.end());
  }
  return all;
}

}  // namespace heathmist
