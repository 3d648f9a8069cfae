// What so many right answers show: exact probabilities of guessing, and how sure the share is.
//
//   Verdict v = judge_answers(13, 16);   // v.p_value = 0.0106, v.sentence = "13 of 16: by guessing 1 time in 94"
#pragma once
#include <string>

namespace heathmist {

/// Of answers that are right or wrong, each of `choices` equally likely to a guesser.
struct Verdict {
  int right = 0, of = 0, choices = 2;
  double p_value = 1;        ///< at least so many by guessing (exact binomial, one-sided)
  double share = 0;          ///< right / of
  double low = 0, high = 1;  ///< 95 % interval of the share (Clopper and Pearson 1934)
  bool enough = false;       ///< all of them right would have had a chance of 5 % or less
  std::string sentence{};
};
/// Throws std::invalid_argument unless 0 <= right <= of, 1 <= of <= most_answers and 2 <= choices <= 100.
Verdict judge_answers(int right, int of, int choices = 2);
inline constexpr int most_answers = 100000;

/// Answers where none is right: as far from even, either way, by chance (exact binomial, two-sided).
struct Preference {
  int first = 0, second = 0;
  double p_value = 1;
  double share = 0, low = 0, high = 1;  ///< of the first, as above
};
Preference judge_preference(int first, int second);

/// "1 time in 94", "4 times in 10", "nearly always".
std::string chance_words(double p_value);

/// Fewest right answers of so many whose chance by guessing is `level` or less; over `of`: so few can't show it.
int needed_right(int of, int choices = 2, double level = 0.05);
/// Fewest answers that could show anything: all of them right.
int needed_answers(int choices = 2, double level = 0.05);
/// Chance that a listener who is right with this probability reaches needed_right().
double power_of(int of, double chance_of_right, int choices = 2, double level = 0.05);

}  // namespace heathmist
