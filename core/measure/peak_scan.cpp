#include "core/measure/peak_scan.hpp"

#include <algorithm>
#include <cmath>

namespace heathmist {

namespace {

constexpr double over_apart_s = 0.1;
constexpr double least_sample = 0.6;     // a wave that reaches 1 has samples nearby that reach this
constexpr double least_estimate = 0.92;  // and an estimate that reaches this

}  // namespace

void Moments::add(std::vector<Peak> peaks) {
  std::stable_sort(peaks.begin(), peaks.end(), [](const Peak& a, const Peak& b) { return a.at < b.at; });
  for (const Peak& p : peaks) {
    const double at_s = p.at / rate_hz_, dbtp = 20 * std::log10(p.level);
    const bool fresh = count_ == 0 || at_s - last_s_ >= over_apart_s;
    count_ += fresh;
    if (fresh && overs_.size() < most_) overs_.push_back({at_s, dbtp, p.channel});
    if (!fresh && count_ == int64_t(overs_.size()) && dbtp > overs_.back().dbtp)
      overs_.back() = {at_s, dbtp, p.channel};
    last_s_ = at_s;
  }
}

Peak PeakScan::run(const double* x, std::span<const double> sample_peaks, int64_t first_frame, int channel, double need,
                   double limit, std::vector<Peak>& over) {
  Peak greatest{0, double(first_frame), channel};
  const double low = std::min(need, limit);
  estimates_.assign(sample_peaks.begin(), sample_peaks.end());
  double highest = 0;
  for (size_t m = 0; m < estimates_.size(); ++m) {
    if (estimates_[m] >= least_sample * low && estimates_[m] > 0)
      estimates_[m] = between_.estimate(x + int64_t(m) * chunk);
    highest = std::max(highest, estimates_[m]);
  }
  for (size_t m = 0; m < estimates_.size(); ++m) {
    const double about = estimates_[m];
    const int64_t frame = first_frame + int64_t(m) * chunk;
    const bool may_be_highest = about >= least_estimate * std::max(highest, low);
    const bool may_be_over = about >= least_estimate * limit && about <= limit / least_estimate;
    Peak peak{about, double(frame), channel};
    if ((may_be_highest || may_be_over) && about > 0) {
      const auto top = between_.top(x + int64_t(m) * chunk);
      peak = {top.level, double(frame) + top.place, channel};
    }
    if (peak.level > limit) over.push_back(peak);
    if (peak.level > greatest.level) greatest = peak;
  }
  return greatest;
}

}  // namespace heathmist
