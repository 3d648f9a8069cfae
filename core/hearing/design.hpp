// Blind listening: what is played under which button, and what is asked.
//
//   BlindDesign d{.method = BlindMethod::abx, .stimuli = 2, .rounds = 16};
//   Round r = round_of(d, seed, 0);     // r.buttons = {1, 0, 0}: A is the return, B the master, X the master
//
// Stimuli are numbered; 0 is the reference. Rounds are worked out from the seed alone, so that whoever knows it knows
// all of them, and any of them by itself.
#pragma once
#include <cstdint>
#include <string>
#include <vector>

#include "core/hearing/staircase.hpp"

namespace heathmist {

/// abx         A and B are the two, X is one of them: which? (Munson and Gardner 1950)
/// triple      the reference and two more, one of them the reference again: both graded 1 to 5 (ITU-R BS.1116-3)
/// multi       the reference and all others, the reference and the anchors among them: graded 0 to 100 (ITU-R
/// BS.1534-3) preference  the two: which is better? threshold   the reference and two more, one of them the reference
/// again: which is the other? The difference follows
///             a staircase.
enum class BlindMethod { abx, triple, multi, preference, threshold };
const char* name_of(BlindMethod method);
/// Throws std::invalid_argument for a name that is none.
BlindMethod blind_method(const std::string& name);

struct BlindDesign {
  BlindMethod method = BlindMethod::abx;
  int stimuli = 2;       ///< reference, trials and anchors; of `threshold` the reference and a stimulus a rung
  int rounds = 16;       ///< of `threshold` as many as the staircase asks for
  double catches = 0;    ///< of `preference`: chance of a round in which both are the same
  StaircaseRule rule{};  ///< of `threshold`
  bool operator==(const BlindDesign&) const = default;
};
/// Throws std::invalid_argument with a sentence.
void check_design(const BlindDesign& design);
/// Buttons that play the reference in the open: 0 or 1, the first.
int open_buttons(BlindMethod method);

struct Round {
  std::vector<int> buttons;  ///< the stimulus behind each
  int truth = -1;            ///< the button that is right, of `abx` the one that X is; -1: none is
  bool is_catch = false;
};
/// `rung`: of `threshold`, the staircase's.
Round round_of(const BlindDesign& design, uint64_t seed, int round, size_t rung = 0);
/// What a button is called: Reference, A, B ... or X.
std::string button_name(BlindMethod method, int button);
/// How many answers a guesser chooses from; 0: there is no right one.
int choices_of(BlindMethod method);

}  // namespace heathmist
