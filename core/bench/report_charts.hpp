// The charts of a report: from what a null measured, the lines that are drawn. Inside core/bench only.
#pragma once
#include "core/bench/analysis.hpp"
#include "core/bench/report_content.hpp"

namespace heathmist {

/// Short-term loudness of master, return and residual over time.
Chart loudness_chart(const NullReport& report);
/// Spectra of the three, a sixth of an octave.
Chart spectra_chart(const NullReport& report);
/// Residual against master by third octave.
Chart depth_chart(const NullReport& report);
/// What each cause took out of the residual; nothing where fewer than one did.
std::optional<Chart> budget_chart(const NullReport& report);
/// Level of the return against the master over frequency.
std::optional<Chart> path_chart(const Explanation& why);
/// Residual against what the programme masks, by critical band.
std::optional<Chart> mask_chart(const Explanation& why);
/// Gain over time.
std::optional<Chart> gain_chart(const Explanation& why);
/// The samples around a spot: master, laid return and residual of the channel where the residual is greatest.
Chart spot_chart(const AnalysisResult& result, double at_s, const std::string& text, const Job& job = {});

/// The chart that a finding can be seen on; nothing where there is none in a report.
std::optional<Chart> chart_of(Evidence evidence, const AnalysisResult& result);

}  // namespace heathmist
