// Blind listening: what is played under which button, and what is asked.
//
//   BlindDesign d{.method = BlindMethod::abx, .stimuli = 2, .rounds = 16};
//   Round r = round_of(d, seed, 0);     // r.buttons = {1, 0, 0}: A is the return, B the master, X the master
//
// Stimuli are numbered; 0 is the reference. Rounds are worked out from the seed alone, so that whoever knows it knows
// all of them, and any of them by itself.
#pragma once
#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "core/hearing/staircase.hpp"

namespace heathmist {

/// abx         A and B are the two, X is one of them: which? (Munson and Gardner 1950)
/// triple      the reference and two more, one of them the reference again: both graded 1 to 5 (ITU-R BS.1116-3)
/// multi       the reference and all others, the reference and the anchors among them: graded 0 to 100 (ITU-R
/// BS.1534-3) preference  the two: which is better? threshold   the reference and two more, one of them the reference
/// again: which is the other? Where 50 % is sought the
///             reference and one more: is it another? The difference follows a staircase.
enum class BlindMethod { abx, triple, multi, preference, threshold };
const char* name_of(BlindMethod method);
/// As people call it: "Triple stimulus, hidden reference".
const char* title_of(BlindMethod method);
/// Throws std::invalid_argument for a name that is none.
BlindMethod blind_method(const std::string& name);

/// What the rungs of a staircase differ in.
///
/// lift         the residual of a return, lifted and lowered, on the master; 0 dB is the return as it is fitted
/// level        the master, softer
/// word_length  the master rounded to so many bits, with triangular dither
/// bit_rate     the master through a codec
/// fold         what the master has above a frequency, mirrored about it, on the master: what a conversion without its
///              filter would add; 0 dB is all of it
enum class LadderOf { lift, level, word_length, bit_rate, fold };
const char* name_of(LadderOf of);
/// Throws std::invalid_argument for a name that is none.
LadderOf ladder_of(const std::string& name);

struct LadderDesign {
  LadderOf of = LadderOf::lift;
  std::string codec{};       ///< of `bit_rate`: as the codec stage calls it
  double fold_about_hz = 0;  ///< of `fold`
  bool operator==(const LadderDesign&) const = default;
};
/// "dB of lift", "bits", "kbit/s": what stands behind a rung's value.
std::string unit_of(const LadderDesign& design);

struct BlindDesign {
  BlindMethod method = BlindMethod::abx;
  int stimuli = 2;       ///< reference, trials and anchors; of `threshold` the reference and a stimulus a rung
  int rounds = 16;       ///< of `threshold` as many as the staircase asks for
  double catches = 0;    ///< chance of a round in which both are the same: of `preference`, and where it asks yes or no
  StaircaseRule rule{};  ///< of `threshold`
  std::optional<LadderDesign> ladder{};  ///< of `threshold`, where it is known
  bool operator==(const BlindDesign&) const = default;
};
/// One that goes down after every right answer asks whether there is a difference, not where: 50 % of the answers to
/// that are yes where nothing but chance decides a choice of two.
bool asks_yes_or_no(const BlindDesign& design);
/// Throws std::invalid_argument with a sentence.
void check_design(const BlindDesign& design);
/// Buttons that play the reference in the open: 0 or 1, the first.
int open_buttons(BlindMethod method);

struct Round {
  std::vector<int> buttons;  ///< the stimulus behind each
  int truth = -1;  ///< the button that is right, of `abx` the one that X is; -1: none is. Of yes or no: 1 or 0
  bool is_catch = false;
};
/// `rung`: of `threshold`, the staircase's.
Round round_of(const BlindDesign& design, uint64_t seed, int round, size_t rung = 0);
/// What a button is called: Reference, A, B ... or X.
std::string button_name(BlindMethod method, int button);
/// How many answers a guesser chooses from; 0: how often a guesser is right is not known.
int choices_of(const BlindDesign& design);

}  // namespace heathmist
