// What becomes of a probe that an engine of the bench was asked with.
#pragma once
#include "core/bench/document.hpp"
#include "core/engines/engine.hpp"
#include "core/probes/read.hpp"

namespace heathmist {

/// Has a stand-in do a kind's score, or another, with the probe at a rate, and reads what it renders. Throws as
/// perform() and read_probe() do.
ProbeReading ask(const Engine& engine, const std::string& kind, int rate_hz = 48000,
                 const std::optional<Json>& score = {}, const Job& job = {});

/// Reads a render of the bench: its file, or what the stand-in makes. Throws InputError, where the stand-in is not
/// known as well; Cancelled.
ProbeReading read_render(const TestedEngine& engine, const EngineRender& render, const Job& job = {});

/// The engines of a bench side by side, a flat object each: what each kind came to. `readings` by render id.
Json engine_row(const TestedEngine& engine, const std::map<std::string, std::shared_ptr<const ProbeReading>>& readings);

}  // namespace heathmist
