// What watching an input costs.
#pragma once

namespace heathmist::bench {

/// Seconds of one core for a second of stereo at 48 kHz, its readings taken 20 times a second; the stand-in that gives
/// the sound is part of it.
double monitoring_share();

}  // namespace heathmist::bench
