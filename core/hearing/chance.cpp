#include "core/hearing/chance.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <boost/math/special_functions/beta.hpp>
#include <cmath>
#include <stdexcept>

namespace heathmist {

namespace {

constexpr double beyond = 0.025;  // on either side of an interval of 95 %

/// P(X >= right): the incomplete beta function (NIST DLMF 8.17.5).
double at_least(int right, int of, double chance) {
  if (right <= 0) return 1;
  return right > of ? 0 : boost::math::ibeta(right, of - right + 1, chance);
}

double lower_end(int right, int of) { return right == 0 ? 0 : boost::math::ibeta_inv(right, of - right + 1, beyond); }
double upper_end(int right, int of) {
  return right == of ? 1 : boost::math::ibeta_inv(right + 1, of - right, 1 - beyond);
}

void check_answers(int right, int of, int choices) {
  if (of < 1 || of > most_answers)
    throw std::invalid_argument(fmt::format("there are 1 to {} answers, not {}", most_answers, of));
  if (right < 0 || right > of) throw std::invalid_argument(fmt::format("{} of {} can't be right", right, of));
  if (choices < 2 || choices > 100)
    throw std::invalid_argument(fmt::format("an answer is one of 2 to 100 choices, not of {}", choices));
}

}  // namespace

std::string chance_words(double p) {
  if (p <= 0.25) return fmt::format("1 time in {:.0f}", 1 / p);
  const auto tenths = int(std::lround(10 * p));
  return tenths >= 10 ? "nearly always" : fmt::format("{} times in 10", tenths);
}

Verdict judge_answers(int right, int of, int choices) {
  check_answers(right, of, choices);
  Verdict v{right, of, choices};
  v.p_value = at_least(right, of, 1.0 / choices);
  v.share = double(right) / of;
  v.low = lower_end(right, of), v.high = upper_end(right, of);
  v.enough = of >= needed_answers(choices);
  v.sentence = fmt::format("{} of {}: by guessing {}", right, of, chance_words(v.p_value));
  if (!v.enough) v.sentence += fmt::format("; fewer than {} can't show anything", needed_answers(choices));
  return v;
}

Preference judge_preference(int first, int second) {
  const int of = first + second;
  check_answers(first, of, 2);
  Preference p{first, second};
  p.p_value = std::min(1.0, 2 * at_least(std::max(first, second), of, 0.5));
  p.share = double(first) / of;
  p.low = lower_end(first, of), p.high = upper_end(first, of);
  return p;
}

int needed_right(int of, int choices, double level) {
  int low = 0, high = of + 1;  // the chance falls with the count
  while (low < high) {
    const int middle = (low + high) / 2;
    if (at_least(middle, of, 1.0 / choices) <= level)
      high = middle;
    else
      low = middle + 1;
  }
  return low;
}

int needed_answers(int choices, double level) {
  int of = 1;
  while (needed_right(of, choices, level) > of) ++of;
  return of;
}

double power_of(int of, double chance_of_right, int choices, double level) {
  return at_least(needed_right(of, choices, level), of, chance_of_right);
}

}  // namespace heathmist
