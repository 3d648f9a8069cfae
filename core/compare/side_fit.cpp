#include "core/compare/side_fit.hpp"

#include <algorithm>
#include <cmath>

namespace heathmist {

namespace {

constexpr double agrees = 0.9;       // of the return with the difference
constexpr double much_better = 0.5;  // less is left than of the plain fit, by share
constexpr double one_share = 1e-3;   // of the power, by which two channels that are one may differ
constexpr int64_t stretch = 16384;   // frames
constexpr int places = 12;

/// A clip of one channel: a mixture of another's.
class Mixed : public Clip {
 public:
  Mixed(const Clip& clip, std::vector<double> parts)
      : Clip(clip.path(), mono(clip.format())), clip_(clip), parts_(std::move(parts)) {}
  bool is_made() const override { return true; }
  std::unique_ptr<Reader> reader() const override { return std::make_unique<Mixing>(*this); }

 private:
  struct Mixing : Reader {
    explicit Mixing(const Mixed& of) : Reader(of.format()), parts(of.parts_), from(of.clip_.reader()) {}
    void fetch(int64_t first, int64_t frames, Planar& out, int64_t at) override {
      from->read(first, frames, block);
      const auto mix = out.channel(0).subspan(size_t(at), size_t(frames));
      std::fill(mix.begin(), mix.end(), 0.0);
      for (size_t c = 0; c < parts.size(); ++c)
        for (size_t n = 0; n < mix.size(); ++n) mix[n] += parts[c] * block.channel(int(c))[n];
    }
    const std::vector<double>& parts;
    std::unique_ptr<Reader> from;
    Planar block;
  };
  static ClipFormat mono(ClipFormat f) {
    f.channels = 1;
    return f;
  }
  const Clip& clip_;
  const std::vector<double> parts_;
};

/// At places spread over the clip both channels are the same, or each other's inverse. Silence says nothing.
bool is_one_channel(const Clip& clip) {
  if (clip.format().channels == 1) return true;
  const auto reader = clip.reader();
  Planar block;
  double apart = 0, together = 0, own = 0;
  for (int n = 0; n < places; ++n) {
    reader->read((clip.format().frames - stretch) * n / (places - 1), stretch, block);
    const auto l = block.channel(0), r = block.channel(1);
    for (size_t k = 0; k < l.size(); ++k) {
      apart += (l[k] - r[k]) * (l[k] - r[k]), together += (l[k] + r[k]) * (l[k] + r[k]);
      own += l[k] * l[k] + r[k] * r[k];
    }
  }
  return own > 0 && std::min(apart, together) < one_share * own;
}

}  // namespace

std::optional<Fit> fit_of_the_side(const Clip& master, const Clip& ret, const Fit& plain, const FitOptions& options,
                                   const Job& job) {
  if (master.format().channels != 2 || ret.format().channels > 2 || !is_one_channel(ret)) return {};
  const Mixed side(master, {1, -1}), one(ret, ret.format().channels == 1 ? std::vector{1.0} : std::vector{1.0, 0.0});
  const Fit found = find_fit(side, one, options, job);
  if (found.agreement < agrees || 1 - found.agreement > much_better * (1 - plain.agreement)) return {};
  Fit fit = found;
  fit.pairs = plain_pairs(2, ret.format().channels);
  for (auto& p : fit.pairs) p.delay_samples = fit.delay_samples;
  fit.gain_db = 0;
  return fit;
}

}  // namespace heathmist
