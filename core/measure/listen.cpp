#include "core/measure/listen.hpp"

#include <stdexcept>
#include <string>

namespace heathmist {

void check_listening(Listen listen, int channel, int channels) {
  if (listen == Listen::one && (channel < 0 || channel >= channels))
    throw std::invalid_argument("there is no channel " + std::to_string(channel + 1) + " in " +
                                std::to_string(channels));
}

void listen_to(Planar& block, Listen listen, int channel) {
  if (listen == Listen::all) return;
  const bool pair = block.channels() > 1;
  Planar heard(1, block.frames());
  const auto a = block.channel(listen == Listen::one ? channel : 0), b = block.channel(pair ? 1 : 0);
  const double left = listen == Listen::one ? 1 : 0.5;
  const double right = listen == Listen::mid ? 0.5 : listen == Listen::side ? -0.5 : 0;
  for (size_t n = 0; n < a.size(); ++n) heard.channel(0)[n] = left * a[n] + right * b[n];
  block = std::move(heard);
}

}  // namespace heathmist
