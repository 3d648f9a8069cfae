#include <algorithm>
#include <cmath>

#include "core/compare/fit.hpp"

namespace heathmist {

double Fit::gain() const { return std::pow(10.0, gain_db / 20); }

const char* Fit::polarity() const {
  const auto inverted = std::count_if(pairs.begin(), pairs.end(), [](const auto& p) { return p.inverted; });
  if (inverted == 0) return "normal";
  return inverted == int64_t(pairs.size()) ? "inverted" : "mixed";
}

bool Fit::swapped() const {
  const auto one_sided = [&](auto side) {
    return std::all_of(pairs.begin(), pairs.end(), [&](const auto& p) { return p.*side == 0; });
  };
  if (one_sided(&ChannelPair::master) || one_sided(&ChannelPair::ret)) return false;
  return std::any_of(pairs.begin(), pairs.end(), [](const auto& p) { return p.master != p.ret; });
}

void set_overlap(Fit& fit, int64_t master_frames, int64_t return_frames) {
  // A short pair gives up no more than a part of itself: past its ends silence is read.
  const double reach =
      fit.between_samples() ? std::min<double>(double(return_frames / 64), dsp::FullBandStretch::after) : 0;
  fit.first = std::max(int64_t(reach), int64_t(std::ceil((reach - fit.delay_samples) / fit.ratio())));
  const auto end = int64_t(std::floor((double(return_frames - 1) - reach - fit.delay_samples) / fit.ratio())) + 1;
  fit.last = std::max(fit.first, std::min(master_frames - int64_t(reach), end));
}

std::vector<ChannelPair> plain_pairs(int master_channels, int return_channels) {
  std::vector<ChannelPair> pairs;
  const bool mono = master_channels == 1 || return_channels == 1;
  const int count = mono ? std::max(master_channels, return_channels) : std::min(master_channels, return_channels);
  for (int c = 0; c < count; ++c) {
    ChannelPair pair;
    pair.master = std::min(c, master_channels - 1);
    pair.ret = std::min(c, return_channels - 1);
    pairs.push_back(pair);
  }
  return pairs;
}

AlignedReturn::AlignedReturn(const Clip& ret, double delay_samples, double drift_ppm)
    : reader_(ret.reader()), delay_(delay_samples), step_(1 + drift_ppm * 1e-6) {}

void AlignedReturn::read(int64_t first, int64_t frames, Planar& out) {
  if (step_ != 1) return read_stretched(first, frames, out);
  const auto whole = int64_t(std::floor(delay_));
  if (double(whole) == delay_) return reader_->read(first + whole, frames, out);
  if (!shift_) shift_.emplace(delay_ - double(whole));
  reader_->read(first + whole - dsp::FullBand::before, frames + dsp::FullBand::taps - 1, raw_);
  out.resize(raw_.channels(), frames);
  for (int c = 0; c < out.channels(); ++c) shift_->shift(raw_.channel(c), out.channel(c));
}

void AlignedReturn::read_stretched(int64_t first, int64_t frames, Planar& out) {
  using Stretch = dsp::FullBandStretch;
  const double place = double(first) * step_ + delay_, whole = std::floor(place), fraction = place - whole;
  if (!stretch_) stretch_.emplace(step_);
  reader_->read(int64_t(whole) - Stretch::before,
                int64_t(std::ceil(double(frames) * step_)) + Stretch::before + Stretch::after + 2, raw_);
  out.resize(raw_.channels(), frames);
  for (int c = 0; c < out.channels(); ++c) stretch_->stretch(raw_.channel(c), fraction, out.channel(c));
}

AlignedMaster::AlignedMaster(const Clip& master, const Fit& fit) : reader_(master.reader()) {
  if (fit.between_samples()) edge_.emplace(0, 1, fit.ratio());
}

void AlignedMaster::read(int64_t first, int64_t frames, Planar& out) {
  if (!edge_) return reader_->read(first, frames, out);
  reader_->read(first - dsp::FullBand::before, frames + dsp::FullBand::taps - 1, raw_);
  out.resize(raw_.channels(), frames);
  for (int c = 0; c < out.channels(); ++c) edge_->shift(raw_.channel(c), out.channel(c));
}

void take_residual(std::span<const double> master, std::span<const double> laid, const ChannelPair& pair, double gain,
                   std::span<double> residual) {
  if (gain == 1 && !pair.inverted) {  // exact: equal samples leave exactly nothing
    for (size_t n = 0; n < residual.size(); ++n) residual[n] = laid[n] - master[n];
    return;
  }
  const double scale = (pair.inverted ? -1 : 1) / gain;
  for (size_t n = 0; n < residual.size(); ++n) residual[n] = scale * laid[n] - master[n];
}

ResidualReader::ResidualReader(const Clip& master, const Clip& ret, const Fit& fit)
    : master_(master, fit), laid_(ret, fit), fit_(fit) {}

void ResidualReader::read(int64_t first, int64_t frames, Planar& out) {
  master_.read(first, frames, m_);
  laid_.read(first, frames, r_);
  out.resize(int(fit_.pairs.size()), frames);
  const auto from = std::clamp<int64_t>(fit_.first - first, 0, frames),
             to = std::clamp(fit_.last - first, from, frames);
  for (int p = 0; p < out.channels(); ++p) {
    const auto& pair = fit_.pairs[size_t(p)];
    const auto e = out.channel(p);
    take_residual(m_.channel(pair.master), r_.channel(pair.ret), pair, fit_.gain(), e);
    std::fill(e.begin(), e.begin() + from, 0.0);
    std::fill(e.begin() + to, e.end(), 0.0);
  }
}

}  // namespace heathmist
