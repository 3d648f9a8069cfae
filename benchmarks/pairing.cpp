#include "benchmarks/pairing.hpp"

#include <chrono>

#include "core/delivery/pairing.hpp"
#include "core/dsp/noise.hpp"

namespace heathmist::bench {

namespace {

constexpr int files = 200, masters_alone = 40, strangers = 20;
constexpr double minutes = 4;

double seconds_of(const auto& work) {
  const auto from = std::chrono::steady_clock::now();
  work();
  return std::chrono::duration<double>(std::chrono::steady_clock::now() - from).count();
}

uint32_t flips(dsp::Noise& chance, double share) {
  uint32_t bits = 0;
  for (int b = 0; b < 32; ++b)
    if (chance.uniform() < share) bits |= uint32_t(1) << b;
  return bits;
}

/// As music has them: a word is much like the one before.
AcousticPrint print_by_chance(dsp::Noise& chance) {
  AcousticPrint print;
  uint32_t word = uint32_t(chance.bits());
  for (int n = 0; n < int(minutes * 60 / AcousticPrint::hop_s); ++n) print.words.push_back(word ^= flips(chance, 0.12));
  return print;
}

/// Later by up to 20 s, with as many bits changed as a coder at 64 kbit/s changes.
AcousticPrint came_back(const AcousticPrint& master, dsp::Noise& chance) {
  AcousticPrint print;
  print.words.assign(size_t(chance.uniform() * 20 / AcousticPrint::hop_s), 0);
  for (const uint32_t word : master.words) print.words.push_back(word ^ flips(chance, 0.12));
  return print;
}

}  // namespace

PairingCost pairing_cost(const std::filesystem::path& file) {
  PairingCost cost;
  const auto clip = Clip::open(file);
  const double part = minutes * 60 / clip->format().duration_s();
  acoustic_print(*clip);  // what is made ready once is no file's
  cost.print_s = part * seconds_of([&] { acoustic_print(*clip); });
  cost.read_s = part * seconds_of([&] {  // on all cores, as the print does
                  constexpr int64_t stretch = 1 << 18;
                  for_each_segment(
                      clip->format().frames / stretch + 1, {},
                      [&] {
                        return std::pair{clip->reader(), Planar()};
                      },
                      [&](auto& state, int64_t n) { state.first->read(n * stretch, stretch, state.second); });
                });
  dsp::Noise chance(5);
  std::vector<AcousticPrint> masters, returns;
  for (int n = 0; n < files; ++n) masters.push_back(print_by_chance(chance));
  for (int n = masters_alone; n < files; ++n) returns.push_back(came_back(masters[size_t(n)], chance));
  for (int n = 0; n < strangers; ++n) returns.push_back(print_by_chance(chance));
  Pairing found;
  cost.match_s = seconds_of([&] { found = pair_by_sound(masters, returns); });
  cost.wrong = files - masters_alone;
  for (const auto& pair : found.pairs) cost.wrong += pair.master == pair.ret + size_t(masters_alone) ? -1 : 1;
  return cost;
}

}  // namespace heathmist::bench
