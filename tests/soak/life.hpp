// What somebody might do with the window: pages, commands, keys, wheels, selections, holds, undo, dialogs that open and
// are closed, files that change meanwhile. All by chance from a seed.
#pragma once
#include <QTimer>
#include <memory>
#include <random>

#include "app/shell/main_window.hpp"
#include "tests/soak/frail_device.hpp"
#include "tests/support/signals.hpp"

namespace heathmist::soak {

class Life : public QObject {
 public:
  /// `trials`: how many more there are than a handful.
  Life(uint64_t seed, int trials);
  ~Life() override;
  void step();  ///< does one thing and lets the window live for a moment
  /// Waits until nothing runs any more, and looks whether all is true. A sentence for each thing that is not.
  std::vector<QString> check();
  /// Takes everything back, step by step: the bench is what it was. Then lets the window go.
  std::vector<QString> end();

  int steps() const { return steps_; }
  int dialogs() const { return dialogs_; }
  int files_changed() const { return files_changed_; }
  int checks() const { return checks_; }
  int devices_lost() const { return devices_lost_; }

 private:
  void make_files();
  void open_window(int trials);
  void look_at_dialogs();
  double between(double low, double high) { return std::uniform_real_distribution<double>(low, high)(chance_); }
  int below(int count) { return std::uniform_int_distribution<int>(0, std::max(0, count - 1))(chance_); }
  void let_live(int ms);
  bool rest();

  // what can be done
  void show_a_page();
  void run_a_command();
  void look_at_a_trial();
  void select_something();
  void hold_something();
  void take_back_or_again();
  void change_a_file();
  void press_a_key();
  void turn_a_wheel();
  void change_the_window();
  void pull_or_plug_the_device();

  std::mt19937_64 chance_;
  test::Folder folder_;
  Planar sound_;
  std::vector<std::filesystem::path> returns_;
  std::unique_ptr<app::MainWindow> window_;
  std::string first_bench_;
  QTimer closer_;  // of what opens over the window
  QString last_;   // what was done last
  Plug plug_ = std::make_shared<std::atomic<bool>>(true);
  QStringList seen_wrong_;  // of dialogs
  int steps_ = 0, dialogs_ = 0, files_changed_ = 0, checks_ = 0, devices_lost_ = 0;
};

}  // namespace heathmist::soak
