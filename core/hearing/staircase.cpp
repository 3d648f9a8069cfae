#include "core/hearing/staircase.hpp"

#include <algorithm>
#include <cmath>
#include <stdexcept>

namespace heathmist {

namespace {

void check(const StaircaseRule& rule) {
  if (rule.right_to_go_down < 1 || rule.right_to_go_down > 3)
    throw std::invalid_argument("a staircase goes down after 1, 2 or 3 right answers in a row");
  if (rule.rungs < 3 || rule.start >= rule.rungs) throw std::invalid_argument("a staircase has three rungs or more");
  if (rule.strides.empty() || *std::min_element(rule.strides.begin(), rule.strides.end()) == 0)
    throw std::invalid_argument("a staircase moves by one rung or more");
  if (rule.reversals < 2 || rule.reversals % 2 != 0)
    throw std::invalid_argument("a staircase is done after an even number of reversals");
}

/// One listener on the stairs.
class Walk {
 public:
  explicit Walk(const StaircaseRule& rule) : rule_(rule), rung_(rule.start) { course_.rungs.push_back(rung_); }
  void answer(bool right) {
    ++answers_;
    if (right && ++in_a_row_ < rule_.right_to_go_down) return stay();
    in_a_row_ = 0;
    step(right ? 1 : -1);
  }
  bool done() const { return course_.done; }
  StaircaseCourse end() {
    if (course_.done) settle();
    return std::move(course_);
  }

 private:
  void stay() {
    course_.rungs.push_back(rung_);
    course_.done = answers_ >= rule_.most_answers;
  }
  void step(int direction) {
    if (direction_ != 0 && direction != direction_) turn();
    direction_ = direction;
    const size_t stride = rule_.strides[std::min(turns_ / 2, rule_.strides.size() - 1)];
    const size_t before = rung_;
    rung_ = direction > 0 ? std::min(rule_.rungs - 1, rung_ + stride) : rung_ - std::min(rung_, stride);
    against_end_ = rung_ == before ? against_end_ + 1 : 0;
    stay();
    if (against_end_ >= most_against_end) counted_.assign(1, rung_), course_.done = true;
    course_.done = course_.done || counted_.size() >= size_t(rule_.reversals);
  }
  void turn() {
    if (turns_ >= 2 * (rule_.strides.size() - 1)) counted_.push_back(rung_);
    ++turns_;
    course_.reversals.push_back(answers_ - 1);
  }
  void settle() {
    if (counted_.empty()) counted_.push_back(rung_);
    double sum = 0, squares = 0;
    for (const size_t r : counted_) sum += double(r);
    const double mean = sum / double(counted_.size());
    for (const size_t r : counted_) squares += (double(r) - mean) * (double(r) - mean);
    course_.rung = mean;
    course_.spread = counted_.size() > 1 ? std::sqrt(squares / double(counted_.size() - 1)) : 0;
    const auto most_at = [&](size_t rung) {
      return 2 * size_t(std::count(counted_.begin(), counted_.end(), rung)) >= counted_.size();
    };
    course_.at_easy_end = most_at(0), course_.at_hard_end = most_at(rule_.rungs - 1);
  }

  static constexpr int most_against_end = 4;  // steps that would lead off the stairs, one after the other
  const StaircaseRule& rule_;
  size_t rung_, answers_ = 0, turns_ = 0;
  int in_a_row_ = 0, direction_ = 0, against_end_ = 0;
  std::vector<size_t> counted_;
  StaircaseCourse course_;
};

}  // namespace

double target_share(const StaircaseRule& rule) { return std::pow(0.5, 1.0 / rule.right_to_go_down); }

StaircaseCourse staircase(const StaircaseRule& rule, const std::vector<bool>& right) {
  check(rule);
  Walk walk(rule);
  for (size_t n = 0; n < right.size() && !walk.done(); ++n) walk.answer(right[n]);
  return walk.end();
}

double value_at(std::span<const double> values, double rung) {
  if (values.empty()) return 0;
  const double place = std::clamp(rung, 0.0, double(values.size() - 1));
  const auto at = std::min(size_t(place), values.size() - 1), next = std::min(at + 1, values.size() - 1);
  return values[at] + (place - double(at)) * (values[next] - values[at]);
}

}  // namespace heathmist
