// Copies of unsaved benches that earlier runs left behind: offered one by one, and kept until somebody chooses.
#pragma once
#include "app/model/bench_model.hpp"

namespace heathmist::app {

/// Asks for each copy what is to become of it: opened (the others then wait for another time), thrown away, or left.
/// `may_open` is asked before the bench on screen gives way. True: one was opened.
bool offer_unsaved(QWidget* parent, BenchModel& model, const std::function<bool()>& may_open);

}  // namespace heathmist::app
