// Writes a report, as what its file's ending says.
#pragma once
#include "core/audio/atomic_file.hpp"
#include "core/bench/report.hpp"

namespace heathmist::app {

/// Throws OutputRefused unless the file ends in .html or .pdf, and as check() does: before anything is measured.
void check_report(const Destination& to);
/// Throws InputError where it is no picture that can be shown; an empty name is none.
void check_logo(const std::filesystem::path& file);
/// Throws OutputRefused, InputError; the file is whole or not there.
void write_report(const Report& report, const Destination& to);

}  // namespace heathmist::app
