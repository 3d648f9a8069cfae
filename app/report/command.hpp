// heathmist report BENCH -o OUT.html|OUT.pdf: a report without a window (docs/formats.md, README).
#pragma once

namespace heathmist::app {

/// Whether a call's first word is the verb.
bool asks_for_report(int argc, char** argv);
/// Runs it; no display is needed. The exit status: 0 done, 1 the input cannot be used, 2 the words are off.
int run_report(int argc, char** argv);

}  // namespace heathmist::app
