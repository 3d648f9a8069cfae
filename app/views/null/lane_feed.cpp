#include "app/views/null/lane_feed.hpp"

#include <algorithm>
#include <cmath>

#include "app/theme/theme.hpp"

namespace heathmist::app {

namespace {
constexpr double sample_zoom = 96;  // frames a column under which the samples themselves are read
}

void LaneFeed::set_trial(std::shared_ptr<const TrialResult> trial) {
  trial_ = std::move(trial);
  lines_ = {};
  levels_ = {};
  master_.reset();
  ret_.reset();
  if (!trial_) return;
  const auto& sums = trial_->report->sums;
  const std::array<const LoudnessPieces*, 3> pieces{&sums.master_pieces, &sums.return_pieces, &sums.residual_pieces};
  for (size_t n = 0; n < 3; ++n) {
    lines_[n] = sliding_lufs(*pieces[n], 30);
    const auto level = integrated_lufs(*pieces[n]);
    levels_[n] = level                          ? number(*level, 1) + " LUFS"
                 : n == 2 && sums.residual == 0 ? QObject::tr("silence")
                                                : QObject::tr("below gate");
  }
  master_ = trial_->pair.master->reader();
  ret_ = trial_->pair.ret->reader();
}

double LaneFeed::length_s() const { return trial_ ? trial_->report->master.duration_s() : 1; }

std::vector<OutlineBin> LaneFeed::outline(Lane lane, double first, double frames, int columns) {
  const auto& r = *trial_->report;
  switch (lane) {
    case Lane::master:
      return r.master_overview.columns(first, frames, columns);
    case Lane::ret: {  // on its own time axis, and at its own rate
      const double rate = double(r.ret.sample_rate_hz) / r.master.sample_rate_hz;
      return r.return_overview.columns(r.fit.place_in_return(first) * rate, frames * r.fit.ratio() * rate, columns);
    }
    default:
      return r.sums.residual_overview.columns(first - double(r.sums.first), frames, columns);
  }
}

std::vector<OutlineBin> LaneFeed::from_samples(Lane lane, double first, double frames, int columns) {
  const auto& fit = trial_->report->fit;
  if (lane == Lane::master) return outline_columns(*master_, first, frames, columns);
  if (lane == Lane::ret) return outline_columns(*ret_, fit.place_in_return(first), frames * fit.ratio(), columns);
  const auto begin = int64_t(std::floor(first)), count = int64_t(std::ceil(frames)) + 2;
  Planar m, r;
  master_->read(begin, count, m);
  LaidReturn(*trial_->pair.ret, fit).read(begin, count, r);
  std::vector<double> residual(static_cast<size_t>(count));
  std::vector<OutlineBin> bins(static_cast<size_t>(columns));
  for (const auto& pair : fit.pairs) {
    take_residual(m.channel(pair.master), r.channel(pair.ret), pair, fit.gain(), residual);
    for (int c = 0; c < columns; ++c) {
      const auto from = int64_t(first - double(begin) + frames * c / columns);
      const auto to =
          std::min(count, std::max(from + 1, int64_t(first - double(begin) + frames * (c + 1) / columns) + 1));
      for (int64_t n = from; n < to; ++n) {
        if (begin + n < fit.first || begin + n >= fit.last) continue;
        auto& bin = bins[size_t(c)];
        bin.low = std::min(bin.low, float(residual[size_t(n)]));
        bin.high = std::max(bin.high, float(residual[size_t(n)]));
      }
    }
  }
  return bins;
}

LaneContent LaneFeed::content(Lane lane, double from_s, double to_s, int columns) {
  LaneContent content;
  if (!trial_) return content;
  const double rate = trial_->report->master.sample_rate_hz, first = from_s * rate, frames = (to_s - from_s) * rate;
  try {
    content.columns = frames / columns < sample_zoom ? from_samples(lane, first, frames, columns)
                                                     : outline(lane, first, frames, columns);
  } catch (const InputError&) {  // the file is gone: the outline that was kept still serves
    content.columns = outline(lane, first, frames, columns);
  }
  const auto n = size_t(lane);
  const double piece_s = double(loudness_piece_frames(int(rate)) / 5 * 5) / rate,
               start_s = double(trial_->report->sums.first) / rate;
  const int64_t count = int64_t(lines_[n].size());
  const auto begin = std::clamp<int64_t>(int64_t((from_s - start_s) / piece_s) - 1, 0, count);
  const auto end = std::clamp<int64_t>(int64_t((to_s - start_s) / piece_s) + 2, begin, count);
  const int64_t step = std::max<int64_t>(1, (end - begin) / std::max(1, columns));
  for (int64_t k = begin; k < end; k += step) {
    content.line_s.push_back(start_s + double(k + 1) * piece_s);
    content.line_lufs.push_back(double(lines_[n][size_t(k)]));
  }
  content.level = levels_[n];
  return content;
}

}  // namespace heathmist::app
