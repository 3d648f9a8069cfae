// A page of the window: what it is called, what it can do and what it wants to hear of. The window knows pages by this
// alone; each lies in a folder of its own and stands in one line of the registry.
#pragma once
#include <QKeySequence>
#include <QString>
#include <QWidget>
#include <filesystem>
#include <functional>
#include <optional>
#include <vector>

#include "app/listen/listening_bar.hpp"
#include "app/model/loudness_readings.hpp"
#include "app/model/workspace.hpp"

namespace heathmist::app {

enum class MenuKind { file, edit, view, listen, measure, make, help };

/// What somebody can do by name: it stands in a menu and in the palette, and has a key where it is done often.
struct Command {
  QString name;
  MenuKind menu = MenuKind::view;
  std::function<void()> run{};
  QList<QKeySequence> keys = {};
  std::function<bool()> enabled = {};  ///< none: always
  QString submenu = {};                ///< of its menu; empty: it stands there itself
  bool of_row = false;                 ///< it is done to what is looked at: it stands in the ledger's row menu too
  bool of_plot = false;                ///< it is done with a plot: it stands in the menu of every plot, too
  QString begins = {};                 ///< how one begins with it, a sentence: it stands on the first screen, too
};

/// Something of a page that is found by name in the palette, beside its commands.
struct Findable {
  QString group, name, what;
  std::function<void()> run;
};

/// The groups of pages in the order of work: a tab each, whose pages stand in a row below it.
enum class PageGroup { compare, make, levels, spectrum, probes, listening, report };

/// What all pages work with.
struct PageContext {
  Workspace& workspace;
  LoudnessReadings& loudness;
  Player& player;
  ListeningBar& listening;
  QWidget* window;                               ///< over which dialogs stand
  std::function<void(const QString&)> say;       ///< a sentence that must not be missed
  std::function<void(const std::string&)> show;  ///< another page, by its key
  std::function<void(bool)> alone;   ///< nothing but the page is seen, no menu and no listening bar; or all is again
  std::function<void()> hear_trial;  ///< the trial that is looked at is heard again, after something else
  bool quiet = false;                ///< no dialogs while something is written, and none after
};

/// A page as it was made. What it wants to be told; what is left empty it is not told.
struct MadePage {
  QWidget* widget = nullptr;
  std::function<QWidget*()> first{};       ///< what takes the keys when it is shown
  std::vector<Command> commands{};         ///< beside the one that shows it
  std::function<void()> shown{};           ///< it is seen now, or it is seen and what the bench holds changed
  std::function<void()> left{};            ///< another page is seen now
  std::function<void()> trial{};           ///< the trial that is looked at has a result, another one, or none any more
  std::function<void(double)> playhead{};  ///< seconds
  std::function<void()> selection{}, band{};                         ///< of the workspace
  std::function<void(const std::filesystem::path&)> file_changed{};  ///< what was made of it is not what it holds
  /// Shows the plate and the spot of a finding; findings are beside pages that can.
  std::function<void(const Finding&)> evidence{};
  std::function<std::vector<Findable>()> findable{};  ///< what it holds that has a name
  bool in_place_of_ledger = false;  ///< it has a list of its own at the left
  /// How it is set up, kept with the bench under a key.
  std::string settings_key{};
  std::function<nlohmann::ordered_json()> settings{};
  std::function<void(const nlohmann::ordered_json&)> restore{};  ///< an empty object: another bench, that keeps none
};

struct Page {
  std::string key;  ///< as --view takes it
  PageGroup group;
  QString title, hint;
  QKeySequence shortcut;
  MadePage (*make)(PageContext& context, QWidget* parent);
};

/// All pages, in the order of work.
const std::vector<Page>& pages();
const char* title_of(PageGroup group);

}  // namespace heathmist::app
