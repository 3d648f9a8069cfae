// What a row of the ledger says beyond the document.
#pragma once
#include <QString>
#include <optional>

#include "core/bench/document.hpp"
#include "core/bench/summary.hpp"

namespace heathmist::app {

struct RowState {
  FileState file = FileState::present;
  std::optional<TrialSummary> summary;
  QString facts;          ///< of a master: 1:12 · 96 kHz · 24 bit
  QString failure;        ///< of a trial: why it could not be run
  bool disarmed = false;  ///< of a trial: its chain holds a stage that may not run here
  bool running = false;
  bool looked_up = false;  ///< of a trial: it is known whether an earlier run kept its summary
  QString anew;            ///< of a trial: the time at which one of its files was seen to change
};

}  // namespace heathmist::app
