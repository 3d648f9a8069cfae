// The few words and numbers of a trial that the ledger shows, kept between runs by the content of both files.
#pragma once
#include <optional>
#include <string>

#include "core/bench/document.hpp"
#include "core/compare/depth.hpp"
#include "core/compare/null.hpp"

namespace heathmist {

struct TrialSummary {
  std::string kind;
  std::optional<double> residual_relative_db;  ///< none: digital silence
  bool trusted = false;
  std::string headline;
  std::optional<double> master_lufs;
  double master_s = 0;
  int master_rate_hz = 0, master_bits = 0;  ///< bits 0: lossy
  bool master_real = false;
  // for setting trials side by side
  double delay_samples = 0, drift_ppm = 0, gain_db = 0;
  std::optional<double> remainder_relative_db{}, bandwidth_hz{};
  int bits_used = 0;                                       ///< of the return; 0: floating point or lossy
  std::string codec{};                                     ///< of the return
  std::string causes{};                                    ///< the greatest three, where it has been explained
  std::optional<int64_t> encoded_bytes{}, bit_rate_bps{};  ///< of a return made by a chain with a codec in it
  std::vector<double> band_hz{}, band_db{};                ///< third-octave depth; -200 where nothing is left
};

/// Mean depth in dB of the third octaves from low (included) to high (not); nothing where there is none.
std::optional<double> depth_between(const TrialSummary& summary, double low_hz, double high_hz);

TrialSummary summary_of(const NullReport& report);

/// From and to the user's cache, by the content of master and return (or its chain) and what is held; a summary that is
/// not there or broken is none.
std::optional<TrialSummary> kept_summary(const FileRef& master, const Trial& trial);
void keep_summary(const FileRef& master, const Trial& trial, const TrialSummary& summary);

}  // namespace heathmist
