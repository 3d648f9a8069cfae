// What is played in a blind test: the master and others on its time axis, of one length, equally loud.
//
//   Stimuli s = make_stimuli(*pair.master, 12.0, 18.5, {{.name = "MP3 96", .ret = pair.ret, .fit = report.fit}});
//   s.sound[1] against s.sound[0]: nothing but what is to be heard differs
#pragma once
#include <memory>
#include <span>
#include <string>
#include <vector>

#include "core/compare/fit.hpp"
#include "core/hearing/excerpt.hpp"

namespace heathmist {

/// A return, at the master's rate, and the fit that lays it there; without one, the master itself low-passed (the
/// anchors of ITU-R BS.1534-3).
struct ToHear {
  std::string name;
  std::shared_ptr<const Clip> ret{};
  Fit fit{};
  double low_pass_hz = 0;
};

struct Stimuli {
  int rate_hz = 0;
  std::vector<Planar> sound;    ///< two channels each; the master first
  std::vector<double> gain_db;  ///< of each, on what it is on the master's time axis
  std::vector<double> lufs;     ///< integrated, of what is played, gates and all
  double turned_down_db = 0;    ///< all of them, so that none clips
  double seconds() const { return sound.empty() ? 0 : double(sound.front().frames()) / rate_hz; }
  bool same(size_t one, size_t other) const;  ///< to the last bit
};

/// `from_s` to `until_s` of the master. Throws InputError with a sentence where the excerpt is too short, too long or
/// outside, where one is silent there or does not reach so far, and where none can be made equally loud; Cancelled.
Stimuli make_stimuli(const Clip& master, double from_s, double until_s, std::span<const ToHear> others,
                     const Job& job = {});

}  // namespace heathmist
