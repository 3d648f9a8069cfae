// A hand on the gain - a fade, steps, a tremolo - beside a gain that follows the level: each hides the other.
#pragma once
#include "core/compare/causes/cause_set.hpp"

namespace heathmist::causes {

/// What somebody does to the gain at a time, whatever the programme is there.
bool is_hand_on_gain(const Estimate& e);

/// Small steps, and such that are greatest at the very beginning.
bool is_how_a_detector_settles(const Cause& cause);

bool has_hand_beside_law(const CauseSet& causes);

/// The return without what a gain by level made of it, where a hand had been on the programme before. At each moment
/// that hand's gain F and the law g of the level L bring it to F + g(L + F), all in dB: as long as g falls by less than
/// a decibel a decibel, one F does. g is what mostly comes to a level; `heard`: L without the hand, nothing where only
/// that of pieces is known.
Excerpt without_law_behind_hand(Excerpt excerpt, const Planar& model, const LevelCourse* heard);

/// The hand is estimated from what the law makes by itself, then the law with that known, by turns, while it helps: a
/// compressor of R : 1 behind a fade makes up for 1 - 1/R of what is wrong with it in dB, and so much is wrong with it
/// in the next turn. Nothing is done where either is not kept.
void bring_hands_beside_law(CauseSet& causes, const Job& job);

}  // namespace heathmist::causes
