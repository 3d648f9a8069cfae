#include "core/delivery/listeners.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "core/compare/null.hpp"
#include "core/delivery/residual_level.hpp"
#include "core/delivery/unlike.hpp"

namespace heathmist {

namespace {

constexpr double that_encode_db = 6;  // so much nearer to a quality than to the master: it is that encode
constexpr double alike_db = 1.5;      // residuals that differ by less are as deep as each other
constexpr double turned_db = 0.1, players_db = 0.2;

std::vector<Quality> qualities_of(const Outlet& outlet) {
  if (!outlet.qualities.empty()) return outlet.qualities;
  return {{outlet.encode ? "its encode" : "as it is", outlet.encode.value_or(Chain{})}};
}

NullReport null_of_clips(std::shared_ptr<const Clip> master, std::shared_ptr<const Clip> ret, const Job& job) {
  const auto pair = comparable(master, ret, job.part(0, 0.2));
  return null_test(*master, *ret, pair, {}, job.part(0.2, 1));
}

std::string in_words(double db) { return db <= identical_db ? "nothing" : fmt::format("{:.1f} dBr", db); }

std::string codec_words(const BroughtBack& b) {
  const auto& near = b.qualities[*b.nearest];
  switch (b.codec) {
    case BroughtBack::Codec::none:
      return "The codec took nothing: apart from its level it is the master.";
    case BroughtBack::Codec::that_quality:
      return fmt::format("The codec did what was predicted: it is the quality '{}', {} apart from it.", near.quality,
                         in_words(b.apart()));
    case BroughtBack::Codec::like_that:
      return fmt::format(
          "The codec took as much as the quality '{}' does ({} against {}), but it is another encode than that.",
          near.quality, in_words(b.residual_db), in_words(near.predicted_db));
    case BroughtBack::Codec::better:
      return fmt::format("Less is lost than at any quality here: {}, and '{}' leaves {}.", in_words(b.residual_db),
                         near.quality, in_words(near.predicted_db));
    case BroughtBack::Codec::worse:
      return fmt::format(
          "More is lost than at any quality here: {}, and '{}' leaves {}. It was coded lower or twice, or processed.",
          in_words(b.residual_db), near.quality, in_words(near.predicted_db));
  }
  return {};
}

std::string rate_words(const BroughtBack& b) {
  return b.rate_hz == b.expected_rate_hz
             ? fmt::format("The rate is the one that was expected, {} Hz.", b.rate_hz)
             : fmt::format("The rate is another: {} Hz, where {} Hz was expected.", b.rate_hz, b.expected_rate_hz);
}

std::string level_words(const BroughtBack& b) {
  if (!b.is_turned())
    return std::abs(b.player_gain_db) < turned_db
               ? "The level in the file is the master's, and the player turns nothing."
               : fmt::format("The level in the file is the master's: only the player turns it, by {:+.1f} dB.",
                             b.player_gain_db);
  if (b.is_players_gain())
    return fmt::format(
        "The level in the file is {:+.1f} dB: what the player turns by. It was recorded behind the "
        "player, or the file itself was turned.",
        b.level_db);
  return fmt::format(
      "The level in the file is {:+.1f} dB, which the player's {:+.1f} dB does not explain: the file "
      "itself was turned.",
      b.level_db, b.player_gain_db);
}

BroughtBack::Codec judged(const BroughtBack& b) {
  if (b.residual_db <= identical_db) return BroughtBack::Codec::none;
  const auto& near = b.qualities[*b.nearest];
  if (b.apart() <= b.residual_db - that_encode_db) return BroughtBack::Codec::that_quality;
  if (std::abs(near.predicted_db - b.residual_db) < alike_db) return BroughtBack::Codec::like_that;
  const auto [deepest, highest] =
      std::minmax_element(b.qualities.begin(), b.qualities.end(),
                          [](const auto& x, const auto& y) { return x.predicted_db < y.predicted_db; });
  if (b.residual_db < deepest->predicted_db) return BroughtBack::Codec::better;
  if (b.residual_db > highest->predicted_db) return BroughtBack::Codec::worse;
  return BroughtBack::Codec::like_that;
}

/// The quality it is nearest to: the one that it lies on, or the one that loses as much.
size_t nearest_of(const BroughtBack& b) {
  const auto cost = [&](const BroughtBack::Beside& q) {
    const bool is_it = q.apart_db <= b.residual_db - that_encode_db;
    return is_it ? q.apart_db - 1000 : std::abs(q.predicted_db - b.residual_db);
  };
  const auto it = std::min_element(b.qualities.begin(), b.qualities.end(),
                                   [&](const auto& x, const auto& y) { return cost(x) < cost(y); });
  return size_t(it - b.qualities.begin());
}

}  // namespace

double BroughtBack::apart() const { return nearest ? qualities[*nearest].apart_db : 0; }
bool BroughtBack::is_turned() const { return std::abs(level_db) >= turned_db; }
bool BroughtBack::is_players_gain() const { return is_turned() && std::abs(level_db - player_gain_db) < players_db; }

std::vector<Chain> what_listeners_get(const Outlet& outlet, double player_gain_db) {
  std::vector<Chain> chains;
  for (const Quality& q : qualities_of(outlet)) {
    Chain chain = q.chain;
    chain.name = outlet.name + ", " + q.name;
    if (player_gain_db != 0) chain.stages.push_back({"gain", {{"gain_db", player_gain_db}}});
    chains.push_back(std::move(chain));
  }
  return chains;
}

BroughtBack lay_beside(const Outlet& outlet, double player_gain_db, std::shared_ptr<const Clip> master,
                       std::shared_ptr<const Clip> brought, const Job& job, const Grant& grant) {
  BroughtBack b;
  b.player_gain_db = player_gain_db;
  const auto own = null_of_clips(master, brought, job.part(0, 0.2));
  if (!own.fit.trusted) throw unlike(*master, *brought);
  b.residual_db = residual_level_db(own), b.level_db = own.fit.gain_db;
  b.rate_hz = brought->format().sample_rate_hz;
  std::vector<int> rates;
  const auto qualities = qualities_of(outlet);
  for (size_t n = 0; n < qualities.size(); ++n) {
    const Job part = job.part(0.2 + 0.8 * double(n) / double(qualities.size()),
                              0.2 + 0.8 * double(n + 1) / double(qualities.size()));
    const Chain& chain = qualities[n].chain;
    const auto ret = chain.stages.empty() ? master : pass(master, chain, part.part(0, 0.4), {grant}).ret;
    const auto predicted = null_of_clips(master, ret, part.part(0.4, 0.7));
    const auto apart = null_of_clips(ret, brought, part.part(0.7, 1));
    b.qualities.push_back(
        {qualities[n].name, residual_level_db(predicted), apart.fit.trusted ? residual_level_db(apart) : 0});
    rates.push_back(ret->format().sample_rate_hz);
  }
  b.nearest = nearest_of(b);
  b.expected_rate_hz = rates[*b.nearest];
  b.codec = judged(b);
  // first what departs from the prediction
  std::vector<std::pair<bool, std::string>> told{
      {b.codec == BroughtBack::Codec::none || b.codec == BroughtBack::Codec::that_quality, codec_words(b)},
      {!b.is_turned(), level_words(b)},
      {b.rate_hz == b.expected_rate_hz, rate_words(b)}};
  std::ranges::stable_sort(told, {}, &std::pair<bool, std::string>::first);
  for (auto& [expected, sentence] : told) b.sentences.push_back(std::move(sentence));
  return b;
}

Json brought_back_json(const BroughtBack& b) {
  constexpr const char* codecs[] = {"none", "that_quality", "like_that", "better", "worse"};
  Json qualities = Json::array();
  const auto or_null = [](double db) { return db <= nothing_left_db ? Json(nullptr) : Json(db); };
  for (const auto& q : b.qualities)
    qualities.push_back({{"quality", q.quality},
                         {"residual_relative_db", or_null(q.predicted_db)},
                         {"apart_relative_db", or_null(q.apart_db)}});
  return {
      {"qualities", qualities},        {"nearest", b.nearest ? Json(b.qualities[*b.nearest].quality) : Json(nullptr)},
      {"codec", codecs[int(b.codec)]}, {"residual_relative_db", or_null(b.residual_db)},
      {"sample_rate_hz", b.rate_hz},   {"expected_sample_rate_hz", b.expected_rate_hz},
      {"level_db", b.level_db},        {"player_gain_db", b.player_gain_db},
      {"sentences", b.sentences}};
}

}  // namespace heathmist
