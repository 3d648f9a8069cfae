// The window: menu bar and groups of pages on top, ledger, page and findings side by side, the listening bar below. It
// knows pages and commands, and no page by name.
#pragma once
#include <QMainWindow>
#include <QSplitter>

#include "app/shell/bench_files.hpp"
#include "app/shell/finder.hpp"
#include "app/shell/handbook.hpp"
#include "app/shell/heard_choice.hpp"
#include "app/shell/ledger.hpp"
#include "app/shell/findings_controller.hpp"
#include "app/shell/marks_controller.hpp"
#include "app/shell/positions_controller.hpp"
#include "app/shell/menus.hpp"
#include "app/shell/page_stack.hpp"
#include "app/shell/top_row.hpp"
#include "app/shell/welcome.hpp"
#include "app/widgets/findings_panel.hpp"
#include "app/widgets/notice.hpp"

namespace heathmist::app {

class MainWindow : public QMainWindow {
  Q_OBJECT

 public:
  explicit MainWindow(std::unique_ptr<OutputDevice> device);
  ~MainWindow() override;

  /// Opens benches and adds audio files, as given on the command line or dropped.
  void take_files(const QStringList& files);
  /// False: there is no page of that key.
  bool show_page(const std::string& key) { return pages_->show_page(key); }
  void show_welcome(bool shown);
  void set_night(bool night);
  void set_quiet(bool quiet) { context_.quiet = quiet; }  ///< no dialogs while something is written, and none after

  Workspace& workspace() { return workspace_; }
  LoudnessReadings& loudness() { return loudness_; }
  Player& player() { return player_; }
  Ledger* ledger() const { return ledger_; }
  FindingsPanel* findings() const { return findings_; }
  ListeningBar* listening() const { return listening_; }
  Notice* notice() const { return notice_; }
  BenchFiles* files() const { return files_; }
  PageStack* page_stack() const { return pages_; }
  Welcome* welcome() const { return welcome_; }
  const std::vector<Command>& commands() const { return commands_; }
  /// The one of its kind in the window: a page's view or what works for it.
  template <class Part>
  Part* part() const {
    return findChild<Part*>();
  }

 protected:
  void closeEvent(QCloseEvent* event) override;
  void dragEnterEvent(QDragEnterEvent* event) override;
  void dropEvent(QDropEvent* event) override;

 private:
  void lay_out();  // with what is seen of it: window_layout.cpp
  void make_menus();
  std::vector<Command> own_commands();  // window_commands.cpp
  void connect_all();
  void connect_workspace();
  void show_page_around();
  void show_findings(bool shown);
  void show_alone(bool alone);
  void hear_trial();
  void hear_nothing();
  void tell_file_changed(const QString& file, const QString& sentence);
  void refresh_title();
  void row_menu(const std::string& id, const QPoint& at);
  void rename(const std::string& id);
  void rename_bench();
  void point_anew(const std::string& id);
  void new_version();
  std::string file_to_point_at() const;  ///< the id of its row
  std::vector<FinderEntry> findable();  // window_findables.cpp
  void find_anything();
  void open_handbook(const std::string& chapter);
  void show_keys();
  void keep_settings();
  void restore_settings();

  Workspace workspace_;
  Player player_;
  LoudnessReadings loudness_;
  BenchFiles* files_;
  Notice* notice_;
  ListeningBar* listening_;
  PageContext context_;
  std::vector<Command> commands_;
  TopRow* top_;
  QSplitter* columns_;
  Ledger* ledger_;
  PageRow* page_row_;
  PageStack* pages_;
  Welcome* welcome_;
  QWidget* beside_;  // findings and marks
  FindingsPanel* findings_;
  MarksController* marks_;
  FindingsController* findings_controller_;
  PositionsController* positions_;
  HeardChoice* choice_;
  Handbook* handbook_ = nullptr;  // once it was asked for
  int findings_width_ = 268;
  Menus* menus_;
};

}  // namespace heathmist::app
