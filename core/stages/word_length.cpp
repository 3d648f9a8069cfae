// Cutting the word length: rounding or truncation, dither, noise shaping.
#include <fmt/format.h>

#include <cmath>
#include <map>

#include "core/dsp/noise.hpp"
#include "core/stages/stage_context.hpp"

namespace heathmist {

namespace {

namespace p = parameter;
using dsp::Noise;

/// Error feedback: the error of the k-th sample before is taken away with weight c[k]; the noise is shaped by
/// 1 - sum c[k] z^-k. The psychoacoustic ones are made for 44.1 kHz.
const std::map<std::string, std::vector<double>>& shapings() {
  static const std::map<std::string, std::vector<double>> all{
      {"none", {}},
      {"first_order", {1}},
      {"second_order", {2, -1}},
      // Lipshitz, Vanderkooy, Wannamaker: Minimally audible noise shaping. J. Audio Eng. Soc. 39 (1991) 836-852
      {"lipshitz_5", {2.033, -2.165, 1.959, -1.590, 0.6149}},
      // Wannamaker: Psychoacoustically optimal noise shaping. J. Audio Eng. Soc. 40 (1992) 611-620: F-weighted
      {"wannamaker_3", {1.623, -0.982, 0.109}},
      {"wannamaker_9", {2.412, -3.370, 3.937, -4.174, 3.353, -2.205, 1.281, -0.569, 0.0847}},
      // Lipshitz and others, as above: improved E-weighted, nine taps
      {"lipshitz_9", {2.847, -4.685, 6.214, -7.184, 6.639, -5.032, 3.263, -1.632, 0.4191}},
  };
  return all;
}

/// Dither of one channel, in steps. `amplitude` 1: rectangular of one step, triangular of two, Gaussian of half a step
/// RMS, as Lipshitz, Wannamaker and Vanderkooy: Quantization and dither, J. Audio Eng. Soc. 40 (1992) 355-375.
class Ditherer {
 public:
  Ditherer(const std::string& kind, double amplitude, uint64_t seed)
      : kind_(kind), amplitude_(amplitude), chance_(seed) {}
  double next() {
    if (kind_ == "none") return 0;
    if (kind_ == "rectangular") return amplitude_ * chance_.between(-0.5, 0.5);
    if (kind_ == "triangular") return amplitude_ * chance_.triangular();
    if (kind_ == "gaussian") return amplitude_ * 0.5 * chance_.gaussian();
    const double now = chance_.between(-0.5, 0.5);  // triangular_high: differences of rectangular values
    return amplitude_ * (now - std::exchange(last_, now));
  }

 private:
  std::string kind_;
  double amplitude_;
  Noise chance_;
  double last_ = 0;
};

/// One channel's way to fewer bits.
class Quantiser {
 public:
  Quantiser(int bits, bool truncate, Ditherer ditherer, std::vector<double> shaping)
      : steps_(std::ldexp(1.0, bits - 1)),
        truncate_(truncate),
        ditherer_(std::move(ditherer)),
        shaping_(std::move(shaping)),
        errors_(shaping_.size(), 0.0) {}
  double run(double x) {
    double wanted = x * steps_;
    for (size_t k = 0; k < shaping_.size(); ++k) wanted -= shaping_[k] * errors_[(place_ + k) % errors_.size()];
    const double dithered = wanted + ditherer_.next();
    const double level = truncate_ ? std::floor(dithered) : std::floor(dithered + 0.5);
    if (!errors_.empty()) {
      place_ = (place_ + errors_.size() - 1) % errors_.size();
      errors_[place_] = std::clamp(level - wanted, -4.0, 4.0);  // clipping must not make the feedback run away
    }
    return std::clamp(level, -steps_, steps_ - 1) / steps_;
  }

 private:
  double steps_;
  bool truncate_;
  Ditherer ditherer_;
  std::vector<double> shaping_, errors_;  // newest error at place_
  size_t place_ = 0;
};

class WordFlow : public AudioStream {
 public:
  WordFlow(AudioStreamPtr in, int bits, std::vector<Quantiser> quantisers)
      : AudioStream(in->format()), in_(std::move(in)), quantisers_(std::move(quantisers)) {
    format_ = reals_like(format_);
    format_.sample_format = SampleFormat::integer;
    format_.container_bits = bits <= 16 ? 16 : bits <= 24 ? 24 : 32;
    format_.bit_rate_bps = int64_t(*format_.container_bits) * format_.channels * format_.sample_rate_hz;
  }
  void next(int64_t frames, Planar& out) override {
    in_->next(frames, out);
    for (int c = 0; c < out.channels(); ++c)
      for (double& x : out.channel(c)) x = quantisers_[size_t(c)].run(x);
  }

 private:
  AudioStreamPtr in_;
  std::vector<Quantiser> quantisers_;
};

AudioStreamPtr make(AudioStreamPtr in, const Values& v, StageContext&) {
  std::vector<Quantiser> quantisers;
  for (int c = 0; c < in->format().channels; ++c)
    quantisers.emplace_back(
        v.whole("bits"), v.text("rounding") == "truncate",
        Ditherer(v.text("dither"), v.number("amplitude"), uint64_t(v.whole("seed")) * 1000 + uint64_t(c)),
        shapings().at(v.text("shaping")));
  return std::make_unique<WordFlow>(std::move(in), v.whole("bits"), std::move(quantisers));
}

std::string words(const Values& v) {
  static const std::map<std::string, std::string> dithers{{"none", "no dither"},
                                                          {"rectangular", "RPDF"},
                                                          {"triangular", "TPDF"},
                                                          {"triangular_high", "high-passed TPDF"},
                                                          {"gaussian", "Gaussian"}};
  return fmt::format("{} bit {}{}{}", v.whole("bits"), v.text("rounding") == "truncate" ? "truncated, " : "",
                     dithers.at(v.text("dither")), v.text("shaping") == "none" ? "" : " shaped");
}

}  // namespace

std::vector<StageFamily> word_length_stages() {
  return {
      {{"word_length",
        "Word length",
        "Fewer bits: rounded or truncated, with dither and noise shaping. What lies beyond full scale is clipped.",
        {p::whole("bits", "word length", "bit", 4, 32, 16),
         p::choice("rounding", "to the nearest step, or down", {"round", "truncate"}),
         p::choice("dither", "noise added before",
                   {"triangular", "none", "rectangular", "triangular_high", "gaussian"}),
         p::number("amplitude", "of the dither; 1 is what theory asks for", "", 0, 4, 1),
         p::choice("shaping", "spectrum of the error; the weighted ones are made for 44.1 kHz",
                   {"none", "first_order", "second_order", "wannamaker_3", "lipshitz_5", "lipshitz_9", "wannamaker_9"}),
         p::whole("seed", "the same seed gives the same dither", "", 0, 1000000, 1)}},
       make,
       words}};
}

}  // namespace heathmist
