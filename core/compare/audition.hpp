// A cause of the budget as sound: what it put into the return. The return less that is the return without the cause.
//
//   auto eq = cause_clip(pair, report.fit, layers, report.causes[1].part);
#pragma once
#include "core/compare/causes/layers.hpp"
#include "core/compare/null.hpp"

namespace heathmist {

/// A stream of pairs x frames on the master's time axis, at the master's level and polarity as the residual is; zero
/// outside the overlap. The residual is the sum of all parts, the rest and what `layers` say of the gain among them. Of
/// a long pair, causes with a course of their own (lines, dynamics, wow) are known in the stretches that they were
/// looked for in, and silent elsewhere. Nothing where the cause is no part of the residual: taken out by the fit, or a
/// fact without a level.
std::shared_ptr<const Clip> cause_clip(const Comparable& pair, const Fit& fit, std::shared_ptr<const Layers> layers,
                                       const CausePart& part);

}  // namespace heathmist
