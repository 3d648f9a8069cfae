#include "app/pages/null/lane_feed.hpp"

#include <algorithm>
#include <cmath>

#include "app/theme/theme.hpp"

namespace heathmist::app {

namespace {
constexpr double sample_zoom = 96;  // frames a column under which the samples themselves are read
}

LaneFeed::LaneFeed(Queue& queue, QObject* parent) : QObject(parent), queue_(queue) {}

void LaneFeed::set_trial(std::shared_ptr<const TrialResult> trial) {
  trial_ = std::move(trial);
  lines_ = {};
  levels_ = {};
  fine_ = {};
  asked_ = {};
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
}

double LaneFeed::length_s() const { return trial_ ? trial_->report->master.duration_s() : 1; }

std::vector<OutlineBin> LaneFeed::outline(Lane lane, double first, double frames, int columns) const {
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

LaneFeed::Fine LaneFeed::read_samples(const TrialResult& trial, double from_s, double to_s, int columns) {
  const auto& fit = trial.report->fit;
  const double rate = trial.report->master.sample_rate_hz, first = from_s * rate, frames = (to_s - from_s) * rate;
  const auto master = trial.pair.master->reader(), ret = trial.pair.ret->reader();
  ResidualReader residual(*trial.pair.master, *trial.pair.ret, fit);
  Planar block;
  auto take = [&](auto& reader, double at, double length) {
    const auto begin = int64_t(std::floor(at));
    reader.read(begin, int64_t(std::ceil(length)) + 2, block);
    return outline_columns(block, begin, at, length, columns);
  };
  return {from_s,
          to_s,
          {take(*master, first, frames), take(*ret, fit.place_in_return(first), frames * fit.ratio()),
           take(residual, first, frames)}};
}

void LaneFeed::ask(double from_s, double to_s, int columns) {
  if (asked_ == std::pair{from_s, to_s}) return;
  asked_ = {from_s, to_s};
  Request request{Priority::live, [this, trial = trial_, from_s, to_s, columns](const Job&, const Tell& tell) {
                    auto fine = std::make_shared<Fine>(read_samples(*trial, from_s, to_s, columns));
                    tell([this, trial, fine] {
                      if (trial != trial_) return;
                      fine_ = std::move(*fine);
                      emit refined();
                    });
                  }};
  request.key = request.group = "lanes";
  request.ended = [](Outcome, const QString&) {};  // the file is gone: the outline that was kept still serves
  queue_.post(std::move(request));
}

LaneContent LaneFeed::content(Lane lane, double from_s, double to_s, int columns) {
  LaneContent content{{}, from_s, to_s, {}, {}, {}};
  if (!trial_) return content;
  const double rate = trial_->report->master.sample_rate_hz, frames = (to_s - from_s) * rate;
  const bool wants_samples = frames / columns < sample_zoom;
  if (wants_samples) ask(from_s, to_s, columns);
  const double fine_span = fine_.to_s - fine_.from_s, span = to_s - from_s;
  if (wants_samples && fine_span > span * 0.2 && fine_span < span * 5 && fine_.from_s < to_s && fine_.to_s > from_s) {
    content.columns = fine_.lanes[size_t(lane)];
    content.from_s = fine_.from_s, content.to_s = fine_.to_s;
  } else {
    content.columns = outline(lane, from_s * rate, frames, columns);
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
