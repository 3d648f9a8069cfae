// What of a clip's channels is looked at: all of them, or one that is made of them.
#pragma once
#include "core/audio/planar.hpp"

namespace heathmist {

enum class Listen { all, mid, side, one };

/// Throws std::invalid_argument where there is no such channel to listen to.
void check_listening(Listen listen, int channel, int channels);
/// How many channels are left.
inline int heard_channels(Listen listen, int channels) { return listen == Listen::all ? channels : 1; }
/// Makes a block what is heard of it. Mid and side are (L + R) / 2 and (L - R) / 2 of the first two channels; a single
/// channel is its own mid.
void listen_to(Planar& block, Listen listen, int channel);

}  // namespace heathmist
