// Gain, delay, polarity, and where channels go.
#include <fmt/format.h>

#include <cmath>

#include "core/dsp/interpolator.hpp"
#include "core/stages/stage_context.hpp"

namespace heathmist {

namespace {

namespace p = parameter;
using dsp::Interpolator;

AudioStreamPtr make_gain(AudioStreamPtr in, const Values& v, StageContext&) {
  return changed_flow(std::move(in), [gain = v.gain("gain_db")](Planar& block) {
    for (int c = 0; c < block.channels(); ++c)
      for (double& x : block.channel(c)) x *= gain;
  });
}

/// Later by any number of frames, fractions too; the start is silence, or missing where the delay is negative.
class DelayFlow : public AudioStream {
 public:
  DelayFlow(AudioStreamPtr in, double delay)
      : AudioStream(reals_like(in->format())),
        window_(std::move(in)),
        whole_(int64_t(std::floor(-delay))),
        fraction_(-delay - double(whole_)) {
    format_.frames = std::max<int64_t>(0, format_.frames + int64_t(std::ceil(delay)));
  }
  void next(int64_t frames, Planar& out) override {
    out.resize(format_.channels, frames);
    const int64_t first = at_ + whole_ - Interpolator::before;
    at_ += frames;
    if (first + frames + Interpolator::taps <= 0) return silence(out);  // before the start: nothing is held
    window_.move_to(first, first + frames + Interpolator::taps);
    for (int c = 0; c < out.channels(); ++c)
      Interpolator::shift(window_.channel(c).first(size_t(frames + Interpolator::taps - 1)), fraction_, out.channel(c));
  }

 private:
  static void silence(Planar& out) {
    for (int c = 0; c < out.channels(); ++c) std::fill(out.channel(c).begin(), out.channel(c).end(), 0.0);
  }
  FlowWindow window_;
  int64_t whole_, at_ = 0;
  double fraction_;
};

AudioStreamPtr make_delay(AudioStreamPtr in, const Values& v, StageContext&) {
  return std::make_unique<DelayFlow>(std::move(in), v.number("delay_samples"));
}

AudioStreamPtr make_polarity(AudioStreamPtr in, const Values& v, StageContext&) {
  const std::string which = v.text("channels");
  return changed_flow(std::move(in), [which](Planar& block) {
    for (int c = 0; c < block.channels(); ++c) {
      if ((which == "first" && c != 0) || (which == "second" && c != 1)) continue;
      for (double& x : block.channel(c)) x = -x;
    }
  });
}

class MapFlow : public AudioStream {
 public:
  using Change = std::function<void(const Planar& in, Planar& out)>;
  MapFlow(AudioStreamPtr in, int channels, Change change)
      : AudioStream(reals_like(in->format())), in_(std::move(in)), change_(std::move(change)) {
    format_.channels = channels;
  }
  void next(int64_t frames, Planar& out) override {
    in_->next(frames, block_);
    out.resize(format_.channels, frames);
    change_(block_, out);
  }

 private:
  AudioStreamPtr in_;
  Change change_;
  Planar block_;
};

/// out[c] = a in[0] + b in[1], per output channel.
AudioStreamPtr pair_map(AudioStreamPtr in, std::vector<std::pair<double, double>> rows) {
  const int channels = int(rows.size());
  return std::make_unique<MapFlow>(std::move(in), channels, [rows](const Planar& from, Planar& out) {
    for (size_t r = 0; r < rows.size(); ++r)
      for (size_t n = 0; n < size_t(out.frames()); ++n)
        out.channel(int(r))[n] = rows[r].first * from.channel(0)[n] + rows[r].second * from.channel(1)[n];
  });
}

AudioStreamPtr make_map(AudioStreamPtr in, const Values& v, StageContext&) {
  const std::string map = v.text("map");
  const int channels = in->format().channels;
  if (map == "mono") {
    return std::make_unique<MapFlow>(std::move(in), 1, [](const Planar& from, Planar& out) {
      std::fill(out.channel(0).begin(), out.channel(0).end(), 0.0);
      for (int c = 0; c < from.channels(); ++c)
        for (size_t n = 0; n < size_t(out.frames()); ++n) out.channel(0)[n] += from.channel(c)[n] / from.channels();
    });
  }
  if (map == "stereo" && channels == 1)
    return std::make_unique<MapFlow>(std::move(in), 2, [](const Planar& from, Planar& out) {
      for (int c = 0; c < 2; ++c) std::copy(from.channel(0).begin(), from.channel(0).end(), out.channel(c).begin());
    });
  if (channels != 2)
    throw ChainError(fmt::format("map {} takes {}, the audio has {} channel{}", map,
                                 map == "stereo" ? "1 channel" : "2 channels", channels, channels == 1 ? "" : "s"));
  if (map == "swap") return pair_map(std::move(in), {{0, 1}, {1, 0}});
  if (map == "left") return pair_map(std::move(in), {{1, 0}});
  if (map == "right") return pair_map(std::move(in), {{0, 1}});
  if (map == "mid_side") return pair_map(std::move(in), {{0.5, 0.5}, {0.5, -0.5}});
  if (map == "left_right") return pair_map(std::move(in), {{1, 1}, {1, -1}});
  const double w = v.number("width");
  if (map == "width") return pair_map(std::move(in), {{(1 + w) / 2, (1 - w) / 2}, {(1 - w) / 2, (1 + w) / 2}});
  return in;  // stereo that is stereo already
}

}  // namespace

std::vector<StageFamily> level_stages() {
  return {
      {{"gain", "Gain", "Louder or quieter.", {p::number("gain_db", "gain", "dB", -144, 60, 0)}},
       make_gain,
       [](const Values& v) {
         return fmt::format("{}{} dB", v.number("gain_db") > 0 ? "+" : "", plain(v.number("gain_db")));
       }},
      {{"delay",
        "Delay",
        "Later, or earlier with its start cut; fractions of a sample by band-limited interpolation.",
        {p::number("delay_samples", "delay", "samples", -10000000, 10000000, 0)}},
       make_delay,
       [](const Values& v) { return fmt::format("delay {}", plain(v.number("delay_samples"))); }},
      {{"polarity",
        "Polarity",
        "Turned over, all channels or one.",
        {p::choice("channels", "which channels", {"all", "first", "second"})}},
       make_polarity,
       [](const Values& v) { return std::string("polarity ") + v.text("channels"); }},
      {{"map",
        "Channel map",
        "Which channel goes where; to mid and side (halved sum and difference) and back.",
        {p::choice("map", "what becomes of the channels",
                   {"swap", "mono", "stereo", "left", "right", "mid_side", "left_right", "width"}),
         p::only(p::number("width", "side against mid, for map width", "", 0, 4, 1), "map", {"width"})}},
       make_map,
       [](const Values& v) {
         std::string map = v.text("map");
         for (char& c : map) c = c == '_' ? ' ' : c;
         return map == "width" ? "width " + plain(v.number("width")) : map;
       }},
  };
}

}  // namespace heathmist
