#include "app/listen/pair_stream.hpp"

#include <algorithm>

namespace heathmist::app {

PairStream::PairStream(const Comparable& pair, const Fit& fit)
    : pair_(pair), fit_(fit), master_(pair.master->reader()), laid_(*pair.ret, fit) {}

void PairStream::read(int64_t first, const Hearing& hearing, std::span<MixFrame> out) {
  Planar m, r;
  std::vector<double> residual(out.size());
  master_->read(first, int64_t(out.size()), m);
  laid_.read(first, int64_t(out.size()), r);
  const auto last_pair = fit_.pairs.size() - 1;
  for (size_t c = 0; c < 2; ++c) {
    const auto& pair = fit_.pairs[std::min(c, last_pair)];
    const auto from = m.channel(std::min<int>(int(c), m.channels() - 1)),
               to = r.channel(std::min<int>(int(c), r.channels() - 1));
    take_residual(m.channel(pair.master), r.channel(pair.ret), pair, fit_.gain(), residual);
    for (size_t n = 0; n < out.size(); ++n) {
      out[n].master[c] = from[n];
      out[n].ret[c] = to[n];
      const int64_t frame = first + int64_t(n);
      out[n].residual[c] = frame >= fit_.first && frame < fit_.last ? residual[n] : 0;
    }
  }
  if (hearing.cause != cause_clip_) {
    cause_clip_ = hearing.cause;
    cause_ = cause_clip_ ? cause_clip_->reader() : nullptr;
  }
  if (cause_) put_cause(first, out);
  if (hearing.other != other_) {
    other_ = hearing.other;
    other_laid_.reset();
    if (other_) other_laid_.emplace(*other_->clip, other_->fit);
  }
  if (other_laid_) put_other(first, out);
  keep_band(hearing, out);
}

void PairStream::put_cause(int64_t first, std::span<MixFrame> out) {
  Planar part;
  cause_->read(first, int64_t(out.size()), part);
  for (size_t p = 0; p < fit_.pairs.size(); ++p) {
    const auto& pair = fit_.pairs[p];
    const auto of = part.channel(int(p));
    const double gain = (pair.inverted ? -1 : 1) * fit_.gain();
    for (size_t c = 0; c < 2; ++c) {
      const bool mono_return = pair_.ret->format().channels == 1, own_pair = std::min(c, fit_.pairs.size() - 1) == p;
      for (size_t n = 0; n < out.size(); ++n) {
        if (own_pair) out[n].residual[c] = of[n];
        if (mono_return ? p == 0 : pair.ret == int(c)) out[n].ret[c] -= gain * of[n];
      }
    }
  }
}

void PairStream::put_other(int64_t first, std::span<MixFrame> out) {
  Planar part;
  other_laid_->read(first, int64_t(out.size()), part);
  for (size_t c = 0; c < 2; ++c) {
    const auto from = part.channel(std::min<int>(int(c), part.channels() - 1));
    for (size_t n = 0; n < out.size(); ++n) out[n].ret[c] = from[n];
  }
}

void PairStream::keep_band(const Hearing& hearing, std::span<MixFrame> out) {
  if (hearing.band_hz != band_hz_) {
    band_hz_ = hearing.band_hz;
    filters_.clear();
    if (band_hz_) filters_.assign(6, dsp::BandPass(rate_hz(), band_hz_->first, band_hz_->second));
  }
  if (filters_.empty()) return;
  for (MixFrame& frame : out)
    for (size_t c = 0; c < 2; ++c) {
      frame.master[c] = filters_[c].run(frame.master[c]);
      frame.ret[c] = filters_[2 + c].run(frame.ret[c]);
      frame.residual[c] = filters_[4 + c].run(frame.residual[c]);
    }
}

}  // namespace heathmist::app
