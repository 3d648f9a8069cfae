// Outlets: places audio is delivered to, each with its loudness rule and its encode; and what one makes of a master.
//
//   for (const Outlet& o : known_outlets()) Delivery d = deliver(o, measured.loudness);
//
// What is asked of the *file* and what only the *player* does are kept apart: an outlet that acts on the file wants it
// at the target; one whose player turns the gain leaves the file as it is.
#pragma once
#include "core/delivery/fault.hpp"
#include "core/measure/meter.hpp"
#include "core/stages/chain.hpp"

namespace heathmist {

/// One of the encodes that an outlet serves to its listeners.
struct Quality {
  std::string name;
  Chain chain;
  bool operator==(const Quality&) const = default;
};

struct Outlet {
  enum class Acts { file, player };
  enum class Turns { none, down, both };      ///< what the player may do
  enum class Rule { track, album, loudest };  ///< what its gain is taken from: the track, the album, its loudest track
  enum class Anchor { programme, dialogue };  ///< what is brought to the target: all of it, or its speech
  std::string key, name, what;
  std::string edition;  ///< of the document the numbers are from, with its year
  Acts acts = Acts::player;
  double target_lufs = -23;
  std::optional<double> tolerance_lu, live_tolerance_lu;  ///< either way from the target
  std::optional<double> max_true_peak_dbtp, max_short_term_lufs, max_momentary_lufs;
  Turns turns = Turns::none;
  std::optional<double> lift_ceiling_dbtp;  ///< a lift goes no further than true peaks at this
  Rule rule = Rule::track;
  Anchor anchor = Anchor::programme;
  std::optional<Chain> encode;
  std::vector<Quality> qualities{};  ///< best first; none: the encode is the only one
  bool shipped = false;
  bool operator==(const Outlet&) const = default;
};

/// An outlet that cannot be: one sentence that says which key is wrong and what it takes.
struct OutletError : std::runtime_error {
  using std::runtime_error::runtime_error;
};
Outlet outlet_from_json(const std::string& key, const Json& json);
Json outlet_json(const Outlet& outlet);

/// Where the user's own outlets lie, a file each: `$XDG_CONFIG_HOME/heathmist/outlets`.
std::filesystem::path outlets_folder();
/// The shipped ones and the user's own, which come first where they have the same key. What cannot be read is told to
/// `refused`, a sentence each that names the file.
std::vector<Outlet> known_outlets(std::vector<std::string>* refused = nullptr);
/// Writes a user's outlet as `<key>.json`. Throws OutletError, InputError.
void save_outlet(const Outlet& outlet);
/// Takes a user's own away; a shipped one of that key shows again. False: there is none.
bool drop_outlet(const std::string& key);

struct Delivery {
  enum class Limited { nothing, down_only, ceiling };
  double gain_db = 0;  ///< what the player applies
  Limited limited = Limited::nothing;
  std::optional<double> loudness_lufs, true_peak_dbtp;  ///< as it is heard: after the encode where there is one
  std::optional<double> headroom_db;                    ///< left unused under the highest true peak that is allowed
  std::optional<double> file_change_db;                 ///< where the file must be at the target: what it lacks
  std::optional<double> anchor_lufs;                    ///< of the stretch that was named as its dialogue
  std::string note;                                     ///< what the verdict rests on where that is not plain
  std::vector<Fault> faults;                            ///< why it does not pass
  bool passes() const { return faults.empty(); }
  bool has_fault(std::string_view code) const;
  bool operator==(const Delivery&) const = default;
};
/// What the rules for albums ask of one; worked out once for all its masters and outlets.
struct AlbumLevels {
  Loudness whole;
  std::optional<double> loudest_lufs, quietest_lufs;  ///< of its masters
};
AlbumLevels album_levels(const std::vector<const Loudness*>& masters);

struct DeliveryOptions {
  const AlbumLevels* album = nullptr;  ///< the one it belongs to; none: it stands alone
  const Loudness* encoded = nullptr;   ///< the return of the outlet's encode
  bool live = false;                   ///< the live tolerance counts
  std::optional<double> dialogue_lufs =
      {};  ///< loudness of a stretch of its dialogue: the anchor where that is asked for
};
/// What an outlet makes of a file. Limits are held at the precision they are shown at, a tenth.
Delivery deliver(const Outlet& outlet, const Loudness& file, const DeliveryOptions& options = {});

/// How far from the target is well, LU; none: nothing is said.
std::optional<double> tolerance_of(const Outlet& outlet, bool live);
/// Where an outlet stands in a list: broadcast wants the file itself at the target, players turn the gain; stand-ins
/// are made up; own are the user's.
enum class OutletGroup { broadcast, players, stand_ins, own };
OutletGroup group_of(const Outlet& outlet);
const char* name_of(OutletGroup group);
/// "Passes 8 of 14. Broadcast wants it 5.5 to 6.5 LU lower; players leave it nearly as it is." Of one file; what the
/// file must change by and what only players do are told apart.
std::string sentence_of(const std::vector<std::pair<Outlet, Delivery>>& deliveries);

Json delivery_json(const Outlet& outlet, const Delivery& delivery);
const char* label_of(Delivery::Limited limited);

}  // namespace heathmist
