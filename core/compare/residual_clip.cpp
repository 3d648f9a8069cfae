#include "core/compare/null.hpp"

namespace heathmist {

namespace {

class LaidReader : public Reader {
 public:
  LaidReader(const Comparable& pair, const Fit& fit, const ClipFormat& format)
      : Reader(format), pair_(pair), residual_(*pair_.master, *pair_.ret, fit) {}

 protected:
  void fetch(int64_t first, int64_t frames, Planar& out, int64_t at) override {
    residual_.read(first, frames, block_);
    for (int c = 0; c < out.channels(); ++c)
      std::copy_n(block_.channel(c).begin(), frames, out.channel(c).begin() + at);
  }

 private:
  Comparable pair_;
  ResidualReader residual_;
  Planar block_;
};

class ResidualClip : public Clip {
 public:
  ResidualClip(const Comparable& pair, const Fit& fit)
      : Clip(pair.master->path(), pair.master->format()), pair_(pair), fit_(fit) {
    format_.channels = int(fit.pairs.size());
    format_.codec = "pcm";
  }
  bool is_made() const override { return true; }
  std::unique_ptr<Reader> reader() const override { return std::make_unique<LaidReader>(pair_, fit_, format_); }

 private:
  Comparable pair_;
  Fit fit_;
};

}  // namespace

std::shared_ptr<const Clip> residual_clip(const Comparable& pair, const Fit& fit) {
  return std::make_shared<ResidualClip>(pair, fit);
}

}  // namespace heathmist
