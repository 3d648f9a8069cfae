// Equal loudness: what the return must be turned by to be as loud as its master.
#pragma once
#include "core/compare/null.hpp"

namespace heathmist {

enum class MatchBy { integrated, short_term, peak };

/// Gain in dB on the return as it lies on the master: by integrated loudness, by the greatest 3 s, or by the greatest
/// sample (that of the whole overlap). `seconds`: only this part counts. Nothing where either is silent there.
std::optional<double> match_gain_db(const NullReport& report, MatchBy by,
                                    const std::optional<std::pair<double, double>>& seconds = {});

/// The same for two clips that no null test was made of, by integrated loudness: of these seconds of both, or of all of
/// each. Throws as their readers do, Cancelled.
std::optional<double> match_gain_db(const Clip& master, const Clip& other,
                                    const std::optional<std::pair<double, double>>& seconds = {}, const Job& job = {});

}  // namespace heathmist
