// The verbs of heathmist-cli. Each prints one JSON object or a short table, and throws InputError for a file it cannot
// use.
#pragma once
#include <string>
#include <vector>

#include "core/job.hpp"

namespace heathmist::cli {

void facts(const std::vector<std::string>& files, bool json);

struct NullCall {
  std::string master, ret, align = "auto", gain = "auto", drift = "auto", residual, floor;
  bool json = false;
};
/// Throws std::invalid_argument where an option's words are off.
void null(const NullCall& call);

/// Sends a master through a chain and writes the return.
void pass(const std::string& master, const std::string& chain, const std::string& out, bool json);
/// Lists the types of stages.
void stages(bool json);

/// Nulls every master and probe signal against every chain. `chains`: a file with a list of chains; `probes`: keys, or
/// all.
struct MatrixCall {
  std::vector<std::string> masters, probes;
  std::string chains, csv;
  bool json = false;
};
void matrix(const MatrixCall& call);

/// Searches the gain (or the limiter's ceiling) that keeps every chain's return under a limit.
struct CeilingCall {
  std::string master, chains;
  double limit_dbtp = 0;
  bool limiter = false, json = false;
};
void ceiling(const CeilingCall& call);

/// Progress for a person who watches: a line on standard error, where that is a terminal.
Job watched(const std::string& what);

struct MeasureCall {
  std::vector<std::string> files;
  bool album = false, json = false, dual_mono = false;
  std::string listen = "all", csv;
  double from_s = 0, to_s = -1, rms_window_s = 0.3;
};
void measure(const MeasureCall& call);

/// What every outlet makes of every file; without files, what outlets there are.
struct OutletsCall {
  std::vector<std::string> files, keys;
  bool album = false, encode = false, live = false, json = false;
  std::string csv;
};
void outlets(const OutletsCall& call);

/// Copies at a target, written into a folder, read back and checked.
struct LevelCall {
  std::vector<std::string> files;
  std::string folder, format = "wav", dither = "triangular", bits = "24";
  double target_lufs = -16, ceiling_dbtp = -1;
  bool limiter = false, album = false, json = false;
};
void level(const LevelCall& call);

/// The lines of a spectrum, named; noise; a curve where points are asked for.
struct SpectrumCall {
  std::vector<std::string> files;
  int fft_size = 65536, points = 0;
  std::string window = "kaiser", listen = "all", unit = "line", csv;
  double side_lobe_db = 200, overlap = 0.5, from_s = 0, to_s = -1, slope_db = 0, source_rate_hz = 0;
  std::vector<double> sources_hz;
  bool json = false;
};
void spectrum(const SpectrumCall& call);

/// Writes a probe, or lists the kinds there are.
struct ProbeCall {
  std::string kind, out, bits = "24";
  int rate_hz = 48000;
  bool list = false, json = false;
};
void probe(const ProbeCall& call);

/// Reads probes that came back.
struct ReadCall {
  std::string kind, csv;
  std::vector<std::string> files;
  int channel = 1;
  bool json = false;
};
void read(const ReadCall& call);

/// The converter board for one pair of rates; `files`: sweeps that came back from other programs.
struct ConvertersCall {
  std::vector<std::string> files;
  int from_hz = 96000, to_hz = 44100;
  std::string only, csv;
  bool json = false;
};
void converters(const ConvertersCall& call);

}  // namespace heathmist::cli
