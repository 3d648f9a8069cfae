#include "core/compare/causes/sample_gains.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <optional>

#include "core/dsp/decibels.hpp"

namespace heathmist::causes {

namespace {

constexpr double least_gain = 1e-4;      // of a correction
constexpr double holds_by_itself = 0.9;  // that a law explains

/// The gain by level, sample by sample: least squares over those that stand within half a decibel of each other.
class GainTable {
 public:
  void add(double level_db, double model, double ret) { sums_[size_t(place_of(level_db))].add(model, ret); }
  /// Between two that are known, straight; beyond them, as the last.
  void solve() {
    std::optional<size_t> known;
    for (size_t n = 0; n < sums_.size(); ++n) {
      if (!(sums_[n].mm > 0)) continue;
      const double gain = sums_[n].gain();
      for (size_t k = known ? *known + 1 : 0; k < n; ++k)
        gains_[k] = known ? std::lerp(gains_[*known], gain, double(k - *known) / double(n - *known)) : gain;
      gains_[n] = gain, known = n;
    }
    if (known) std::fill(gains_.begin() + long(*known), gains_.end(), gains_[*known]);
  }
  double at(double level_db) const {
    const double place = place_of(level_db) - 0.5;
    const auto k = size_t(std::clamp(place, 0.0, double(gains_.size() - 2)));
    return std::lerp(gains_[k], gains_[k + 1], std::clamp(place - double(k), 0.0, 1.0));
  }

 private:
  static constexpr double low = -120, a_db = 2;
  static double place_of(double level_db) { return std::clamp((level_db - low) * a_db, 0.0, 259.0); }
  std::array<GainPiece, 260> sums_{};
  std::array<double, 260> gains_{};
};

/// Of what is `heard`, piece by piece.
GainTable table_of(const Excerpt& e, const Planar& model, const std::vector<float>& levels,
                   const std::vector<uint8_t>& heard, int64_t piece) {
  GainTable table;
  for (int p = 0; p < e.pairs(); ++p)
    for (size_t n = 0; n < levels.size(); ++n)
      if (e.told[n] && heard[n / size_t(piece)]) table.add(double(levels[n]), model.channel(p)[n], e.ret.channel(p)[n]);
  return table;
}

/// What brings these gains to that of each piece; its neighbour's where none is known.
std::vector<double> corrections(const Planar& model, const DynamicsTrace& t, const std::vector<float>& gains) {
  std::vector<double> all;
  double last = 1;
  for (size_t k = 0; k < t.gain.size(); ++k) {
    double power = 0, through = 0;
    const size_t from = k * size_t(t.piece), end = std::min(gains.size(), from + size_t(t.piece));
    for (int p = 0; p < model.channels(); ++p)
      for (size_t n = from; n < end; ++n) {
        const double x = model.channel(p)[n];
        power += x * x, through += x * x * double(gains[n]);
      }
    if (t.weight[k] > 0 && through > 0) last = t.gain[k] * power / through;
    all.push_back(last);
  }
  for (size_t k = all.size(); k-- > 1;)  // what sets in comes back at its own gain from its first sample on
    if (t.weight[k] > 0 && t.weight[k - 1] == 0) all[k - 1] = all[k];
  return all;
}

/// The level of whole pieces, at every sample.
std::vector<float> of_pieces_by_samples(const Excerpt& e, const DynamicsTrace& t, const LevelDetector& detector) {
  const auto of_pieces = decibels_by_pieces(t, detector.attack_s, detector.release_s);
  std::vector<float> levels(size_t(e.frames()));
  for (size_t n = 0; n < levels.size(); ++n) levels[n] = of_pieces[std::min(n / size_t(t.piece), of_pieces.size() - 1)];
  return levels;
}

/// Corrections that are more than what a law is off by have other causes, and are left alone where it is heard.
void leave_to_the_law(std::vector<double>& corrections, const DynamicsTrace& t, const std::vector<uint8_t>& heard) {
  constexpr double of_the_law_db = 0.04;  // root mean square
  double square = 0, all = 0;
  for (size_t k = 0; k < corrections.size(); ++k)
    if (heard[k]) square += t.weight[k] * std::pow(dsp::db_of(corrections[k], least_gain), 2), all += t.weight[k];
  if (square <= of_the_law_db * of_the_law_db * all) return;
  for (size_t k = 0; k < corrections.size(); ++k)
    if (heard[k]) corrections[k] = 1;
}

}  // namespace

std::vector<uint8_t> heard_by(const Excerpt& e, const DynamicsTrace& t, const LevelDetector& detector) {
  constexpr double forgets = 7;  // time constants
  std::vector<uint8_t> heard(t.gain.size(), 1);
  const auto unknown = int64_t(forgets * std::max(detector.attack_s, detector.release_s) * e.rate_hz);
  for (const Stretch& s : e.stretches)
    for (int64_t k = s.at / t.piece; k <= (s.at + std::min(unknown, s.frames)) / t.piece; ++k)
      if (k < std::ssize(heard)) heard[size_t(k)] = 0;
  return heard;
}

SampleGains::SampleGains(const Excerpt& e, const Planar& model, const DynamicsTrace& t, const LevelLaw& law)
    : every_(law.detector.of == LevelDetector::Of::decibels || law.detector.attack_s > 0 ? 4 : 1) {
  const bool by_pieces = law.detector.of == LevelDetector::Of::decibels;
  const auto heard = heard_by(e, t, law.detector);
  const auto levels =
      by_pieces ? of_pieces_by_samples(e, t, law.detector)
                : Rectified(e, model, law.detector).by_samples({law.detector.attack_s, law.detector.release_s});
  const bool enough = std::ranges::count(heard, 1) * 5 > std::ssize(heard);
  GainTable table = table_of(e, model, levels, enough ? heard : std::vector<uint8_t>(heard.size(), 1), t.piece);
  table.solve();
  std::vector<float> lawful;
  for (const float level : levels) lawful.push_back(float(table.at(double(level))));
  if (!by_pieces) {
    LevelCourse course;
    for (size_t n = 0; n < levels.size(); n += size_t(LevelCourse::every)) course.dbfs.push_back(levels[n]);
    level_ = std::make_shared<const LevelCourse>(std::move(course));
  }
  const auto gains = by_pieces ? std::vector<float>(lawful.size(), 1.f) : lawful;
  auto corrected = corrections(model, t, gains);
  if (!by_pieces && law.explained > holds_by_itself) leave_to_the_law(corrected, t, heard);
  for (size_t n = 0; n < gains.size(); n += size_t(every_)) {
    gains_.push_back(gains[n] * float(at_place_of_pieces(corrected, t.piece, double(n) + 0.5)));
    of_law_.push_back(lawful[n]);
  }
}

double SampleGains::between(const std::vector<float>& gains, int64_t place) const {
  const auto k = size_t(place / every_), next = std::min(k + 1, gains.size() - 1);
  return std::lerp(double(gains[k]), double(gains[next]), double(place % every_) / double(every_));
}

}  // namespace heathmist::causes
