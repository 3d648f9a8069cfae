// Where a finding holds, when and in which part of the spectrum; and its data in a line.
#pragma once
#include "core/compare/null.hpp"

namespace heathmist {

/// The octaves in which a cause takes out most of what it takes out anywhere: from and to in Hz; nothing where that is
/// all over the spectrum, or not known.
std::optional<std::pair<double, double>> band_of(const Cause& cause);

/// Whether a finding has a place, or a band, and it lies outside of what is selected: s of the master, Hz; nothing
/// selected: all. What holds throughout holds in every selection too.
bool lies_elsewhere(const Finding& finding, const std::optional<std::pair<double, double>>& seconds,
                    const std::optional<std::pair<double, double>>& hz);

/// "eq, caution; -1.9 dB; 0:02.50 to 0:02.54; 20 Hz to 160 Hz": what it is in the files that are written, its value,
/// and where it holds.
std::string technical_line(const Finding& finding);

}  // namespace heathmist
