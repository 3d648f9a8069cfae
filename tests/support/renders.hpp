// What tests of engines' probes share: routes that a render takes, and how far a reading may be from the truth.
#pragma once
#include "core/probes/read.hpp"
#include "tests/support/mixer.hpp"
#include "tests/support/stages.hpp"

/// `label`: a QString of the surroundings that says which case it is.
#define NEAR(what, got, truth, by)                        \
  QVERIFY2(std::abs(double(got) - double(truth)) <= (by), \
           qPrintable(label + " " + said(what, double(got), double(truth))))

namespace heathmist::test {

inline QString said(const char* what, double got, double truth) {
  return QString("%1: %2, truth %3").arg(what).arg(got, 0, 'g', 8).arg(truth, 0, 'g', 8);
}

inline double decibels(double gain) { return 20 * std::log10(std::max(std::abs(gain), 1e-12)); }

/// Where the render goes on its way back, and what of times and gains is left to tell.
struct Route {
  const char* name;
  std::vector<Json> stages;
  double noise = 0;
  double time_ms = 0.05, gain_db = 0.05;
};

inline std::vector<Route> routes() {
  return {{"as it is", {}},
          {"16 bit", {{{"type", "word_length"}, {"bits", 16}, {"dither", "triangular"}}}},
          {"44.1 kHz", {{{"type", "converter"}, {"rate_hz", 44100}}}, 0, 0.1},
          {"other sound", {}, 0.0003, 0.1},
          {"MP3 320", {{{"type", "codec"}, {"codec", "mp3"}, {"bit_rate_kbps", 320}}}, 0, 0.5, 0.1}};
}

class RenderTest : public StageTest {
 public:
  RenderTest() {
    qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str()));
    qputenv("XDG_CONFIG_HOME", QByteArray((folder_ / "config").c_str()));
  }

 protected:
  std::shared_ptr<const Clip> sound(const Planar& planar, int rate) { return clip(planar, rate); }
  /// A render as it comes back by a route.
  std::shared_ptr<const Clip> returned(Planar render, int rate, const Route& route) {
    if (route.noise > 0) render = with_noise(std::move(render), route.noise, 5);
    auto came = sound(render, rate);
    if (route.stages.empty()) return came;
    return pass(came, chain_from_json({{"stages", Json(route.stages)}})).ret;
  }
};

}  // namespace heathmist::test
