// The stage `engine`: audio on its way through a stand-in, with its fader and its pan where they are put.
#include <fmt/format.h>

#include <algorithm>
#include <mutex>

#include "core/engines/engine_bus.hpp"
#include "core/stages/stage_context.hpp"

namespace heathmist {

namespace {

namespace p = parameter;

/// A shipped one: what a chain made is kept by its words, and a file of the user's may change.
const Engine& engine_of(const std::string& key) {
  for (const Engine& e : shipped_engines())
    if (e.key == key) return e;
  throw ChainError(fmt::format("there is no engine '{}'", key));
}

/// Pan, fader and bus, and the level it leaves at, sample by sample, in the order of perform(); one channel stays one.
std::function<void(Planar&)> mixing(const Engine& e, double fader, double position, int channels) {
  const MixMatrix m = pan_matrix(e, position, channels);
  std::vector<EngineBus> buses;
  for (int c = 0; c < channels; ++c) buses.emplace_back(e, uint64_t(7 + c));
  return [=, leaving = std::pow(10, e.gain_db / 20) * (e.inverted ? -1 : 1), swapped = e.swapped,
          dc = e.dc](Planar& block) mutable {
    for (size_t n = 0; n < size_t(block.frames()); ++n) {
      double in[2] = {block.channel(0)[n], channels == 2 ? block.channel(1)[n] : 0};
      for (int o = 0; o < channels; ++o) {
        const double mixed = channels == 1 ? in[0] : m[0][size_t(o)] * in[0] + m[1][size_t(o)] * in[1];
        block.channel(swapped && channels == 2 ? 1 - o : o)[n] = buses[size_t(o)].carry(fader * mixed) * leaving + dc;
      }
    }
  };
}

AudioStreamPtr make(AudioStreamPtr in, const Values& v, StageContext& context) {
  const Engine& e = engine_of(v.text("engine"));
  const int channels = in->format().channels;
  if (channels > 2) throw ChainError(fmt::format("an engine takes one channel or two, not {}", channels));
  if (e.rate_hz > 0 && e.rate_hz != in->format().sample_rate_hz)
    in = run_stage({"converter", {{"rate_hz", e.rate_hz}, {"by", e.converter}}}, std::move(in), context);
  in = changed_flow(std::move(in), mixing(e, v.gain("fader_db"), v.number("position"), channels));
  if (e.latency_samples > 0) in = run_stage({"delay", {{"delay_samples", e.latency_samples}}}, std::move(in), context);
  return in;
}

std::string words(const Values& v) {
  std::string text = "engine " + engine_of(v.text("engine")).name;
  if (v.number("fader_db") != 0) text += fmt::format(", {} dB", plain(v.number("fader_db")));
  if (v.number("position") != 0) text += fmt::format(", pan {}", plain(v.number("position")));
  return text;
}

std::vector<StageFamily> engine_stages() {
  std::vector<std::string> keys;
  for (const Engine& e : shipped_engines()) keys.push_back(e.key);
  return {{{"engine",
            "Engine",
            "Through a stand-in engine: its rate, its bus, its latency, its fader and its pan.",
            {p::choice("engine", "which", keys), p::number("fader_db", "its fader", "dB", -100, 12, 0),
             p::number("position", "its pan: -100 hard left, 100 hard right", "", -100, 100, 0)}},
           make,
           words}};
}

}  // namespace

void offer_engine_stage() {
  static std::once_flag once;
  std::call_once(once, [] { offer_stages(engine_stages); });
}

}  // namespace heathmist
