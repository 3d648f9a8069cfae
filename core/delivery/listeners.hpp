// What listeners get of a master: the return of every quality that an outlet serves, turned as its player turns it; and
// a file that was brought back from there, laid beside that.
//
//   auto gets = what_listeners_get(outlet, deliver(outlet, loudness).gain_db);
//   BroughtBack b = lay_beside(outlet, gain_db, Clip::open("master.wav"), Clip::open("brought back.m4a"));
#pragma once
#include "core/delivery/outlet.hpp"
#include "core/stages/permission.hpp"

namespace heathmist {

/// A chain for each quality, best first as the outlet has them: its encode, then the player's gain as a stage of its
/// own. An outlet without qualities has its one encode; without that, what is heard is the master at the player's gain.
std::vector<Chain> what_listeners_get(const Outlet& outlet, double player_gain_db);

/// A file from there against the prediction.
struct BroughtBack {
  struct Beside {
    std::string quality;
    double predicted_db = 0;  ///< residual of the quality against the master, dBr; -300: none
    double apart_db = 0;      ///< of what was brought against that quality; -300: none
  };
  enum class Codec {
    none,          ///< what was brought is the master, but for its level
    that_quality,  ///< it is that very encode, or one that cannot be told from it
    like_that,     ///< as much is lost as there, otherwise: another encoder, or another setting
    better,
    worse,  ///< less is lost than at any quality, more than at any
  };
  std::vector<Beside> qualities;
  std::optional<size_t> nearest;
  double apart() const;  ///< from the nearest, dBr
  Codec codec = Codec::none;
  double residual_db = 0;  ///< of what was brought against the master, equally loud; -300: none
  int rate_hz = 0, expected_rate_hz = 0;
  double level_db = 0;  ///< of what was brought against the master
  double player_gain_db = 0;
  bool is_turned() const;              ///< the level in the file is not the master's
  bool is_players_gain() const;        ///< ... but what the player would turn by
  std::vector<std::string> sentences;  ///< codec, rate, level: what it was, the weightiest first
};

/// Throws InputError (where the two do not belong together, too), ChainError, Cancelled.
BroughtBack lay_beside(const Outlet& outlet, double player_gain_db, std::shared_ptr<const Clip> master,
                       std::shared_ptr<const Clip> brought, const Job& job = {}, const Grant& grant = grant_nothing);

Json brought_back_json(const BroughtBack& b);

}  // namespace heathmist
