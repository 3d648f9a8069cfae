// A ladder of differences for a staircase: a master, and rungs that differ from it less and less.
//
//   Ladder l = make_ladder(*pair.master, 12, 18, {.of = LadderOf::lift}, {"MP3 96", pair.ret, report.fit});
//   Planar heard = l.sound(7);          // differs by l.rungs[7].value l.unit, and is as loud as l.reference
#pragma once
#include "core/hearing/blind_test.hpp"
#include "core/hearing/stimuli.hpp"

namespace heathmist {

struct Ladder {
  /// level * (reference + gain * differences[part])
  struct Rung {
    double value = 0;  ///< in the design's unit
    size_t part = 0;
    double gain = 1, level = 1;
  };
  /// Two channels each, interleaved.
  using Difference = std::vector<float>;

  LadderDesign design;
  int rate_hz = 0;
  Planar reference;         ///< two channels
  std::vector<Rung> rungs;  ///< the greatest difference first
  std::vector<Difference> differences;
  double lufs = 0;            ///< integrated, of the reference, and of all rungs but those of `level`
  double turned_down_db = 0;  ///< all of it, so that nothing clips

  Planar sound(size_t rung) const;
};

inline constexpr double longest_ladder_s = 12;  ///< each rung is kept in memory

/// `from_s` to `until_s` of the master. `trial`: of `lift`, else not looked at. Throws as make_stimuli() does, and
/// where there is nothing to be heard: no residual, nothing above the fold.
Ladder make_ladder(const Clip& master, double from_s, double until_s, const LadderDesign& design,
                   const ToHear& trial = {}, const Job& job = {});

/// What is heard in a test of it: the reference, and a stimulus a rung, each of what `of` was made of.
std::vector<BlindStimulus> stimuli_of(const Ladder& ladder, const BlindStimulus& reference, const BlindStimulus& of);

}  // namespace heathmist
