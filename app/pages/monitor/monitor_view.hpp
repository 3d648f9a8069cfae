// Watching an input: its loudness against an outlet, its stereo picture and spectrum, and the last hour.
#pragma once
#include <QComboBox>
#include <QLabel>
#include <QPushButton>
#include <QTimer>

#include "app/model/long_work.hpp"
#include "app/pages/device_form.hpp"
#include "app/pages/writing.hpp"
#include "app/plots/graph_plate.hpp"
#include "app/plots/live_spectrum_plate.hpp"
#include "app/plots/spectrogram_plate.hpp"
#include "app/plots/stereo_plate.hpp"
#include "app/widgets/level_bars.hpp"
#include "core/bench/document.hpp"
#include "core/delivery/outlet.hpp"
#include "core/devices/monitor.hpp"

namespace heathmist::app {

class MonitorView : public QWidget {
  Q_OBJECT

 public:
  explicit MonitorView(Queue& queue, QWidget* parent = nullptr);
  ~MonitorView() override;
  void show_bench(const Bench& bench);
  void start();
  void stop();
  void reset();
  /// Of a master that is sent and its return: which is heard, and whether equally loud.
  void hear(bool ret, bool matched);
  /// Asks where to, and keeps the last so many minutes.
  void keep_last(int minutes);
  void keep_last(int minutes, const Destination& to);
  bool is_running() const { return bool(monitor_); }
  QString answer() const { return answer_->text(); }
  QString note() const { return note_->text(); }
  QString live_words() const { return live_->text(); }               ///< which of the two is heard, and how loud
  QString value(int n) const { return values_[size_t(n)]->text(); }  ///< M, S, I, range, true peak, PLR
  DeviceForm* form() const { return form_; }
  QComboBox* outlets() const { return outlet_; }
  QComboBox* sent() const { return sent_; }
  QComboBox* listened() const { return listened_; }
  bool is_heard() const { return monitor_ && heard_; }  ///< a master and its live return are
  LiveSpectrumPlate* spectrum() const { return spectrum_; }
  GraphPlate* course() const { return course_; }
  const Monitor* monitor() const { return monitor_.get(); }
  QPushButton* main_button() const { return run_; }
  bool is_writing() const { return writing_->is_running(); }

 signals:
  void rested();  ///< what was kept is written, or could not be
  void started();
  void live_changed(const QString& words);  ///< what brings the live return to the master's loudness
  void live_ended();

 private:
  QWidget* make_head(Queue& queue);
  QWidget* make_listening(QWidget* head);
  QWidget* make_numbers();
  QWidget* make_plots();
  void show_now();
  void show_hour(int64_t second);
  void show_outlets();
  void show_places();
  void show_live(const LiveReading& live);
  void show_range(const MonitorReading& reading);
  void refresh();
  void say(const QString& sentence);

  Writing* writing_;
  std::unique_ptr<Monitor> monitor_;
  std::vector<Outlet> known_;
  std::vector<std::pair<QString, std::filesystem::path>> masters_;
  QTimer timer_;
  int64_t shown_seconds_ = -1, shown_blocks_ = 0;
  double shown_length_ = 0;
  bool even_ = false;  // the spectrum is drawn every other time
  DeviceForm* form_;
  QLabel *answer_, *note_;
  QComboBox *outlet_, *sent_, *listened_;
  std::vector<OutputPair> places_;  // that can be listened to
  QWidget* listening_;              // where it is chosen
  QLabel* live_;
  bool heard_ = false, hears_return_ = false, matched_ = true;
  QPushButton *run_, *reset_, *keep_;
  LevelBars* bars_;
  std::array<QLabel*, 6> values_{};
  StereoPlate* stereo_;
  LiveSpectrumPlate* spectrum_;
  GraphPlate* course_;
  SpectrogramPlate* over_time_;
};

}  // namespace heathmist::app
