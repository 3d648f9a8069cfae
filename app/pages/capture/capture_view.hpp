// Recording what comes back: from which device, of what, how loud it is, and what came of it.
#pragma once
#include <QComboBox>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QTimer>

#include "app/model/long_work.hpp"
#include "app/widgets/level_bars.hpp"
#include "app/widgets/number_field.hpp"
#include "core/bench/document.hpp"
#include "core/devices/loop_check.hpp"
#include "core/devices/monitor.hpp"

namespace heathmist::app {

class DeviceForm;

class CaptureView : public QWidget {
  Q_OBJECT

 public:
  enum class What { round_trip, played_elsewhere, floor, loop_check };

  explicit CaptureView(Queue& queue, QWidget* parent = nullptr);
  ~CaptureView() override;
  void show_bench(const Bench& bench, const std::string& master);
  void choose(What what);
  void start();
  void stop() { work_.cancel(); }
  /// Watches the input without recording; again: no more.
  void check_level();
  bool is_running() const { return work_.is_running(); }
  bool is_checking() const { return bool(level_); }
  /// What became of the trial that was recorded last; not told where something else was asked for since.
  void show_verdict(const QString& sentence);
  QString answer() const { return answer_->text(); }
  QString note() const { return note_->text(); }
  DeviceForm* form() const { return form_; }
  QLineEdit* file() const { return file_; }
  QPushButton* record_button() const { return record_; }
  NumberField* seconds() const { return seconds_; }
  LevelBars* bars() const { return bars_; }
  QComboBox* masters() const { return masters_; }
  void say(const QString& sentence);

 signals:
  void recorded(const QString& master_id, const QString& file);  ///< a return of a master
  void floor_recorded(const QString& file);
  void rested();
  void null_wanted();
  void device_wanted();  ///< whatever else is heard lets it go

 private:
  struct MasterFile {
    std::string id, name;
    std::filesystem::path file;
  };
  QWidget* make_form(Queue& queue);
  QWidget* make_actions();
  void make_left_behind(QVBoxLayout* rows);
  void offer_left_behind();
  void ask_anew();
  void propose_file();
  const MasterFile* chosen_master() const;
  What what() const;
  void refresh();
  void begin(CapturePlan plan, const MasterFile* master);
  void begin_loop_check(const StreamOrder& order);
  void take(const CaptureReading& reading);
  void end(const Captured& captured, What what, const std::string& master_id);
  void end_loop_check(const LoopCheck& check);
  void show_level();

  LongWork work_;
  std::vector<MasterFile> masters_of_bench_;
  std::unique_ptr<Monitor> level_;
  std::optional<StreamOrder> level_of_;
  QTimer level_timer_;
  DeviceForm* form_;
  QLabel *answer_, *note_, *facts_;
  QComboBox *what_, *masters_;
  QLineEdit* file_;
  NumberField* seconds_;
  LevelBars* bars_;
  QPushButton *record_, *stop_, *check_, *null_, *browse_;
  QWidget* left_behind_;
  QString folder_, proposed_;
  bool awaits_verdict_ = false;  // of what was recorded last
};

}  // namespace heathmist::app
