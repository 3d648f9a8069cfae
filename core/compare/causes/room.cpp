// Reverberation that crosses the channels: what each of them gives to both, by the linear path of the whole pair.
#include <algorithm>
#include <cmath>
#include <numeric>

#include "core/compare/causes/estimates.hpp"
#include "core/compare/causes/response.hpp"
#include "core/compare/causes/tail.hpp"
#include "core/compare/path.hpp"

namespace heathmist::causes {

namespace {

/// From each channel to itself, and from the other one to it.
struct Room {
  Response own, across;
};

Room room_of(const LinearPath& path, const Excerpt& e) {
  Room room;
  for (Response* r : {&room.own, &room.across}) {
    r->size = 2 * (path.difference[0][0].size() - 1);
    r->bin_hz = path.bin_hz, r->threads = e.threads;
  }
  for (const size_t p : {size_t(0), size_t(1)}) {
    room.own.h.push_back(path.difference[p][p]);
    for (auto& h : room.own.h.back()) h += 1.0;
    room.across.h.push_back(path.difference[p][1 - p]);
  }
  return room;
}

double energy(const std::vector<double>& h) { return std::inner_product(h.begin(), h.end(), h.begin(), 0.0); }

void put_in(const Room& room, Planar& m) {
  Planar other = m;
  std::swap_ranges(other.channel(0).begin(), other.channel(0).end(), other.channel(1).begin());
  run(room.own, m), run(room.across, other);
  for (int p = 0; p < 2; ++p) {
    const auto to = m.channel(p), from = other.channel(p);
    for (size_t n = 0; n < to.size(); ++n) to[n] += from[n];
  }
}

}  // namespace

std::optional<Found> estimate_room(const Excerpt& e, const Model& model) {
  constexpr double least_across = 0.02;  // of the tail's energy: else each channel's own filter says it
  if (!e.path || !is_master(e, model)) return {};
  const Room room = room_of(*e.path, e);
  std::optional<Tail> tail;
  double crosses = 0, tails = 0;
  for (const size_t p : {size_t(0), size_t(1)}) {
    const std::vector<std::vector<double>> responses{room.own.impulse(p), room.across.impulse(p)};
    const auto found = tail_of(responses, e.rate_hz);
    if (!found) return {};
    if (!tail || found->direct_to_tail_db < tail->direct_to_tail_db) tail = found;
    crosses += energy(responses[1]), tails += energy(responses[0]) * std::pow(10, -found->direct_to_tail_db / 10);
  }
  if (crosses < least_across * tails) return {};
  Cause c{.code = "reverb", .channels = {0, 1}};
  c.values = {{"t60_s", tail->t60_s}, {"direct_to_reverberant_db", tail->direct_to_tail_db}};
  return Found{c, [room](const Places&, Planar& m) { put_in(room, m); }, double(room.own.size) / 2 / e.rate_hz};
}

}  // namespace heathmist::causes
