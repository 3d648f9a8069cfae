#include "core/compare/audition.hpp"

#include <algorithm>
#include <cmath>

#include "core/compare/causes/aligned_pairs.hpp"
#include "core/compare/causes/excerpt.hpp"

namespace heathmist {

using namespace causes;

namespace {

constexpr double chunk_s = 1.5;

/// Works a part out in chunks, so that what reaches far (an echo) is not done anew for every block that is played.
class PartReader : public Reader {
 public:
  PartReader(const Comparable& pair, const Fit& fit, std::shared_ptr<const Layers> layers, const CausePart& part,
             const ClipFormat& format)
      : Reader(format),
        pair_(pair),
        fit_(fit),
        layers_(std::move(layers)),
        part_(part),
        master_(*pair_.master, fit_),
        chunk_frames_(int64_t(chunk_s * format.sample_rate_hz)) {
    const auto laid = [&](bool jumps, bool own_delays) {
      return AlignedPairs(*pair_.ret, fit_, format.sample_rate_hz, jumps ? layers_->jumps : Continuity{}, own_delays);
    };
    const bool own = layers_->own_delays;
    if (part_.what == CausePart::jumps) laid_.push_back(laid(false, false)), laid_.push_back(laid(true, false));
    if (part_.what == CausePart::own_delays) laid_.push_back(laid(true, false)), laid_.push_back(laid(true, true));
    if (part_.what == CausePart::rest) laid_.push_back(laid(true, own));
    const size_t until = part_.what == CausePart::layer ? part_.number + 1 : layers_->layers.size();
    for (size_t n = 0; n < std::min(until, layers_->layers.size()); ++n)
      lead_ = std::max(lead_, int64_t(std::ceil(layers_->layers[n].reach_s * format.sample_rate_hz)) + 1);
  }

 protected:
  void fetch(int64_t first, int64_t frames, Planar& out, int64_t at) override {
    while (frames > 0) {
      const int64_t chunk = first / chunk_frames_, inside = first - chunk * chunk_frames_;
      if (chunk != chunk_) work_out(chunk);
      const int64_t count = std::min(frames, chunk_frames_ - inside);
      for (int c = 0; c < out.channels(); ++c)
        std::copy_n(done_.channel(c).begin() + inside, count, out.channel(c).begin() + at);
      first += count, at += count, frames -= count;
    }
  }

 private:
  void work_out(int64_t chunk) {
    const int pairs = int(fit_.pairs.size());
    done_.resize(pairs, chunk_frames_);
    for (int p = 0; p < pairs; ++p) std::fill(done_.channel(p).begin(), done_.channel(p).end(), 0.0);
    chunk_ = chunk;
    const int64_t from = std::max(fit_.first, chunk * chunk_frames_),
                  until = std::min(fit_.last, (chunk + 1) * chunk_frames_);
    if (from >= until) return;
    if (part_.what == CausePart::layer)
      difference_of_models(from, until);
    else if (part_.what == CausePart::rest)
      what_is_left(from, until);
    else
      difference_of_lays(from, until);
  }

  /// The first `count` layers put into the master, from `first` on.
  Planar model(size_t count, int64_t first, int64_t frames) {
    Planar read, model(int(fit_.pairs.size()), frames);
    master_.read(first, frames, read);
    for (int p = 0; p < model.channels(); ++p) {
      const auto from = read.channel(fit_.pairs[size_t(p)].master);
      std::copy(from.begin(), from.end(), model.channel(p).begin());
    }
    const Places where{{{first, 0, frames}}, fit_.first};
    in_order(
        count,
        [&](size_t n) {
          return std::pair{layers_->layers[n].stands, layers_->layers[n].turn};
        },
        [&](size_t n) { layers_->layers[n].put_in(where, model); });
    return model;
  }

  template <class Of>
  void keep(int64_t from, int64_t until, Of of) {
    for (int p = 0; p < done_.channels(); ++p)
      for (int64_t n = from; n < until; ++n) done_.channel(p)[size_t(n - chunk_ * chunk_frames_)] = of(p, n);
  }

  void difference_of_models(int64_t from, int64_t until) {
    const int64_t first = std::max(fit_.first, from - lead_), last = std::min(fit_.last, until + lead_);
    const Planar before = model(part_.number, first, last - first),
                 after = model(part_.number + 1, first, last - first);
    const double gain = std::pow(10, layers_->gain_db / 20);
    keep(from, until, [&](int p, int64_t n) {
      return gain * (after.channel(p)[size_t(n - first)] - before.channel(p)[size_t(n - first)]);
    });
  }

  void what_is_left(int64_t from, int64_t until) {
    const int64_t first = std::max(fit_.first, from - lead_), last = std::min(fit_.last, until + lead_);
    const Planar all = model(layers_->layers.size(), first, last - first);
    Planar ret;
    laid_[0].read(from, until - from, ret);
    const double gain = std::pow(10, layers_->gain_db / 20);
    keep(from, until,
         [&](int p, int64_t n) { return ret.channel(p)[size_t(n - from)] - gain * all.channel(p)[size_t(n - first)]; });
    for (const auto& [a, b] : laid_[0].gone())
      if (std::max(a, from) < std::min(b, until))
        for (int p = 0; p < done_.channels(); ++p)
          std::fill(done_.channel(p).begin() + (std::max(a, from) - chunk_ * chunk_frames_),
                    done_.channel(p).begin() + (std::min(b, until) - chunk_ * chunk_frames_), 0.0);
  }

  void difference_of_lays(int64_t from, int64_t until) {
    Planar before, after;
    laid_[0].read(from, until - from, before);
    laid_[1].read(from, until - from, after);
    keep(from, until,
         [&](int p, int64_t n) { return before.channel(p)[size_t(n - from)] - after.channel(p)[size_t(n - from)]; });
  }

  Comparable pair_;
  Fit fit_;
  std::shared_ptr<const Layers> layers_;
  CausePart part_;
  AlignedMaster master_;
  std::vector<AlignedPairs> laid_;
  int64_t chunk_frames_, lead_ = 1, chunk_ = -1;
  Planar done_;
};

class CauseClip : public Clip {
 public:
  CauseClip(const Comparable& pair, const Fit& fit, std::shared_ptr<const Layers> layers, const CausePart& part)
      : Clip(pair.master->path(), pair.master->format()),
        pair_(pair),
        fit_(fit),
        layers_(std::move(layers)),
        part_(part) {
    format_.channels = int(fit.pairs.size());
    format_.codec = "pcm";
  }
  bool is_made() const override { return true; }
  std::unique_ptr<Reader> reader() const override {
    return std::make_unique<PartReader>(pair_, fit_, layers_, part_, format_);
  }

 private:
  Comparable pair_;
  Fit fit_;
  std::shared_ptr<const Layers> layers_;
  CausePart part_;
};

}  // namespace

std::shared_ptr<const Clip> cause_clip(const Comparable& pair, const Fit& fit, std::shared_ptr<const Layers> layers,
                                       const CausePart& part) {
  if (part.what == CausePart::none) return nullptr;
  return std::make_shared<CauseClip>(pair, fit, std::move(layers), part);
}

}  // namespace heathmist
