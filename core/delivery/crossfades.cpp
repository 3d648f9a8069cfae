#include "core/delivery/crossfades.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "core/audio/scratch.hpp"

namespace heathmist {

namespace {

constexpr FadeLaw laws[] = {FadeLaw::linear, FadeLaw::raised_cosine, FadeLaw::equal_power, FadeLaw::square_root,
                            FadeLaw::logarithmic};
constexpr int points = 40;

/// Two clips at one rate with the frames of a spot in each.
struct Pair {
  std::shared_ptr<const Clip> a, b;
  int64_t a_from, b_from, frames;
  int channels() const { return std::max(a->format().channels, b->format().channels); }
  int rate() const { return a->format().sample_rate_hz; }
};

void check_inside(const Clip& clip, double from_s, double length_s) {
  if (from_s >= 0 && from_s + length_s <= clip.format().duration_s() + 1e-9) return;
  throw InputError(clip.path(), fmt::format("a fade from {:.3f} to {:.3f} s lies outside it; it lasts {:.3f} s", from_s,
                                            from_s + length_s, clip.format().duration_s()));
}

/// A stretch of a clip at another rate, as far as it goes; what a converter needs around it is taken along. `from_s`
/// becomes where it begins in that.
std::shared_ptr<const Clip> stretch_at_rate(const Clip& clip, int rate_hz, double& from_s, double length_s,
                                            const Job& job) {
  constexpr double around_s = 0.1;
  const double rate = clip.format().sample_rate_hz;
  const auto first = std::max<int64_t>(0, int64_t((from_s - around_s) * rate)),
             last = std::min(clip.format().frames, int64_t((from_s + length_s + around_s) * rate));
  Planar part;
  clip.reader()->read(first, last - first, part);
  from_s -= double(first) / rate;
  return Clip::at_rate(made_clip(part, clip.format().sample_rate_hz, clip.path().string()), rate_hz, job);
}

/// `after_s`: how much of the second clip is wanted behind the fade.
Pair pair_of(std::shared_ptr<const Clip> a, std::shared_ptr<const Clip> b, CrossfadeSpot spot, double after_s,
             const Job& job) {
  check_inside(*a, spot.a_from_s, spot.length_s);
  check_inside(*b, spot.b_from_s, spot.length_s);
  const int rate = a->format().sample_rate_hz;
  const double left_s = b->format().duration_s() - spot.b_from_s;
  if (b->format().sample_rate_hz != rate)
    b = stretch_at_rate(*b, rate, spot.b_from_s, std::min(left_s, spot.length_s + after_s), job);
  Pair pair{std::move(a), std::move(b), std::llround(spot.a_from_s * rate), std::llround(spot.b_from_s * rate),
            std::llround(spot.length_s * rate)};
  if (pair.frames < points)
    throw InputError(pair.a->path(), "a fade shorter than forty samples cannot be studied; make it longer");
  return pair;
}

/// One channel is heard in both.
std::span<const double> channel(const Planar& sound, int c) { return sound.channel(sound.channels() == 1 ? 0 : c); }

struct Sums {
  double aa = 0, bb = 0, ab = 0;
  double correlation() const { return aa > 0 && bb > 0 ? ab / std::sqrt(aa * bb) : 0; }
};

std::vector<Sums> sums_of(const Pair& pair, const Job& job) {
  std::vector<Sums> parts(points);
  const auto read_a = pair.a->reader(), read_b = pair.b->reader();
  Planar a, b;
  for (int p = 0; p < points; ++p) {
    job.check();
    const int64_t from = pair.frames * p / points, until = pair.frames * (p + 1) / points;
    read_a->read(pair.a_from + from, until - from, a);
    read_b->read(pair.b_from + from, until - from, b);
    for (int c = 0; c < std::min(2, pair.channels()); ++c) {
      const auto x = channel(a, std::min(c, a.channels() - 1)), y = channel(b, std::min(c, b.channels() - 1));
      for (size_t n = 0; n < x.size(); ++n)
        parts[size_t(p)].aa += x[n] * x[n], parts[size_t(p)].bb += y[n] * y[n], parts[size_t(p)].ab += x[n] * y[n];
    }
    job.report(double(p + 1) / points);
  }
  return parts;
}

/// Between the middles of the parts.
double correlation_at(const CrossfadeStudy& study, double way) {
  const double place = std::clamp(way * points - 0.5, 0.0, double(points - 1));
  const auto before = std::min(size_t(place), size_t(points - 2));
  const double part = place - double(before);
  return (1 - part) * study.over_time[before].second + part * study.over_time[before + 1].second;
}

CrossfadeStudy::Law level_of(FadeLaw law, const CrossfadeStudy& study, double length_s) {
  CrossfadeStudy::Law out{law, 0, {}};
  constexpr int steps = 200;
  for (int n = 0; n <= steps; ++n) {
    const double way = double(n) / steps;
    const double db =
        CrossfadeReading::Point{0, fade_gain(law, 1 - way), fade_gain(law, way)}.level_db(correlation_at(study, way));
    out.level_db.emplace_back(way * length_s, db);
    if (std::abs(db) > std::abs(out.departure_db)) out.departure_db = db;
  }
  return out;
}

double rms_dbfs(double power, double samples) {
  return 10 * std::log10(std::max(power / std::max(1.0, samples), 1e-20));
}

}  // namespace

CrossfadeStudy study_crossfade(std::shared_ptr<const Clip> a, std::shared_ptr<const Clip> b, const CrossfadeSpot& spot,
                               const Job& job) {
  const Pair pair = pair_of(std::move(a), std::move(b), spot, 0, job.part(0, 0.7));
  const auto parts = sums_of(pair, job.part(0.7, 1));
  CrossfadeStudy study;
  Sums all;
  for (const Sums& s : parts) all.aa += s.aa, all.bb += s.bb, all.ab += s.ab;
  for (const auto& [clip, power] : {std::pair{&pair.a, all.aa}, {&pair.b, all.bb}})
    if (power == 0) throw InputError((*clip)->path(), "it is silent at that spot; choose one where both sound");
  study.correlation = all.correlation();
  const double samples = double(pair.frames) * std::min(2, pair.channels());
  study.a_dbfs = rms_dbfs(all.aa, samples), study.b_dbfs = rms_dbfs(all.bb, samples);
  for (int p = 0; p < points; ++p)
    study.over_time.emplace_back((p + 0.5) * spot.length_s / points, parts[size_t(p)].correlation());
  for (const FadeLaw law : laws) study.laws.push_back(level_of(law, study, spot.length_s));
  for (size_t n = 0; n < study.laws.size(); ++n)
    if (std::abs(study.laws[n].departure_db) < std::abs(study.laws[study.best].departure_db) - 0.01) study.best = n;
  return study;
}

const char* label_of(FadeLaw law) {
  constexpr const char* names[] = {"straight lines", "raised cosines",     "sine and cosine",
                                   "square roots",   "logarithmic curves", "a law of its own"};
  return names[int(law)];
}

std::string label_of(const CrossfadeStudy& study) {
  const double r = study.correlation;
  const char* alike = r > 0.8 ? "alike" : r > 0.3 ? "partly alike" : r > -0.3 ? "unlike" : "opposed";
  const auto& best = study.laws[study.best];
  std::string words =
      fmt::format("These two are {} here (correlation {:.2f}): {} keep the level within {:.1f} dB", alike,
                  std::abs(r) < 0.005 ? 0.0 : r, label_of(best.law), std::abs(best.departure_db));
  if (best.law == FadeLaw::linear) return words + ".";
  const double straight = study.laws.front().departure_db;
  return words + fmt::format("; straight lines {} by {:.1f} dB.", straight < 0 ? "dip" : "swell", std::abs(straight));
}

namespace {

/// Mixes a stretch of a clip into `out` with a gain by the frame of the stretch.
template <class Gain>
void mix(const Clip& clip, int64_t from, int64_t frames, Planar& out, int64_t at, Gain gain) {
  Planar block;
  clip.reader()->read(from, frames, block);
  for (int c = 0; c < out.channels(); ++c) {
    const auto x = channel(block, std::min(c, block.channels() - 1));
    for (int64_t n = 0; n < frames; ++n)
      if (at + n >= 0 && at + n < out.frames()) out.channel(c)[size_t(at + n)] += gain(n) * x[size_t(n)];
  }
}

Planar whole(const Pair& pair, FadeLaw law, double around_s) {
  const auto around = int64_t(around_s * pair.rate());
  const int64_t before = std::min(around, pair.a_from),
                after = std::min(around, pair.b->format().frames - pair.b_from - pair.frames);
  Planar out(pair.channels(), before + pair.frames + std::max<int64_t>(0, after));
  const auto length = double(pair.frames);
  mix(*pair.a, pair.a_from - before, before + pair.frames, out, 0,
      [&](int64_t n) { return fade_gain(law, 1 - double(n - before) / length); });
  mix(*pair.b, pair.b_from, out.frames() - before, out, before,
      [&](int64_t n) { return fade_gain(law, double(n) / length); });
  return out;
}

/// Each grain fades in over its first half and out over its second, while the next one fades in.
Planar grains(const Pair& pair, FadeLaw law, double grain_s) {
  const auto half = std::max<int64_t>(8, std::llround(0.5 * grain_s * pair.rate()));
  Planar out(pair.channels(), pair.frames);
  for (int64_t at = 0, k = 0; at < pair.frames; at += half, ++k) {
    const Clip& clip = k % 2 ? *pair.b : *pair.a;
    mix(clip, (k % 2 ? pair.b_from : pair.a_from) + at, 2 * half, out, at,
        [&](int64_t n) { return fade_gain(law, n < half ? double(n) / double(half) : 2 - double(n) / double(half)); });
  }
  return out;
}

}  // namespace

std::shared_ptr<const Clip> make_crossfade(std::shared_ptr<const Clip> a, std::shared_ptr<const Clip> b,
                                           const CrossfadeSpot& spot, FadeLaw law, const CrossfadeOptions& options,
                                           const Job& job) {
  const Pair pair = pair_of(std::move(a), std::move(b), spot, options.around_s, job);
  const Planar sound = options.grain_s > 0 ? grains(pair, law, options.grain_s) : whole(pair, law, options.around_s);
  return made_clip(sound, pair.rate(), fmt::format("crossfade by {}", label_of(law)));
}

}  // namespace heathmist
