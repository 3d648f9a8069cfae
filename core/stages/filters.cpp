// One band of EQ.
#include <fmt/format.h>

#include "core/dsp/biquad.hpp"
#include "core/stages/stage_context.hpp"

namespace heathmist {

namespace {

namespace p = parameter;
using dsp::Biquad;

AudioStreamPtr make_filter(AudioStreamPtr in, const Values& v, StageContext&) {
  const double rate = in->format().sample_rate_hz, hz = v.number("hz"), q = v.number("q"), db = v.number("gain_db");
  const std::string shape = v.text("shape");
  if (hz > 0.49 * rate)
    throw ChainError(fmt::format("hz is {}; at {} Hz it takes at most {}", plain(hz), plain(rate), plain(0.49 * rate)));
  const Biquad section = shape == "bell"         ? Biquad::bell(rate, hz, q, db)
                         : shape == "low_shelf"  ? Biquad::low_shelf(rate, hz, q, db)
                         : shape == "high_shelf" ? Biquad::high_shelf(rate, hz, q, db)
                         : shape == "low_pass"   ? Biquad::low_pass(rate, hz, q)
                         : shape == "high_pass"  ? Biquad::high_pass(rate, hz, q)
                                                 : Biquad::all_pass(rate, hz, q);
  std::vector<Biquad> sections(size_t(in->format().channels), section);
  return changed_flow(std::move(in), [sections](Planar& block) mutable {
    for (int c = 0; c < block.channels(); ++c)
      for (double& x : block.channel(c)) x = sections[size_t(c)].run(x);
  });
}

std::string words(const Values& v) {
  std::string shape = v.text("shape");
  for (char& c : shape) c = c == '_' ? ' ' : c;
  const bool level = shape == "bell" || shape.ends_with("shelf");
  return fmt::format(
      "{} {} Hz{}", shape, plain(v.number("hz")),
      level ? fmt::format(" {}{} dB", v.number("gain_db") > 0 ? "+" : "", plain(v.number("gain_db"))) : std::string());
}

}  // namespace

std::vector<StageFamily> filter_stages() {
  return {
      {{"filter",
        "Filter",
        "One section of EQ, 12 dB an octave (W3C Audio EQ Cookbook, R. Bristow-Johnson).",
        {p::choice("shape", "what it does", {"bell", "low_shelf", "high_shelf", "high_pass", "low_pass", "all_pass"}),
         p::number("hz", "centre or corner frequency", "Hz", 5, 180000, 1000),
         p::only(p::number("gain_db", "gain of bell and shelves", "dB", -48, 48, 0), "shape",
                 {"bell", "low_shelf", "high_shelf"}),
         p::number("q", "Q; 0.7071 is a Butterworth corner", "", 0.1, 40, 0.7071)}},
       make_filter,
       words}};
}

}  // namespace heathmist
