#include "core/hearing/design.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <numeric>
#include <stdexcept>

#include "core/dsp/noise.hpp"

namespace heathmist {

namespace {

constexpr std::array names{"abx", "triple", "multi", "preference", "threshold"};
constexpr std::array ladder_names{"lift", "level", "word_length", "bit_rate", "fold"};
constexpr int most_rounds = 1000, most_stimuli = 12;

/// Each order equally likely (Fisher and Yates 1938).
void shuffle(std::vector<int>& order, size_t from, dsp::Noise& chance) {
  for (size_t n = order.size(); n > from + 1; --n)
    std::swap(order[n - 1], order[from + size_t(chance.uniform() * double(n - from))]);
}

/// Rounds of one seed have nothing to do with one another.
dsp::Noise chance_of(uint64_t seed, int round) {
  return dsp::Noise(seed ^ (0x9e3779b97f4a7c15ULL * uint64_t(round + 1)));
}

}  // namespace

const char* name_of(BlindMethod method) { return names[size_t(method)]; }

const char* title_of(BlindMethod method) {
  static constexpr const char* titles[] = {"ABX", "Triple stimulus, hidden reference", "Several graded at once",
                                           "Preference", "Threshold"};
  return titles[size_t(method)];
}

BlindMethod blind_method(const std::string& name) {
  for (size_t n = 0; n < names.size(); ++n)
    if (name == names[n]) return BlindMethod(n);
  throw std::invalid_argument(
      fmt::format("'{}' is no method of blind listening; there are {}", name, fmt::join(names, ", ")));
}

const char* name_of(LadderOf of) { return ladder_names[size_t(of)]; }

LadderOf ladder_of(const std::string& name) {
  for (size_t n = 0; n < ladder_names.size(); ++n)
    if (name == ladder_names[n]) return LadderOf(n);
  throw std::invalid_argument(
      fmt::format("'{}' is no ladder of a threshold; there are {}", name, fmt::join(ladder_names, ", ")));
}

std::string unit_of(const LadderDesign& design) {
  switch (design.of) {
    case LadderOf::lift:
      return "dB of lift";
    case LadderOf::level:
      return "dB of level";
    case LadderOf::word_length:
      return "bits";
    case LadderOf::bit_rate:
      return "kbit/s";
    case LadderOf::fold:
      return "dB of fold";
  }
  return {};
}

bool asks_yes_or_no(const BlindDesign& d) { return d.method == BlindMethod::threshold && d.rule.right_to_go_down == 1; }

void check_design(const BlindDesign& d) {
  const auto refuse = [](const std::string& sentence) { throw std::invalid_argument(sentence); };
  if (d.rounds < 1 || d.rounds > most_rounds)
    refuse(fmt::format("there are 1 to {} rounds, not {}", most_rounds, d.rounds));
  if (!(d.catches >= 0 && d.catches <= 1)) refuse("the share of catches is 0 to 1");
  if (d.catches > 0 && d.method != BlindMethod::preference && !asks_yes_or_no(d))
    refuse("catches are among preferences, and where the question is yes or no");
  if (d.catches >= 1 && asks_yes_or_no(d)) refuse("a staircase is not gone down by catches alone");
  switch (d.method) {
    case BlindMethod::abx:
    case BlindMethod::triple:
    case BlindMethod::preference:
      if (d.stimuli != 2) refuse("two are compared with each other; choose one trial");
      break;
    case BlindMethod::multi:
      if (d.stimuli < 3 || d.stimuli > most_stimuli)
        refuse(fmt::format("3 to {} are graded at once with the anchors, not {}", most_stimuli, d.stimuli));
      break;
    case BlindMethod::threshold:
      if (size_t(d.stimuli) != d.rule.rungs + 1) refuse("a threshold has a stimulus for each rung");
      staircase(d.rule, {});
      break;
  }
}

int open_buttons(BlindMethod method) {
  return method == BlindMethod::triple || method == BlindMethod::multi || method == BlindMethod::threshold ? 1 : 0;
}

std::string button_name(BlindMethod method, int button) {
  const int open = open_buttons(method);
  if (button < open) return "Reference";
  return method == BlindMethod::abx && button == 2 ? "X" : std::string(1, char('A' + button - open));
}

int choices_of(const BlindDesign& d) {
  return d.method == BlindMethod::abx || (d.method == BlindMethod::threshold && !asks_yes_or_no(d)) ? 2 : 0;
}

Round round_of(const BlindDesign& d, uint64_t seed, int number, size_t rung) {
  dsp::Noise chance = chance_of(seed, number);
  Round r;
  switch (d.method) {
    case BlindMethod::abx:
    case BlindMethod::preference:
      r.buttons = {0, 1};
      shuffle(r.buttons, 0, chance);
      break;
    case BlindMethod::triple:
      r.buttons = {0, 0, 1};
      shuffle(r.buttons, 1, chance);
      break;
    case BlindMethod::multi:
      r.buttons.resize(size_t(d.stimuli) + 1);
      std::iota(r.buttons.begin() + 1, r.buttons.end(), 0);
      shuffle(r.buttons, 1, chance);
      break;
    case BlindMethod::threshold:
      if (asks_yes_or_no(d)) {
        r.is_catch = chance.uniform() < d.catches;
        r.truth = r.is_catch ? 0 : 1;
        r.buttons = {0, r.is_catch ? 0 : 1 + int(std::min(rung, d.rule.rungs - 1))};
        break;
      }
      r.buttons = {0, 0, 1 + int(std::min(rung, d.rule.rungs - 1))};
      shuffle(r.buttons, 1, chance);
      r.truth = r.buttons[1] == 0 ? 2 : 1;
      break;
  }
  if (d.method == BlindMethod::abx) {
    r.truth = int(chance.bits() >> 63);
    r.buttons.push_back(r.buttons[size_t(r.truth)]);
  }
  if (d.method == BlindMethod::preference && chance.uniform() < d.catches) {
    r.is_catch = true;
    r.buttons[1] = r.buttons[0];
  }
  return r;
}

}  // namespace heathmist
