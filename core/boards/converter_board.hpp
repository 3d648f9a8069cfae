// The converter board: every converter of the stages, and every sweep that came back from elsewhere, read the same way.
//
//   for (const Chain& c : board_converters(44100)) BoardRow row = read_converter(c, 96000);
#pragma once
#include "core/probes/readings.hpp"
#include "core/stages/chain.hpp"

namespace heathmist {

struct BoardRow {
  std::string name;
  std::optional<Chain> chain{};  ///< none: a return that was brought in
  std::filesystem::path file{};  ///< of that return
  SweepReading sweep;
  std::optional<ImpulseReading> impulse{};
  std::optional<double> thd_n_db{};  ///< of 997 Hz at -1 dBFS
  std::optional<double> speed{};     ///< seconds of audio converted in a second
  AliasMap map;
};

/// A chain of one converter for each there is, at its usual qualities, poor ones of our own included.
std::vector<Chain> board_converters(int to_hz);
/// Runs sweep, impulses and a tone through a chain and reads them; kept in the cache. Throws ChainError, InputError,
/// Cancelled.
BoardRow read_converter(const Chain& chain, int from_hz, const Job& job = {});
/// The same where it was read before on this machine, at once; else nothing.
std::optional<BoardRow> kept_converter(const Chain& chain, int from_hz);
/// Reads a sweep probe that came back from some other program. Throws InputError, Cancelled.
BoardRow read_returned_sweep(const std::filesystem::path& file, const Job& job = {});

Json board_json(const BoardRow& row);
/// Without points and maps: a line of a table.
Json board_line(const BoardRow& row);

}  // namespace heathmist
