// Blind listening: its statistics against sums worked out term by term, its order against what a guesser could know,
// its seal, and listeners whose hearing is known.
#include <QtTest>
#include <cmath>
#include <map>
#include <set>

#include "core/dsp/noise.hpp"
#include "core/hearing/blind_test.hpp"
#include "core/json_place.hpp"

using namespace heathmist;

namespace {

/// P(X >= right) term by term, from the smallest on; a term is the one before times a ratio.
long double tail(int right, int of, long double chance) {
  std::vector<long double> terms;
  long double term = std::pow(1 - chance, (long double)of);
  for (int k = 0; k <= of; ++k) {
    if (k >= right) terms.push_back(term);
    term *= chance / (1 - chance) * (of - k) / (k + 1);
  }
  long double sum = 0;
  std::sort(terms.begin(), terms.end());
  for (const long double t : terms) sum += t;
  return sum;
}

/// The chance at which a tail has a size, by halving.
long double chance_where(const std::function<long double(long double)>& of, long double size, bool rising) {
  long double low = 0, high = 1;
  for (int n = 0; n < 120; ++n) {
    const long double middle = (low + high) / 2;
    ((of(middle) < size) == rising ? low : high) = middle;
  }
  return (low + high) / 2;
}

BlindTest test_of(BlindMethod method, int rounds, int stimuli = 2) {
  BlindDesign design{method, stimuli, rounds};
  std::vector<BlindStimulus> heard;
  for (int n = 0; n < stimuli; ++n)
    heard.push_back({n == 0 ? "Mill Race" : "return " + std::to_string(n), n == 0 ? "" : "t" + std::to_string(n)});
  if (method == BlindMethod::threshold) {
    design.rule.rungs = size_t(stimuli - 1);
    for (size_t n = 1; n < heard.size(); ++n) heard[n].value = 30.0 - double(n);
  }
  return begin_blind_test(design, heard);
}

BlindTest yes_or_no() {
  BlindTest t = test_of(BlindMethod::threshold, 1, 31);
  BlindDesign design = t.design;
  design.rule.right_to_go_down = 1, design.catches = 0.25, design.ladder = LadderDesign{LadderOf::fold, {}, 16000};
  return begin_blind_test(design, t.stimuli);
}

QByteArray refusal(const std::function<void()>& doing) {
  try {
    doing();
  } catch (const std::exception& error) {
    return error.what();
  }
  return {};
}

/// Right so often where the difference lies at a rung: half by guessing, and more the greater it is.
double heard_at(double rung, double middle, double width) {
  return 0.5 + 0.5 / (1 + std::exp((rung - middle) / width));
}

}  // namespace

class TestHearing : public QObject {
  Q_OBJECT

 private slots:
  void chances_are_those_of_sums_term_by_term() {
    for (const int of : {1, 2, 5, 10, 16, 25, 40, 100, 1000})
      for (const int choices : {2, 3, 4, 10})
        for (int right = 0; right <= of; right += std::max(1, of / 17)) {
          const Verdict v = judge_answers(right, of, choices);
          const long double truth = tail(right, of, 1.0L / choices);
          QVERIFY2(std::abs(v.p_value - double(truth)) <= 1e-9 * std::max(double(truth), 1e-6),
                   qPrintable(QString("%1 of %2 by %3: %4, truth %5")
                                  .arg(right)
                                  .arg(of)
                                  .arg(choices)
                                  .arg(v.p_value)
                                  .arg(double(truth))));
        }
    QVERIFY(std::abs(judge_answers(13, 16).p_value - 697.0 / 65536) < 1e-15);
    QCOMPARE(judge_answers(13, 16).sentence, std::string("13 of 16: by guessing 1 time in 94"));
    QCOMPARE(judge_answers(8, 16).sentence, std::string("8 of 16: by guessing 6 times in 10"));
    QVERIFY(judge_answers(3, 3).sentence.starts_with("3 of 3: by guessing 1 time in 8;"));
    QCOMPARE(judge_answers(0, 16).p_value, 1.0);
    QCOMPARE(judge_answers(0, 16).sentence, std::string("0 of 16: by guessing nearly always"));
  }

  void intervals_end_where_tails_are_a_fortieth() {
    for (const int of : {1, 3, 16, 50, 300})
      for (int right = 0; right <= of; right += std::max(1, of / 13)) {
        const Verdict v = judge_answers(right, of);
        const auto over = [&](long double p) { return tail(right, of, p); };
        const auto under = [&](long double p) { return 1 - tail(right + 1, of, p); };
        const double low = right == 0 ? 0 : double(chance_where(over, 0.025L, true)),
                     high = right == of ? 1 : double(chance_where(under, 0.025L, false));
        QVERIFY2(std::abs(v.low - low) < 1e-9 && std::abs(v.high - high) < 1e-9,
                 qPrintable(QString("%1 of %2: %3 to %4, truth %5 to %6")
                                .arg(right)
                                .arg(of)
                                .arg(v.low)
                                .arg(v.high)
                                .arg(low)
                                .arg(high)));
      }
  }

  void what_is_needed_is_the_first_that_is_enough() {
    for (int of = 1; of <= 60; ++of) {
      const int needed = needed_right(of);
      QVERIFY(needed > of || tail(needed, of, 0.5L) <= 0.05L);
      QVERIFY(tail(needed - 1, of, 0.5L) > 0.05L);
      QCOMPARE(judge_answers(0, of).enough, of >= 5);  // 1 / 32
    }
    QCOMPARE(needed_answers(3), 3);
    QVERIFY(judge_answers(4, 4).sentence.find("fewer than 5 can't show anything") != std::string::npos);
    QVERIFY(std::abs(power_of(16, 0.5) - double(tail(12, 16, 0.5L))) < 1e-12);
    QVERIFY(power_of(16, 0.9) > 0.95);
    for (const auto& [right, of, choices] : {std::array{-1, 4, 2}, {5, 4, 2}, {0, 0, 2}, {1, 2, 1}})
      QVERIFY(!refusal([&] { judge_answers(right, of, choices); }).isEmpty());
    const Preference even = judge_preference(8, 8), uneven = judge_preference(2, 14);
    QCOMPARE(even.p_value, 1.0);
    QVERIFY(std::abs(uneven.p_value - 2 * double(tail(14, 16, 0.5L))) < 1e-15);
  }

  /// An exact test lets through no more than it says: those who hear nothing pass at its attained level.
  void those_who_cannot_hear_pass_as_seldom_as_is_said() {
    constexpr int listeners = 10000, rounds = 16;
    dsp::Noise chance(17);
    int passed = 0;
    for (int n = 0; n < listeners; ++n) {
      BlindDesign design{BlindMethod::abx, 2, rounds};
      int right = 0;
      const uint64_t seed = chance.bits();
      for (int round = 0; round < rounds; ++round)
        right += int(chance.bits() >> 63) == round_of(design, seed, round).truth;
      passed += judge_answers(right, rounds).p_value <= 0.05;
    }
    const double attained = double(tail(12, rounds, 0.5L));  // 3.84 %
    const double sigma = std::sqrt(attained * (1 - attained) / listeners);
    QVERIFY2(std::abs(double(passed) / listeners - attained) < 4 * sigma, qPrintable(QString::number(passed)));
    QVERIFY(passed <= listeners / 20);
  }

  /// Of listeners whose hearing spreads over one to three rungs, 10,000 each.
  void stairs_settle_where_they_say() {
    constexpr int listeners = 10000;
    dsp::Noise chance(18);
    for (const int down : {2, 3})
      for (const double width : {1.0, 2.0, 3.0}) {
        StaircaseRule rule;
        rule.right_to_go_down = down, rule.rungs = 60;
        double sum = 0, spread = 0;
        for (int n = 0; n < listeners; ++n) {
          std::vector<bool> right;
          auto course = staircase(rule, right);
          while (!course.done) {
            right.push_back(chance.uniform() < heard_at(double(course.rungs.back()), 30, width));
            course = staircase(rule, right);
          }
          sum += *course.rung / listeners, spread += course.spread / listeners;
        }
        const double share = heard_at(sum, 30, width), target = target_share(rule);
        qInfo("1 up %d down, over %g rungs: rung %.2f, spread %.2f; heard %.3f of the time there, sought %.3f", down,
              width, sum, spread, share, target);
        QVERIFY(std::abs(share - target) < 0.03);
        QVERIFY(spread > 0.3 && spread < 3 * width);
      }
    StaircaseRule one;
    one.right_to_go_down = 1;
    QCOMPARE(target_share(one), 0.5);
    QVERIFY(std::abs(target_share({.right_to_go_down = 3}) - 0.7937) < 1e-4);
  }

  void stairs_that_end_at_an_end_say_so() {
    StaircaseRule rule;
    std::vector<bool> right;
    while (!staircase(rule, right).done) right.push_back(true);
    QVERIFY(staircase(rule, right).at_hard_end && right.size() < 40);
    QCOMPARE(*staircase(rule, right).rung, double(rule.rungs - 1));
    right.clear();
    while (!staircase(rule, right).done) right.push_back(false);
    QVERIFY(staircase(rule, right).at_easy_end && right.size() < 10);
    right.push_back(true);  // what comes behind the end changes nothing
    QCOMPARE(staircase(rule, right).rungs, staircase(rule, std::vector<bool>(right.begin(), right.end() - 1)).rungs);
    const std::vector<double> values{10, 8, 4};
    QCOMPARE(value_at(values, 1.5), 6.0);
    QCOMPARE(value_at(values, 9), 4.0);
    for (const StaircaseRule& wrong : {StaircaseRule{.right_to_go_down = 4}, StaircaseRule{.rungs = 2},
                                       StaircaseRule{.start = 20}, StaircaseRule{.reversals = 3}})
      QVERIFY(!refusal([&] { staircase(wrong, {}); }).isEmpty());
  }

  /// No button is likelier than another, and none tells of the one before.
  void the_order_tells_nothing() {
    constexpr int rounds = 20000;
    const BlindDesign abx{BlindMethod::abx, 2, 1000};
    std::map<std::pair<int, int>, int> pairs;  // truth, and what stood under A
    int repeated = 0, last = -1;
    for (int n = 0; n < rounds; ++n) {
      const Round r = round_of(abx, 7, n);
      QCOMPARE(r.buttons.size(), size_t(3));
      QCOMPARE(r.buttons[2], r.buttons[size_t(r.truth)]);
      QVERIFY(r.buttons[0] != r.buttons[1]);
      ++pairs[{r.truth, r.buttons[0]}];
      repeated += r.truth == last, last = r.truth;
    }
    for (const auto& [which, count] : pairs)
      QVERIFY2(std::abs(count - rounds / 4) < 250, qPrintable(QString::number(count)));
    QVERIFY(std::abs(repeated - rounds / 2) < 300);
    const BlindDesign multi{BlindMethod::multi, 5, 10};
    std::map<std::vector<int>, int> orders;
    for (int n = 0; n < 12000; ++n) {
      const Round r = round_of(multi, 8, n);
      QCOMPARE(r.buttons[0], 0);
      ++orders[std::vector<int>(r.buttons.begin() + 1, r.buttons.end())];
    }
    QCOMPARE(orders.size(), size_t(120));
    for (const auto& [order, count] : orders) QVERIFY2(count > 50 && count < 160, qPrintable(QString::number(count)));
    BlindDesign caught{BlindMethod::preference, 2, 10};
    caught.catches = 0.3;
    int catches = 0;
    for (int n = 0; n < rounds; ++n) {
      const Round r = round_of(caught, 9, n);
      QCOMPARE(r.is_catch, r.buttons[0] == r.buttons[1]);
      catches += r.is_catch;
    }
    QVERIFY(std::abs(catches - 0.3 * rounds) < 300);
    QCOMPARE(round_of(abx, 7, 5).buttons, round_of(abx, 7, 5).buttons);
  }

  void a_test_goes_through_to_its_key() {
    BlindTest t = test_of(BlindMethod::abx, 16);
    QCOMPARE(t.key.hash.size(), size_t(64));
    int wrong = 3;
    while (!is_ended(t)) {
      QVERIFY(refusal([&] { result_of(t); }).contains("sealed"));
      const Round r = next_round(t);
      const bool slip = wrong > 0 && counted(t) % 5 == 0;
      wrong -= slip;
      if (counted(t) == 4 && t.answers.size() == 4) {
        make_void(t, "the device dropped out", 1000);
        continue;  // another round takes its place
      }
      answer(t, {.button = slip ? 1 - r.truth : r.truth, .at_ms = 5000 * int64_t(t.answers.size())});
    }
    const BlindResult r = result_of(t);
    QCOMPARE(r.voids, 1);
    QCOMPARE(r.verdict->right, 13);
    QCOMPARE(r.sentence, std::string("13 of 16: by guessing 1 time in 94."));
    QCOMPARE(sha256_hex(r.key), t.key.hash);
    QCOMPARE(blind_log(t).size(), size_t(17));
    QVERIFY(!refusal([&] { answer(t, {.button = 0}); }).isEmpty());
    QVERIFY(sha256_hex("abc") == "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad");  // FIPS 180-4
    QVERIFY(test_of(BlindMethod::abx, 16).key.hash != test_of(BlindMethod::abx, 16).key.hash);
  }

  void a_slip_is_taken_back_for_two_seconds() {
    BlindTest t = test_of(BlindMethod::abx, 4);
    const Round first = next_round(t);
    answer(t, {.button = 0, .at_ms = 10000});
    QVERIFY(!take_back(t, 12001));
    QVERIFY(take_back(t, 12000));
    QVERIFY(t.answers.empty() && next_round(t).buttons == first.buttons);
    make_void(t, "", 10000);
    QVERIFY(!take_back(t, 10001));
    QVERIFY(!t.answers[0].void_why.empty());
  }

  void grades_come_to_means_and_intervals() {
    BlindTest t = test_of(BlindMethod::triple, 8);
    QVERIFY(!refusal([&] { answer(t, {.grades = {4, 4}}); }).isEmpty());  // one is the reference
    QVERIFY(!refusal([&] { answer(t, {.grades = {5, 6}}); }).isEmpty());
    std::vector<double> less;
    while (!is_ended(t)) {
      const Round r = next_round(t);
      const double grade = 3.0 + 0.25 * counted(t);
      less.push_back(grade - 5);
      answer(t, {.grades = r.buttons[1] == 1 ? std::vector{grade, 5.0} : std::vector{5.0, grade}});
    }
    const BlindResult triple = result_of(t);
    QCOMPARE(triple.verdict->right, 8);
    const double mean = -2 + 0.25 * 3.5, sd = 0.25 * std::sqrt(6.0);  // of 0 .. 7 the deviation is the root of 6
    QVERIFY(std::abs(triple.grades[0].mean - mean) < 1e-12);
    QVERIFY(std::abs(triple.grades[0].high - mean - 2.364624 * sd / std::sqrt(8.0)) < 1e-6);  // t of 7 degrees

    BlindTest m = test_of(BlindMethod::multi, 4, 4);
    while (!is_ended(m)) {
      const Round r = next_round(m);
      std::vector<double> grades;
      for (size_t b = 1; b < r.buttons.size(); ++b) grades.push_back(100 - 20 * r.buttons[b]);
      answer(m, {.grades = grades});
    }
    const BlindResult multi = result_of(m);
    for (int n = 0; n < 4; ++n) QCOMPARE(multi.grades[size_t(n)].mean, 100.0 - 20 * n);
    QCOMPARE(multi.reference_kept, 1.0);
    QVERIFY(multi.sentence.find("return 3 was graded 40") != std::string::npos);
  }

  void suggestion_shows_where_both_are_the_same() {
    BlindDesign design{BlindMethod::preference, 2, 40};
    design.catches = 0.5;
    BlindTest t = begin_blind_test(design, {{"Mill Race"}, {"MP3", "t1"}});
    while (!is_ended(t)) {
      const Round r = next_round(t);
      answer(t, {.button = r.is_catch ? 0 : r.buttons[0] == 0 ? 0 : 1});
    }
    const BlindResult r = result_of(t);
    QVERIFY(r.catches > 5 && r.caught == r.catches);
    QCOMPARE(r.preference->first, 40 - r.catches);
    QVERIFY(r.sentence.find("Where both were the same, one was preferred in") != std::string::npos);
    QVERIFY(!refusal([] { begin_blind_test({BlindMethod::abx, 2, 8, 0.5}, {{"a"}, {"b"}}); }).isEmpty());
  }

  void a_threshold_is_told_in_its_unit() {
    dsp::Noise chance(21);
    BlindTest t = test_of(BlindMethod::threshold, 1, 31);
    t.unit = "dB";
    while (!is_ended(t)) {
      const Round r = next_round(t);
      const int played = std::max(r.buttons[1], r.buttons[2]);
      const bool heard = chance.uniform() < heard_at(played - 1, 15, 1);
      answer(t, {.button = heard ? r.truth : 3 - r.truth});
    }
    const BlindResult r = result_of(t);
    QVERIFY2(std::abs(*r.threshold - 14.6) < 2.5, qPrintable(QString::number(*r.threshold)));
    QVERIFY(r.sentence.find("Told apart 70.7 %") != std::string::npos && r.sentence.find("dB") != std::string::npos);
  }

  /// Yes or no: half of the time, whatever a listener's readiness to say yes to nothing, which is told.
  void half_of_the_time_is_asked_as_yes_or_no() {
    dsp::Noise chance(23);
    for (const double says_yes_to_nothing : {0.0, 0.7}) {
      double sum = 0;
      int catches = 0, rounds = 0, caught = 0;
      constexpr int listeners = 300;
      for (int l = 0; l < listeners; ++l) {
        BlindTest t = yes_or_no();
        while (!is_ended(t)) {
          const Round r = next_round(t);
          QCOMPARE(r.is_catch, r.buttons[1] == 0);
          QCOMPARE(r.truth, r.is_catch ? 0 : 1);
          const double heard =
              r.is_catch ? says_yes_to_nothing : 2 * heard_at(r.buttons[1] - 1, 15, 1) - 1;  // from none to all
          answer(t, {.button = chance.uniform() < heard ? 1 : 0});
        }
        const BlindResult r = result_of(t);
        QVERIFY(!r.verdict && !blind_rounds(t).front().share_so_far);
        QCOMPARE(r.sentence.find("can't be trusted") != std::string::npos, 3 * r.caught > r.catches);
        sum += *r.course.rung / listeners, catches += r.catches, caught += r.caught, rounds += counted(t);
      }
      QVERIFY2(std::abs(sum - 15) < 0.5, qPrintable(QString::number(sum)));
      QVERIFY2(std::abs(double(catches) / rounds - 0.25) < 0.02, qPrintable(QString::number(catches)));
      QVERIFY(std::abs(double(caught) / catches - says_yes_to_nothing) < 0.05);
    }
    for (const int wrong : {-1, 2})
      QVERIFY(!refusal([&] {
                 BlindTest t = yes_or_no();
                 answer(t, {.button = wrong});
               }).isEmpty());
    BlindDesign d = yes_or_no().design;
    d.catches = 1;
    QVERIFY(!refusal([&] { check_design(d); }).isEmpty());
    d.catches = 0.2, d.rule.right_to_go_down = 2;
    QVERIFY(!refusal([&] { check_design(d); }).isEmpty());
  }

  void what_is_kept_comes_back_and_what_was_tampered_with_is_told() {
    BlindTest t = test_of(BlindMethod::threshold, 1, 21);
    t.id = "b1", t.master = "m1", t.from_s = 2, t.until_s = 6;
    answer(t, {.button = 1, .at_ms = 1700000000123, .took_s = 4.25});
    make_void(t, "the device dropped out", 1700000009000);
    const Json json = json_from(text_of(blind_test_json(t)));
    QCOMPARE(text_of(blind_test_json(blind_test_from(JsonPlace(json, "")))), text_of(json));
    QVERIFY(blind_test_from(JsonPlace(json, "")) == t);
    Json other = blind_test_json(yes_or_no());
    QVERIFY(blind_test_from(JsonPlace(other, "")).design == yes_or_no().design);
    QCOMPARE(blind_test_from(JsonPlace(other, "")).unit, std::string("dB of fold"));
    other["ladder"]["of"] = "guess";
    QVERIFY(refusal([&] { blind_test_from(JsonPlace(other, "")); }).contains("no ladder"));
    other = json;
    std::string box = other["sealed_key"];
    box[10] = box[10] == 'A' ? 'B' : 'A';
    other["sealed_key"] = box;
    QVERIFY(refusal([&] { next_round(blind_test_from(JsonPlace(other, ""))); }).contains("can't be trusted"));
    other = json, other["key_sha256"] = std::string(64, '0');
    QVERIFY(refusal([&] { next_round(blind_test_from(JsonPlace(other, ""))); }).contains("can't be trusted"));
    for (const auto& [key, value] : std::map<std::string, Json>{{"method", "guess"},
                                                                {"rounds", 0},
                                                                {"stimuli", Json::array()},
                                                                {"answers", 3},
                                                                {"staircase", Json::object()}}) {
      other = json, other[key] = value;
      QVERIFY2(!refusal([&] { blind_test_from(JsonPlace(other, "it")); }).isEmpty(), key.c_str());
    }
    for (const char* wrong :
         {R"({"button": 0})", R"({"at_ms": 1, "took_s": 1})", R"({"at_ms": 1e300, "took_s": 1, "button": 1})",
          R"({"at_ms": 1, "took_s": 1, "button": 0})", R"({"at_ms": 1, "took_s": 1, "grades": [5]})"}) {
      other = json, other["answers"][0] = json_from(wrong);
      QVERIFY2(!refusal([&] { blind_test_from(JsonPlace(other, "it")); }).isEmpty(), wrong);
    }
    Json graded =
        blind_test_json(test_of(BlindMethod::multi, 4, 4));  // fewer grades than buttons would be read beyond their end
    graded["answers"] = json_from(R"([{"at_ms": 1, "took_s": 1, "grades": [50, 50]}])");
    QVERIFY(refusal([&] { blind_test_from(JsonPlace(graded, "it")); }).contains("is no answer"));
  }
};

QTEST_GUILESS_MAIN(TestHearing)
#include "test_hearing.moc"
