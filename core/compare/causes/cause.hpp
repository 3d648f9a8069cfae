// Causes: what explains the residual, one after the other, until the remainder is left.
//
// A cause is a small model of something that may have happened to the master on its way. It is estimated from what the
// master was made into so far (the model) and what came back (the return), put into the model, and kept where it takes
// out of what is left more than chance would. All of that happens on an excerpt of the pair, in memory.
//
//   Excerpt excerpt = take_excerpt(...);
//   Budget budget = explain_away(excerpt, ...);      // budget.hpp
//
// Adding a cause is one file with one `Estimate` and one line in the list (causes.cpp).
#pragma once
#include <algorithm>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "core/audio/planar.hpp"
#include "core/json.hpp"

namespace heathmist {

/// What of the residual a cause is, as far as it can be heard by itself (audition.hpp).
struct CausePart {
  enum What { none, jumps, own_delays, layer, rest } what = none;
  size_t number = 0;  ///< of the layer, in Layers
};

/// A cause as it is told: data, no words. The words come from sentences.hpp.
struct Cause {
  std::string code{};  ///< one of the contract's
  std::optional<double> before_db{},
      after_db{};                             ///< what is left against the master, before and after; nothing: silence
  std::vector<int> channels{};                ///< of the pairs that it touches
  std::optional<double> from_s{}, until_s{};  ///< in the master's time; nothing: throughout
  Json values = Json::object();               ///< its numbers; units stand in the names
  std::string text{};                         ///< one sentence
  CausePart part{};
  /// Taken out before the residual is looked at: delay, drift, map, polarity, gain, another rate.
  bool is_of_the_fit() const;
};

namespace causes {

/// A stretch of the overlap, and where it stands in the excerpt.
struct Stretch {
  int64_t first = 0;  ///< master frame
  int64_t at = 0;     ///< place in the excerpt
  int64_t frames = 0;
};

/// Where samples stand in the overlap, as stretches of it. Places count the samples; times count frames from where the
/// overlap starts.
struct Places {
  std::vector<Stretch> stretches;
  int64_t start = 0;  ///< master frame at time 0

  double time_of(int64_t place) const;
  std::optional<int64_t> place_of(double time) const;  ///< nothing where no sample stands there
  /// What of the times [from, until) stands in it, as what(place, time, frames).
  template <class What>
  void each_of(int64_t from, int64_t until, What what) const {
    for (const Stretch& s : stretches) {
      const int64_t a = std::max(from, s.first - start), b = std::min(until, s.first - start + s.frames);
      if (a < b) what(s.at + a - (s.first - start), a, b - a);
    }
  }
  /// What of `others` stands in it, as what(place, place in others, frames).
  template <class What>
  void each_shared(const Places& others, What what) const {
    for (const Stretch& o : others.stretches)
      each_of(o.first - start, o.first - start + o.frames, [&](int64_t place, int64_t time, int64_t frames) {
        what(place, o.at + time - (o.first - start), frames);
      });
  }
};

/// Sums of model^2, model return and return^2 over a piece.
struct GainPiece {
  double mm = 0, mr = 0, rr = 0;
  double gain() const { return mm > 0 ? mr / mm : 0; }
};

/// What of a fitted pair the causes are looked for in: all of it, or stretches of a long one. pairs x frames.
struct Excerpt : Places {
  int rate_hz = 0;
  std::shared_ptr<const Planar> master;  ///< the channel of each pair
  Planar ret;                            ///< laid on it, at the master's level and polarity
  std::vector<uint8_t> told;             ///< per place: 0 where nothing may be read (what was skipped, or breaks off)
  bool whole = true;                     ///< all of the overlap
  double master_power = 0;               ///< mean square over what may be read
  std::vector<GainPiece> course;         ///< of a long one: master and return over the whole overlap, in pieces of
  int64_t course_piece = 0;              ///< so many frames

  int pairs() const { return master->channels(); }
  int64_t frames() const { return master->frames(); }
  double seconds_of(double time) const;  ///< in the master's time
  double seconds_at(int64_t place) const { return seconds_of(time_of(place)); }
};

/// Puts a cause into samples of a model of the return, so that what is left has it taken out. Nothing is done where the
/// cause is not known: outside of what it was found in, where it has a course of its own.
using PutIn = std::function<void(const Places& where, Planar& model)>;

/// A cause that was found: described (code, channels, places, values), and what puts it into a model.
struct Found {
  Cause cause;
  PutIn take_out;
  double reach_s = 0;  ///< how far from a sample what it does to it comes from, on either side
};

/// Where a cause stands: done to the programme; added beside it, which nothing done to it changes; or over both.
enum class Stands { in_programme, beside_it, over_all };

/// Looks for one kind of cause between a model and the excerpt's return. Nothing where it cannot be there.
struct Estimate {
  const char* code;
  double least_db;  ///< what it must take out of what is left, on frames that it was not fitted on
  double price_db;  ///< by how much it must beat a simpler one
  Stands stands;
  std::optional<Found> (*estimate)(const Excerpt& excerpt, const Planar& model);
};

/// All of them, in the order in which they are tried.
const std::vector<Estimate>& all();

/// Frames are split into pieces of this many; causes with many numbers are fitted on the even pieces and tried on the
/// odd ones.
inline int64_t piece_frames(int rate_hz) { return std::max<int64_t>(16, rate_hz / 100); }

/// Return - model of one pair; zero where nothing may be read.
std::vector<double> left_of(const Excerpt& excerpt, const Planar& model, int pair);

/// Mean square of return - model over what may be read; `odd`: over the odd pieces only.
double power_left(const Excerpt& excerpt, const Planar& model, bool odd = false);

}  // namespace causes
}  // namespace heathmist
