// The excerpt of a pair that causes are looked for in.
#pragma once
#include <algorithm>
#include <memory>
#include <optional>
#include <vector>

#include "core/compare/continuity.hpp"
#include "core/compare/sums.hpp"

namespace heathmist {
struct LinearPath;  // core/compare/path.hpp
}

namespace heathmist::causes {

/// A stretch of the overlap, and where it stands in the excerpt.
struct Stretch {
  int64_t first = 0;  ///< master frame
  int64_t at = 0;     ///< place in the excerpt
  int64_t frames = 0;
  bool operator==(const Stretch&) const = default;
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
  void add(double m, double r) { mm += m * m, mr += m * r, rr += r * r; }
  double gain() const { return mm > 0 ? mr / mm : 0; }
};

/// What of a fitted pair the causes are looked for in: all of it, or stretches of a long one. pairs x frames.
struct Excerpt : Places {
  int rate_hz = 0;
  int threads = 1;                       ///< that one estimate may use
  std::shared_ptr<const Planar> master;  ///< the channel of each pair
  Planar ret;                            ///< laid on it, at the master's level and polarity
  std::vector<uint8_t> told;             ///< per place: 0 where nothing may be read (what was skipped, or breaks off)
  bool whole = true;                     ///< all of the overlap
  double master_power = 0;               ///< mean square over what may be read
  double gain_db = 0;                    ///< that was taken off the return to bring it to the master's level
  std::vector<GainPiece> course;         ///< of a long one: master and return over the whole overlap, in pieces of
  int64_t course_piece = 0;              ///< so many frames
  std::shared_ptr<const LinearPath> path{};  ///< of two channels, each to both, over the whole pair; none: not known

  int pairs() const { return master->channels(); }
  int64_t frames() const { return master->frames(); }
  /// Whether all of so many frames from a place on may be read.
  bool tells_all(int64_t at, int64_t count) const {
    return std::all_of(told.begin() + at, told.begin() + at + count, [](uint8_t t) { return t; });
  }
  double seconds_of(double time) const;  ///< in the master's time
  double seconds_at(int64_t place) const { return seconds_of(time_of(place)); }
};

/// How the return is laid on the master, beyond the fit.
struct Laying {
  bool own_delays = false;  ///< each channel by its own
  bool jumps = false;       ///< with its jumps undone
};

/// All of the overlap where it has at most `most_samples` (frames by pairs), else five stretches of a fifth each, and
/// up to three more: the two ends, where the return breaks, the loudest, the quietest, the one where the residual is
/// greatest, and some evenly spread; between two too near for a whole one a shorter one. What is skipped may not be
/// read where its jump is undone.
Excerpt take_excerpt(const Clip& master, const Clip& ret, const Fit& fit, const ResidualSums& sums,
                     const Continuity& breaks, const Laying& laying, int64_t most_samples, const Job& job = {});

constexpr int stretches_of_a_long_one = 5;

/// Nothing is read within 0.1 s of where one stretch goes on as another: there filters still hold what is not there;
/// behind it for as long as an echo takes to come.
void leave_out_seams(Excerpt& excerpt, double echo_s = 0);
/// What may be read of it where nothing is that comes of what the excerpt does not hold, up to so long after it.
std::vector<uint8_t> told_behind_seams(const Excerpt& excerpt, double echo_s);
/// Works out master_power of what may be read.
void weigh_master(Excerpt& excerpt);

/// The gain that a quarter of the loud samples come back at, beyond the one that the excerpt was laid by; 0 where none
/// holds.
struct SampleGain {
  double db = 0;
  bool fine = false;  ///< within 4e-4; else within 4e-3, as where noise lies on them
};
SampleGain held_gain(const Excerpt& excerpt);
/// Whether a quarter of the loud samples come back as they were sent, within 2e-4.
bool comes_back_as_sent(const Excerpt& excerpt);
/// Turns the excerpt's return down.
void turn_down(Excerpt& excerpt, double db);

/// Frames are split into pieces of this many; causes with many numbers are fitted on the even pieces and tried on the
/// odd ones.
inline int64_t piece_frames(int rate_hz) { return std::max<int64_t>(16, rate_hz / 100); }

/// Return - model of one pair; zero where nothing may be read.
std::vector<double> left_of(const Excerpt& excerpt, const Planar& model, int pair);

/// The model is the master as it went out.
bool is_master(const Excerpt& excerpt, const Planar& model);

/// Mean square of return - model over what may be read; `odd`: over the odd pieces only; `told`: where it may be.
double power_left(const Excerpt& excerpt, const Planar& model, bool odd, const std::vector<uint8_t>& told);
inline double power_left(const Excerpt& excerpt, const Planar& model, bool odd = false) {
  return power_left(excerpt, model, odd, excerpt.told);
}

/// Calls what(pair) for each, on so many threads.
template <class What>
void each_pair(int threads, int pairs, What what) {
  for_each_segment(
      pairs, Job{{}, {}, threads}, [] { return 0; }, [&](int, int64_t p) { what(int(p)); });
}

}  // namespace heathmist::causes
