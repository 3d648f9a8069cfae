// What lines a spectrum holds, what each of them is, and what lies between them.
//
//   LineReading r = read_lines(spectra_of(clip).average, {.source_rate_hz = 96000});
//
// Meant for a Kaiser window with side lobes under -190 dB (spectra_of()'s own): what stands beside a line is then no
// leakage of it. Levels in dBFS of a sine (peak 1 = 0); frequencies in Hz. Noise
// is what is left when all lines are taken out, the covered bins taken to hold as much as their neighbours.
#pragma once
#include <string>

#include "core/measure/fold.hpp"
#include "core/measure/spectra.hpp"

namespace heathmist {

struct SpectralLine {
  enum class Kind { fundamental, harmonic, intermodulation, hum, alias, unknown };
  Kind kind = Kind::unknown;
  double hz = 0, dbfs = 0, dbr = 0;
  int order = 0;            ///< of a harmonic; of a product; of a hum line
  double before_hz = 0;     ///< what an alias was before it folded
  std::string name;         ///< "3rd harmonic of 997 Hz", "27.4 kHz folded at 44.1 kHz"
  bool unresolved = false;  ///< wider than one line is: two may lie nearer than the resolution, or one moves
};
const char* name_of(SpectralLine::Kind kind);

/// A sampling anew on the way, and the tones that are known to have gone into it: what came of them is named first.
struct Detour {
  double from_hz = 0, rate_hz = 0;
  std::vector<double> sources_hz;
};

struct LineOptions {
  std::vector<double>
      fundamentals_hz{};             ///< none: the sources; nor these: the strongest line, and what is within 20 dB
  std::vector<double> sources_hz{};  ///< tones that went in, which may come back folded
  std::optional<double> reference_dbfs{};  ///< what dBr is against; none: the strongest fundamental, or line
  double source_rate_hz = 0;               ///< the rate they went in at; 0: no aliases are named
  std::vector<Detour> detours{};
  double low_hz = 20, high_hz = 20000;  ///< the band of THD+N and noise (AES17)
  int most_lines = 200;
};

/// What intermodulation is told against, by the tones that went in.
enum class Intermodulation {
  none,
  smpte,            ///< a low tone and a high one: side lines of the high one, RMS, against it (SMPTE RP 120)
  difference_tone,  ///< two near tones, alike: f2 - f1, 2 f1 - f2 and 2 f2 - f1 against the tones' sum (IEC 60268-3)
  all_products      ///< any other two: power of all products to the seventh order against both tones'
};
const char* name_of(Intermodulation method);

struct LineReading {
  std::vector<SpectralLine> lines;  ///< strongest first
  std::optional<double> thd_db;     ///< harmonics' power against the fundamentals', within the band of thd_n_db
  std::optional<double> thd_n_db;   ///< all else within the band against the fundamentals: AES17 with a narrow notch
  std::optional<double> sinad_db;   ///< -thd_n_db
  std::optional<double> sfdr_db;    ///< strongest fundamental against the strongest other line
  std::optional<double> imd_db;
  Intermodulation imd_method = Intermodulation::none;
  std::optional<double> equivalent_bits;  ///< (sinad + headroom of the fundamental - 1.76) / 6.02, IEEE 1241
  std::optional<double> noise_dbfs, noise_per_root_hz_dbfs;  ///< over the band; its mean density
  std::optional<double> noise_a_dbfs, noise_k_dbfs, noise_468_dbfs;
  size_t fft_size_to_resolve = 0;  ///< at which the unresolved lines would part if they are two alike; 0: none is
};
/// Few enough tones that distortion means something: one or two.
bool is_test_tone(const LineReading& reading);
/// How to read what came back of a clip with these lines: where they are test tones they may have folded, and dBr is
/// against them.
LineOptions as_return_of(const LineReading& source, double source_rate_hz);

/// The same of a clip, under the window it is meant for whatever the options say.
LineReading lines_of(const Clip& clip, SpectraOptions spectra, const LineOptions& options = {}, const Job& job = {});

/// The note nearest to a frequency, equal temperament from A4 = 440 Hz: "E2 +12 ct". Empty below 16 Hz.
std::string note_of(double hz);
LineReading read_lines(const Spectrum& spectrum, const LineOptions& options = {});

}  // namespace heathmist
