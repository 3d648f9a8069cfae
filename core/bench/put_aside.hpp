// Findings that somebody put aside, with a reason: known, meant, or none of the client's business. They hold as long as
// the finding says what it said then, and no longer.
#pragma once
#include "core/bench/document.hpp"
#include "core/compare/null.hpp"

namespace heathmist {

/// Why a finding is put aside; none: it is not, or its numbers are others now.
const PutAside* aside_of(const Trial& trial, const Finding& finding);

/// Puts a finding aside, or gives it another reason.
void put_aside(Trial& trial, const Finding& finding, const std::string& reason);
void bring_back(Trial& trial, const Finding& finding);

}  // namespace heathmist
