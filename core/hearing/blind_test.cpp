#include "core/hearing/blind_test.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <boost/math/distributions/students_t.hpp>
#include <cmath>

namespace heathmist {

namespace {

uint64_t seed_in(const std::string& key) {
  try {
    return std::stoull(json_from(key).at("seed").get<std::string>(), nullptr, 16);
  } catch (const std::exception&) {
    throw SealError("its answer key can't be read; its result can't be trusted");
  }
}

double rung_value(const BlindTest& test, size_t rung) { return test.stimuli[rung + 1].value.value_or(double(rung)); }

/// All rounds so far, and the one that is next.
struct Course {
  std::vector<BlindRound> played;
  std::vector<bool> right;  ///< of those that count; where the answer is yes or no, without catches
  StaircaseCourse stairs;
  Round next;
};

Course course_of(const BlindTest& test) {
  const uint64_t seed = seed_in(unseal(test.key));
  const bool stairs = test.design.method == BlindMethod::threshold;
  Course c;
  if (stairs) c.stairs = staircase(test.design.rule, {});
  const auto next = [&] {
    return round_of(test.design, seed, int(c.played.size()), stairs ? c.stairs.rungs.back() : 0);
  };
  int right = 0;
  for (const BlindAnswer& a : test.answers) {
    BlindRound p{next(), a};
    if (stairs) p.value = rung_value(test, c.stairs.rungs.back());
    if (a.void_why.empty()) {
      const bool is_right = p.round.truth >= 0 && a.button == p.round.truth;
      if (p.round.truth >= 0) p.right = is_right;
      if (!stairs || !p.round.is_catch) c.right.push_back(is_right), right += is_right;
      if (choices_of(test.design) > 0) p.share_so_far = double(right) / double(c.right.size());
      if (stairs) c.stairs = staircase(test.design.rule, c.right);
    }
    c.played.push_back(std::move(p));
  }
  c.next = next();
  return c;
}

bool is_ended(const BlindTest& test, const Course& course) {
  if (test.design.method == BlindMethod::threshold) return course.stairs.done;
  return counted(test) >= test.design.rounds;
}

GradeMean mean_of(const std::vector<double>& grades) {
  GradeMean m{int(grades.size())};
  if (grades.empty()) return m;
  for (const double g : grades) m.mean += g / double(grades.size());
  m.low = m.high = m.mean;
  if (grades.size() < 2) return m;
  double squares = 0;
  for (const double g : grades) squares += (g - m.mean) * (g - m.mean);
  const double n = double(grades.size());
  const double reach = boost::math::quantile(boost::math::students_t(n - 1), 0.975) * std::sqrt(squares / (n - 1) / n);
  m.low = m.mean - reach, m.high = m.mean + reach;
  return m;
}

/// The grades of each stimulus, by what stood behind the buttons.
std::vector<std::vector<double>> grades_by_stimulus(const BlindTest& test, const Course& course) {
  std::vector<std::vector<double>> grades(test.stimuli.size());
  for (const BlindRound& p : course.played)
    for (size_t n = 0; n < grades.size(); ++n)
      if (const auto grade = grade_of(test, p, n)) grades[n].push_back(*grade);
  return grades;
}

void judge_triple(const BlindTest& test, const Course& course, BlindResult& r) {
  const auto grades = grades_by_stimulus(test, course);
  std::vector<double> less;
  int below = 0;
  for (size_t n = 0; n < grades[0].size(); ++n)
    less.push_back(grades[1][n] - grades[0][n]), below += grades[1][n] < grades[0][n];
  r.grades = {mean_of(less)};
  r.verdict = judge_answers(below, int(less.size()), 2);
  r.sentence = fmt::format("Graded {:+.2f} against the hidden reference ({:.2f} to {:.2f}); told from it in {}.",
                           r.grades[0].mean, r.grades[0].low, r.grades[0].high, r.verdict->sentence);
}

void judge_multi(const BlindTest& test, const Course& course, BlindResult& r) {
  const auto grades = grades_by_stimulus(test, course);
  for (const auto& g : grades) r.grades.push_back(mean_of(g));
  const auto kept = std::count_if(grades[0].begin(), grades[0].end(), [](double g) { return g >= 90; });
  r.reference_kept = double(kept) / double(std::max<size_t>(1, grades[0].size()));
  size_t worst = 1;
  for (size_t n = 1; n < grades.size(); ++n)
    if (!test.stimuli[n].trial.empty() &&
        (test.stimuli[worst].trial.empty() || r.grades[n].mean < r.grades[worst].mean))
      worst = n;
  r.sentence = r.reference_kept < 0.85
                   ? fmt::format(
                         "The hidden reference was graded under 90 in {:.0f} % of the rounds: by ITU-R "
                         "BS.1534 these grades do not count.",
                         100 * (1 - r.reference_kept))
                   : fmt::format("{} was graded {:.0f} of 100 ({:.0f} to {:.0f}), the hidden reference {:.0f}.",
                                 test.stimuli[worst].name, r.grades[worst].mean, r.grades[worst].low,
                                 r.grades[worst].high, r.grades[0].mean);
}

void judge_preferred(const BlindTest& test, const Course& course, BlindResult& r) {
  int reference = 0, other = 0;
  for (const BlindRound& p : course.played) {
    if (!p.given.void_why.empty()) continue;
    if (p.round.is_catch) {
      ++r.catches, r.caught += p.given.button >= 0;
    } else if (p.given.button < 0) {
      ++r.no_preference;
    } else {
      ++(p.round.buttons[size_t(p.given.button)] == 0 ? reference : other);
    }
  }
  const std::string catches =
      r.catches > 0 ? fmt::format(" Where both were the same, one was preferred in {} of {}.", r.caught, r.catches)
                    : "";
  if (reference + other == 0) {
    r.sentence = "No preference was given." + catches;
    return;
  }
  r.preference = judge_preference(reference, other);
  r.sentence = fmt::format("{} was preferred in {} of {}: as uneven by chance {}.{}",
                           test.stimuli[reference >= other ? 0 : 1].name, std::max(reference, other), reference + other,
                           chance_words(r.preference->p_value), catches);
}

/// Who hears a difference where there is none says yes too easily.
void judge_catches(const Course& course, BlindResult& r) {
  for (const BlindRound& p : course.played)
    if (p.round.is_catch && p.right) ++r.catches, r.caught += !*p.right;
  if (r.catches == 0) return;
  r.sentence += fmt::format(" Where both were the same, a difference was heard in {} of {}{}", r.caught, r.catches,
                            3 * r.caught > r.catches ? ": this threshold can't be trusted." : ".");
}

void judge_threshold(const BlindTest& test, const Course& course, BlindResult& r) {
  r.course = course.stairs;
  const auto right = int(std::count(course.right.begin(), course.right.end(), true));
  if (choices_of(test.design) > 0) r.verdict = judge_answers(right, int(course.right.size()), choices_of(test.design));
  std::vector<double> values;
  for (size_t n = 0; n + 1 < test.stimuli.size(); ++n) values.push_back(rung_value(test, n));
  r.threshold = value_at(values, *r.course.rung);
  r.threshold_spread = 0.5 * std::abs(value_at(values, *r.course.rung + r.course.spread) -
                                      value_at(values, *r.course.rung - r.course.spread));
  const double share = 100 * target_share(test.design.rule);
  if (r.course.at_easy_end)
    r.sentence = fmt::format("Even {:g} {} was not heard often enough.", values.front(), test.unit);
  else if (r.course.at_hard_end)
    r.sentence =
        fmt::format("Down to {:g} {} it was heard every time; the threshold lies beyond.", values.back(), test.unit);
  else
    r.sentence = fmt::format("{} {:.3g} % of the time at {:.3g} {} (spread {:.2g}).",
                             asks_yes_or_no(test.design) ? "Heard" : "Told apart", share, *r.threshold, test.unit,
                             *r.threshold_spread);
  judge_catches(course, r);
}

}  // namespace

BlindTest begin_blind_test(const BlindDesign& design, std::vector<BlindStimulus> stimuli, const std::string& chance) {
  BlindTest test;
  test.design = design;
  test.design.stimuli = int(stimuli.size());
  if (design.ladder) test.unit = unit_of(*design.ladder);
  if (chance.size() != 48) throw std::invalid_argument("48 hexadecimal digits are the chance of a blind test");
  check_design(test.design);
  Json names = Json::array();
  for (const BlindStimulus& s : stimuli) names.push_back(s.name);
  const Json key{{"method", name_of(design.method)},
                 {"stimuli", names},
                 {"seed", chance.substr(0, 16)},
                 {"salt", chance.substr(16)}};
  test.key = seal(text_of(key, -1));
  test.stimuli = std::move(stimuli);
  return test;
}

void check_answer(const BlindDesign& design, const BlindAnswer& given) {
  const int open = open_buttons(design.method), all = int(round_of(design, 0, 0).buttons.size());
  const auto refuse = [](const char* sentence) { throw std::invalid_argument(sentence); };
  const auto graded = [&](double low, double high) {
    if (int(given.grades.size()) != all - open) refuse("every button but the open reference is graded");
    for (const double g : given.grades)
      if (!(g >= low && g <= high)) refuse("a grade lies on its scale");
  };
  switch (design.method) {
    case BlindMethod::abx:
      if (given.button != 0 && given.button != 1) refuse("X is A or B");
      break;
    case BlindMethod::threshold:
      if (asks_yes_or_no(design)) {
        if (given.button != 0 && given.button != 1) refuse("there is a difference, or there is none");
      } else if (given.button != 1 && given.button != 2) {
        refuse("one of the two is not the reference");
      }
      break;
    case BlindMethod::preference:
      if (given.button < -1 || given.button > 1) refuse("the first is better, the second, or neither");
      break;
    case BlindMethod::triple:
      graded(1, 5);
      if (*std::max_element(given.grades.begin(), given.grades.end()) < 5)
        refuse("one of the two is the reference again: one is graded 5.0");
      break;
    case BlindMethod::multi:
      graded(0, 100);
      break;
  }
}

int counted(const BlindTest& test) {
  return int(
      std::count_if(test.answers.begin(), test.answers.end(), [](const BlindAnswer& a) { return a.void_why.empty(); }));
}

bool is_ended(const BlindTest& test) { return is_ended(test, course_of(test)); }

Round next_round(const BlindTest& test) { return course_of(test).next; }

void answer(BlindTest& test, BlindAnswer given) {
  const Course course = course_of(test);
  if (is_ended(test, course)) throw std::invalid_argument("it is ended");
  check_answer(test.design, given);
  given.void_why.clear();
  test.answers.push_back(std::move(given));
}

void make_void(BlindTest& test, const std::string& why, int64_t at_ms) {
  BlindAnswer given;
  given.at_ms = at_ms, given.void_why = why.empty() ? "it was not heard to its end" : why;
  test.answers.push_back(std::move(given));
}

bool take_back(BlindTest& test, int64_t now_ms) {
  if (test.answers.empty() || !test.answers.back().void_why.empty()) return false;
  const int64_t ago = now_ms - test.answers.back().at_ms;
  if (ago < 0 || ago > take_back_ms) return false;
  test.answers.pop_back();
  return true;
}

BlindResult result_of(const BlindTest& test) {
  const Course course = course_of(test);
  if (!is_ended(test, course)) throw std::invalid_argument("it is not ended: its key stays sealed");
  BlindResult r;
  r.key = unseal(test.key);
  r.voids = int(test.answers.size()) - counted(test);
  switch (test.design.method) {
    case BlindMethod::abx:
      r.verdict = judge_answers(int(std::count(course.right.begin(), course.right.end(), true)), counted(test), 2);
      r.sentence = r.verdict->sentence + ".";
      break;
    case BlindMethod::triple:
      judge_triple(test, course, r);
      break;
    case BlindMethod::multi:
      judge_multi(test, course, r);
      break;
    case BlindMethod::preference:
      judge_preferred(test, course, r);
      break;
    case BlindMethod::threshold:
      judge_threshold(test, course, r);
      break;
  }
  return r;
}

std::vector<BlindRound> blind_rounds(const BlindTest& test) {
  Course course = course_of(test);
  if (!is_ended(test, course)) throw std::invalid_argument("it is not ended: its key stays sealed");
  return std::move(course.played);
}

std::optional<double> grade_of(const BlindTest& test, const BlindRound& round, size_t stimulus) {
  const auto open = size_t(open_buttons(test.design.method));
  for (size_t b = open; b < round.round.buttons.size() && b - open < round.given.grades.size(); ++b)
    if (size_t(round.round.buttons[b]) == stimulus && round.given.void_why.empty()) return round.given.grades[b - open];
  return {};
}

std::vector<Json> blind_log(const BlindTest& test) {
  std::vector<Json> rows;
  for (const BlindRound& p : blind_rounds(test)) {
    Json row{{"round", rows.size() + 1}, {"at_ms", p.given.at_ms}, {"took_s", p.given.took_s}};
    for (size_t b = 0; b < p.round.buttons.size(); ++b)
      row[fmt::format("button_{}", b + 1)] = test.stimuli[size_t(p.round.buttons[b])].name;
    row["answer"] = p.given.button >= 0 ? Json(p.given.button + 1) : Json(nullptr);
    row["right"] = p.right ? Json(*p.right) : Json(nullptr);
    if (p.value) row["value"] = *p.value, row["unit"] = test.unit;
    row["grades"] = p.given.grades;
    row["void"] = p.given.void_why;
    rows.push_back(std::move(row));
  }
  return rows;
}

}  // namespace heathmist
