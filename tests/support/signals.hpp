// Signals whose truth is known, and files to hold them.
#pragma once
#include <QString>
#include <QTemporaryDir>
#include <filesystem>

#include "core/audio/write.hpp"
#include "core/compare/explain.hpp"
#include "core/dsp/noise.hpp"

namespace heathmist::test {

/// A programme that can be read at any place between samples, exactly: grains of sine under Gaussian envelopes, with an
/// uneven rhythm, up to `top_hz`. Two channels that share part of their grains.
class Programme {
 public:
  Programme(double seconds, uint64_t seed, double top_hz = 20000);
  /// channels x frames; sample n is the programme at time (n * step - delay_samples) / rate.
  Planar render(int rate_hz, double delay_samples = 0, double ratio = 1, double extra_seconds = 0) const;

 private:
  struct Grain {
    double at, width, hz, level, phase, pan;
  };
  double seconds_;
  std::vector<Grain> grains_;
};

/// A folder that goes away with the test.
class Folder {
 public:
  std::filesystem::path operator/(const std::string& name) const {
    return std::filesystem::path(dir_.path().toStdString()) / name;
  }

 private:
  QTemporaryDir dir_;
};

std::filesystem::path save(const std::filesystem::path& file, const Planar& sound, int rate_hz,
                           WordFormat word = WordFormat::float64);

Planar scaled(Planar sound, double gain);
/// Of two channels each comes back `direct` strong, and `across` in the other.
Planar with_crosstalk(Planar sound, double direct, double across);
Planar with_noise(Planar sound, double rms, uint64_t seed);
/// Rounded to a word length with triangular dither (or none).
Planar requantised(Planar sound, int bits, bool dither, uint64_t seed = 1);

double peak_of(const Planar& sound);
double integrated_lufs(const Planar& sound, int rate_hz);  ///< -300 for silence
/// By how many samples the first channel of `late` lies behind `early`'s, within 20 either way.
int samples_behind(const Planar& early, const Planar& late);

NullReport null_of(const std::filesystem::path& master, const std::filesystem::path& ret,
                   const NullOptions& options = {});
/// The null and its explanation, which may tell the kind better.
struct Explained {
  Comparable pair;
  NullReport report;
  Explanation why;
};
Explained explained_pair_of(const std::filesystem::path& master, const std::filesystem::path& ret);
NullReport explained_null_of(const std::filesystem::path& master, const std::filesystem::path& ret);
/// Both written into a folder and read back; fails the test where what is told contradicts itself.
NullReport told_of(const Folder& folder, const Planar& master, const Planar& ret, int rate_hz, WordFormat word);
/// Two findings of a report that cannot both be so, or one said twice; empty where there is none.
std::string contradiction_in(const NullReport& report);
bool tells(const NullReport& report, const std::string& code);   ///< among its causes
const Cause* cause(const NullReport& report, const char* code);  ///< the first of them; nothing where there is none
double number(const Cause* cause, const char* key);              ///< one of its values; NaN where there is none
bool is_near(double value, double truth, double by);
QString told(const NullReport& report);  ///< kind and causes with their levels, in a line
double db(std::optional<double> value);  ///< -999 for none

}  // namespace heathmist::test
