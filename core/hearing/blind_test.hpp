// A blind test: what was asked, what was answered, and what that shows.
//
//   BlindTest t = begin_blind_test(design, {{"Mill Race"}, {"MP3 96"}});
//   while (!is_ended(t)) answer(t, {.button = ask(next_round(t))});
//   BlindResult r = result_of(t);          // r.verdict->sentence
//
// Everything but the order lies open in it; the order follows from the sealed key alone.
#pragma once
#include <optional>
#include <utility>

#include "core/hearing/chance.hpp"
#include "core/hearing/design.hpp"
#include "core/hearing/seal.hpp"
#include "core/json.hpp"

namespace heathmist {

class JsonPlace;

/// What is heard: the reference first.
struct BlindStimulus {
  std::string name;
  std::string trial{};            ///< id on the bench; empty: the reference, or an anchor
  std::string content{};          ///< fingerprint of the file or chain it was made of
  double gain_db = 0;             ///< that makes it as loud as the reference
  std::optional<double> value{};  ///< of `threshold`: of its rung
  bool operator==(const BlindStimulus&) const = default;
};

struct BlindAnswer {
  int button = -1;               ///< the chosen one; of `preference` -1: no difference; of yes or no 1 and 0
  std::vector<double> grades{};  ///< of `triple` and `multi`, for each button that is not open
  int64_t at_ms = 0;             ///< since 1970
  double took_s = 0;
  std::string void_why{};  ///< it does not count: a sentence says why
  bool operator==(const BlindAnswer&) const = default;
};

struct BlindTest {
  std::string id, master;  ///< on the bench
  double from_s = 0, until_s = 0;
  BlindDesign design;
  std::string unit{};  ///< of the stimuli's values
  std::vector<BlindStimulus> stimuli;
  SealedKey key;
  std::vector<BlindAnswer> answers{};  ///< one a round, in their order; void ones too
  bool operator==(const BlindTest&) const = default;
};

/// Seals a fresh key. `chance`: 48 hexadecimal digits that nobody knows, the seed and what keeps its hash from being
/// guessed. Throws std::invalid_argument where the design does not fit the stimuli.
BlindTest begin_blind_test(const BlindDesign& design, std::vector<BlindStimulus> stimuli,
                           const std::string& chance = random_hex(24));

/// Answers that count.
int counted(const BlindTest& test);
bool is_ended(const BlindTest& test);
/// The round that is to be answered next. Throws SealError.
Round next_round(const BlindTest& test);
/// Throws std::invalid_argument with a sentence for an answer that such a test does not take.
void check_answer(const BlindDesign& design, const BlindAnswer& given);
/// As check_answer(), and where the test is ended.
void answer(BlindTest& test, BlindAnswer given);
/// The round that runs does not count, and is not heard again.
void make_void(BlindTest& test, const std::string& why, int64_t at_ms);
/// Takes the last answer back where it is no older than this; the round is asked again.
inline constexpr int64_t take_back_ms = 2000;
bool take_back(BlindTest& test, int64_t now_ms);

/// Mean and 95 % interval (Student's t).
struct GradeMean {
  int count = 0;
  double mean = 0, low = 0, high = 0;
};

/// A round as it was played, and what was answered.
struct BlindRound {
  Round round;
  BlindAnswer given;
  std::optional<bool> right{};           ///< none: it is void, or no answer is right
  std::optional<double> share_so_far{};  ///< of right answers, this one with them; where a guesser's share is known
  std::optional<double> value{};         ///< of `threshold`: of the rung the staircase stood on
};

struct BlindResult {
  std::string key;  ///< as it was sealed
  int voids = 0;
  std::optional<Verdict> verdict;  ///< of abx, threshold; of `triple`: the object was graded below the reference
  std::optional<Preference> preference;
  int no_preference = 0, catches = 0, caught = 0;  ///< caught: a difference told where both were the same
  std::vector<GradeMean> grades;  ///< of each stimulus; of `triple` the object's less the hidden reference's
  double reference_kept = 1;      ///< of `multi`: share of rounds with the hidden reference at 90 or more
  StaircaseCourse course{};
  std::optional<double> threshold, threshold_spread;
  std::string sentence;
};
/// Throws SealError; std::invalid_argument where the test is not ended.
BlindResult result_of(const BlindTest& test);

/// All rounds: only where it is ended. Throws as result_of().
std::vector<BlindRound> blind_rounds(const BlindTest& test);
/// The grade of a stimulus in a round that counts; none: it was not graded.
std::optional<double> grade_of(const BlindTest& test, const BlindRound& round, size_t stimulus);
/// The same, a flat line a round, for CSV.
std::vector<Json> blind_log(const BlindTest& test);

Json blind_test_json(const BlindTest& test);
/// Throws std::invalid_argument with the place of what is wrong.
BlindTest blind_test_from(const JsonPlace& place);

}  // namespace heathmist
