// What a stream is made of. Inside core/devices only.
#pragma once
#include <map>

#include "core/devices/device.hpp"

namespace heathmist {

std::vector<Device> devices_of_servers();
/// What each sink and source of the PulseAudio server runs at, by its description; empty where there is no server.
std::map<std::string, int> pulse_rates();
Device loop_device();
/// `in`, `out`: the devices that the order names; nullptr: none.
std::unique_ptr<Stream> open_server(const StreamOrder& order, const Device* in, const Device* out,
                                    StreamCallback callback);
std::unique_ptr<Stream> open_loop(const StreamOrder& order, StreamCallback callback);

}  // namespace heathmist
