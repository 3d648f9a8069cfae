// The listening bar: transport, what is heard, matched level, lift, loop, meters.
#pragma once
#include <QButtonGroup>
#include <QLabel>
#include <QSlider>
#include <QTimer>
#include <QToolButton>

#include "app/listen/player.hpp"

namespace heathmist::app {

class ListeningBar : public QWidget {
  Q_OBJECT

 public:
  ListeningBar(Player& player, QWidget* parent = nullptr);
  /// Loudness of the pair over what is compared; nothing where either is silent.
  void set_pair(double length_s, std::optional<double> master_lufs, std::optional<double> return_lufs);
  void set_loop(std::optional<std::pair<double, double>> seconds);
  void show_band(std::optional<std::pair<double, double>> hz);  ///< only this band is heard
  void hear(Heard heard);
  Heard heard() const { return mix_.heard; }
  void set_matched(bool on);
  bool matched() const { return matched_->isChecked(); }
  void set_lift(int db);
  int lift() const { return lift_->value(); }
  void toggle_play();

 signals:
  void heard_changed(Heard heard, double lift_db);
  void loop_cleared();

 private:
  void push_mix();
  void refresh();
  void dress();
  Player& player_;
  MixSettings mix_;
  double length_s_ = 0;
  std::optional<std::pair<double, double>> loop_range_, band_;
  std::optional<double> match_db_;
  QToolButton *play_, *matched_, *loop_;
  QButtonGroup* choice_;
  QSlider* lift_;
  QLabel *place_, *length_, *match_note_, *lift_value_, *loop_note_, *momentary_, *peak_, *device_;
  QTimer meters_;
};

}  // namespace heathmist::app
