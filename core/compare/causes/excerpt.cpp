#include "core/compare/causes/excerpt.hpp"

#include <algorithm>
#include <cmath>

namespace heathmist::causes {

namespace {

constexpr int stretches_of_a_long_one = 5;
constexpr size_t most_events = 3;
constexpr double settling_s = 0.1;  // at the start of a stretch: what a filter still holds of before is not there

/// Energies of the master and the residual in short pieces, summed from the start.
struct Running {
  std::vector<double> master{0}, residual{0};
  double piece_frames = 1;
  double of(const std::vector<double>& sums, int64_t first, int64_t frames) const {
    const auto place = [&](int64_t frame) {
      return std::clamp<size_t>(size_t(double(frame) / piece_frames), 0, sums.size() - 1);
    };
    return sums[place(first + frames)] - sums[place(first)];
  }
};

Running running(const ResidualSums& sums, const Fit& fit, int rate_hz) {
  Running r;
  r.piece_frames = double(std::max<int64_t>(1, loudness_piece_frames(rate_hz) / 5));
  const double g = fit.gain();
  for (size_t n = 0; n < sums.short_pieces.mm.size(); ++n) {
    const double mm = sums.short_pieces.mm[n], mr = sums.short_pieces.mr[n], rr = sums.short_pieces.rr[n];
    r.master.push_back(r.master.back() + mm);
    r.residual.push_back(r.residual.back() + std::max(0.0, rr / (g * g) - 2 * mr / g + mm));
  }
  return r;
}

/// The stretches of a long one; `events`: master frames that must be among them, as far as there is room.
std::vector<Stretch> choose(const ResidualSums& sums, const Fit& fit, int rate_hz, int64_t most_frames,
                            const std::vector<int64_t>& events) {
  const int64_t all = fit.last - fit.first;
  if (all <= most_frames) return {{fit.first, 0, all}};
  const int64_t frames = most_frames / stretches_of_a_long_one, places = all / frames;
  const auto r = running(sums, fit, rate_hz);
  std::vector<int64_t> chosen{0, places - 1};
  const auto take_best = [&](auto worth) {
    int64_t best = -1;
    double most = -1e300;
    for (int64_t n = 0; n < places; ++n)
      if (const double w = worth(n); w > most && std::find(chosen.begin(), chosen.end(), n) == chosen.end())
        most = w, best = n;
    if (best >= 0) chosen.push_back(best);
  };
  for (const int64_t event : events) {
    const int64_t place = std::clamp<int64_t>((event - fit.first) / frames, 0, places - 1);
    if (chosen.size() < 2 + most_events && std::find(chosen.begin(), chosen.end(), place) == chosen.end())
      chosen.push_back(place);
  }
  const auto master = [&](int64_t n) { return r.of(r.master, n * frames, frames); };
  const auto residual = [&](int64_t n) { return r.of(r.residual, n * frames, frames); };
  take_best(master);
  take_best([&](int64_t n) { return -master(n); });
  take_best(residual);
  for (int n = 1; int(chosen.size()) < stretches_of_a_long_one && n < 64; ++n) {
    const int64_t place = places * n / 4 % places;  // quarters first, then whatever is free
    take_best([&](int64_t k) { return -double(std::abs(k - place)); });
  }
  std::sort(chosen.begin(), chosen.end());
  std::vector<Stretch> stretches;
  for (const int64_t n : chosen)
    stretches.push_back({fit.first + n * frames, int64_t(stretches.size()) * frames, frames});
  return stretches;
}

/// The return's delay from a master frame on, as the breaks leave it; and what of the master is nowhere in it.
struct Timeline {
  struct Part {
    int64_t from;
    double moved;
  };
  std::vector<Part> parts{{0, 0}};
  std::vector<std::pair<int64_t, int64_t>> gone;
};

Timeline timeline(const Continuity& breaks, int rate_hz) {
  Timeline t;
  t.parts.front().moved = breaks.head_samples;
  for (const Break& b : breaks.breaks) {
    const auto at = int64_t(std::llround(b.at_s * rate_hz)), length = int64_t(std::ceil(b.length_s * rate_hz));
    const int64_t margin = rate_hz / 500;        // a splice may be faded over
    if (b.kind == BreakKind::dropout) continue;  // the return is in place, and silent: a cause of its own
    t.parts.push_back({at, t.parts.back().moved + b.jump_samples});
    t.gone.emplace_back(at - margin, at + (b.kind == BreakKind::insert ? 0 : length) + margin);
  }
  return t;
}

void keep_course(Excerpt& e, const ResidualSums& sums, const Fit& fit) {
  const double g = fit.gain();
  const auto& s = sums.short_pieces;
  e.course_piece = std::max<int64_t>(1, loudness_piece_frames(e.rate_hz) / 5);
  for (size_t n = 0; n < s.mm.size(); ++n)
    e.course.push_back({double(s.mm[n]), double(s.mr[n]) / g, double(s.rr[n]) / (g * g)});
}

double whole_where_near(double delay) {
  const double whole = std::round(delay);
  return std::abs(delay - whole) < 0.004 ? whole : delay;
}

/// Reads pairs [first, last) of both clips into an excerpt, the return laid by one delay.
struct Filler {
  const Clip& master;
  const Clip& ret;
  const Fit& fit;
  Excerpt& e;
  const Timeline& time;
  Planar& samples;  // the master's
  const Job& job;

  void fill(int first, int last, double delay) const {
    Fit laid_by = fit;
    laid_by.delay_samples = delay;
    LaidMaster reader(master, laid_by);
    for_blocks(fit.first, fit.last, reader, [&](const Planar& block, int64_t place) {
      for (int p = first; p < last; ++p)
        std::copy_n(block.channel(fit.pairs[size_t(p)].master).begin(), block.frames(),
                    samples.channel(p).begin() + long(place));
    });
    for (size_t part = 0; part < time.parts.size(); ++part) {
      const int64_t to = part + 1 < time.parts.size() ? time.parts[part + 1].from : fit.last;
      LaidReturn laid(ret, delay + time.parts[part].moved, fit.drift_ppm);
      for_blocks(time.parts[part].from, to, laid, [&](const Planar& block, int64_t place) {
        for (int p = first; p < last; ++p) {
          const ChannelPair& pair = fit.pairs[size_t(p)];
          const double scale = (pair.inverted ? -1 : 1) / fit.gain();
          const auto from = block.channel(pair.ret);
          const auto out = e.ret.channel(p).subspan(size_t(place), from.size());
          if (fit.gain_db == 0 && !pair.inverted)
            std::copy(from.begin(), from.end(), out.begin());
          else
            std::transform(from.begin(), from.end(), out.begin(), [=](double x) { return scale * x; });
        }
      });
    }
  }

  template <class From, class Take>
  void for_blocks(int64_t from, int64_t to, From& reader, Take take) const {
    constexpr int64_t block_frames = 1 << 16;
    Planar block;
    for (const Stretch& s : e.stretches)
      for (int64_t at = std::max(from, s.first); at < std::min(to, s.first + s.frames); at += block_frames) {
        job.check();
        reader.read(at, std::min({block_frames, to - at, s.first + s.frames - at}), block);
        take(block, s.at + at - s.first);
      }
  }
};

}  // namespace

double Excerpt::time_of(int64_t place) const {
  for (const Stretch& s : stretches)
    if (place < s.at + s.frames) return double(s.first - stretches.front().first + place - s.at);
  return stretches.empty() ? 0 : double(stretches.back().first + stretches.back().frames - stretches.front().first);
}

std::optional<int64_t> Excerpt::place_of(double time) const {
  for (const Stretch& s : stretches)
    if (const double inside = time - double(s.first - stretches.front().first);
        inside >= 0 && inside < double(s.frames))
      return s.at + int64_t(inside);
  return {};
}

double Excerpt::seconds_of(double time) const {
  return (double(stretches.empty() ? 0 : stretches.front().first) + time) / rate_hz;
}

std::vector<double> left_of(const Excerpt& e, const Planar& model, int pair) {
  std::vector<double> left(size_t(e.frames()));
  const auto m = model.channel(pair), r = e.ret.channel(pair);
  for (size_t n = 0; n < left.size(); ++n) left[n] = e.told[n] ? r[n] - m[n] : 0;
  return left;
}

double power_left(const Excerpt& e, const Planar& model, bool odd) {
  const int64_t piece = 5 * piece_frames(e.rate_hz);
  double sum = 0, count = 0;
  for (int p = 0; p < e.pairs(); ++p) {
    const auto m = model.channel(p), r = e.ret.channel(p);
    for (int64_t at = 0; at < e.frames(); at += piece) {
      if (odd && at / piece % 2 == 0) continue;
      for (int64_t n = at; n < std::min(e.frames(), at + piece); ++n)
        if (e.told[size_t(n)]) {
          const double d = r[size_t(n)] - m[size_t(n)];
          sum += d * d, count += 1;
        }
    }
  }
  return count > 0 ? sum / count : 0;
}

Excerpt take_excerpt(const Clip& master, const Clip& ret, const Fit& fit, const ResidualSums& sums,
                     const Continuity& breaks, bool by_channel, int64_t most_samples, const Job& job) {
  Excerpt e;
  e.rate_hz = master.format().sample_rate_hz;
  const int pairs = int(fit.pairs.size());
  std::vector<int64_t> events;
  for (const Break& b : breaks.breaks) events.push_back(std::llround((b.at_s + 0.5 * b.length_s) * e.rate_hz));
  e.stretches = choose(sums, fit, e.rate_hz, most_samples / std::max(1, pairs), events);
  e.whole = e.stretches.size() == 1;
  if (!e.whole) keep_course(e, sums, fit);
  const int64_t frames = e.stretches.back().at + e.stretches.back().frames;
  const auto master_samples = std::make_shared<Planar>(pairs, frames);
  e.master = master_samples;
  e.ret.resize(pairs, frames);
  e.told.assign(size_t(frames), 1);
  const Timeline time = timeline(breaks, e.rate_hz);
  const Filler filler{master, ret, fit, e, time, *master_samples, job};
  if (by_channel) {
    for (int p = 0; p < pairs; ++p) filler.fill(p, p + 1, whole_where_near(fit.pairs[size_t(p)].delay_samples));
  } else {
    filler.fill(0, pairs, fit.delay_samples);
  }
  for (const auto& [from, to] : time.gone)
    for (const Stretch& s : e.stretches)
      for (int64_t n = std::max(from, s.first); n < std::min(to, s.first + s.frames); ++n)
        e.told[size_t(s.at + n - s.first)] = 0;
  for (size_t n = 1; n < e.stretches.size(); ++n)
    std::fill_n(e.told.begin() + e.stretches[n].at, std::min(e.stretches[n].frames, int64_t(settling_s * e.rate_hz)),
                0);
  double sum = 0, count = 0;
  for (int p = 0; p < pairs; ++p)
    for (int64_t n = 0; n < frames; ++n)
      if (e.told[size_t(n)]) sum += std::pow(e.master->channel(p)[size_t(n)], 2), count += 1;
  e.master_power = count > 0 ? sum / count : 0;
  return e;
}

}  // namespace heathmist::causes
