// A reverberant tail in impulse responses.
#pragma once
#include <optional>
#include <vector>

namespace heathmist::causes {

/// It dies away evenly.
struct Tail {
  double t60_s = 0;              ///< when it has fallen by 60 dB
  double direct_to_tail_db = 0;  ///< energies: the direct sound, over all that is later than 4 ms
};

/// Of the impulse responses to one output, of one length: from its own input first, whose start is the direct sound;
/// value n samples later at n, earlier ones at the end. Nothing where no dense tail follows that is straight in dB.
std::optional<Tail> tail_of(const std::vector<std::vector<double>>& responses, double rate_hz);

}  // namespace heathmist::causes
