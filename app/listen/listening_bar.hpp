// The listening bar: transport, what is heard, matched level, lift, loop, meters.
#pragma once
#include <QButtonGroup>
#include <QHBoxLayout>
#include <QLabel>
#include <QMenu>
#include <QSlider>
#include <QTimer>
#include <QToolButton>

#include "app/listen/player.hpp"
#include "app/widgets/meter_bar.hpp"
#include "core/delivery/match.hpp"

namespace heathmist::app {

class ListeningBar : public QWidget {
  Q_OBJECT

 public:
  ListeningBar(Player& player, QWidget* parent = nullptr);
  /// The pair that is heard; none: nothing to play.
  void set_pair(std::shared_ptr<const NullReport> report);
  void match_by(MatchBy by);
  MatchBy matched_by() const { return match_by_; }
  std::optional<double> match_db() const { return match_db_; }  ///< on the return, within the loop where there is one
  void set_loop(std::optional<std::pair<double, double>> seconds);
  void show_band(std::optional<std::pair<double, double>> hz);  ///< only this band is heard
  void hear(Heard heard);
  /// One cause by itself stands in place of the residual, and the return without it; no name: both as they are.
  void name_cause(const QString& cause);
  Heard heard() const { return mix_.heard; }
  /// Another sound that the player has in the return's place.
  struct Other {
    QString name;
    /// dB that make it as loud as the master, in the loop where there is one.
    std::function<std::optional<double>(MatchBy by, const std::optional<std::pair<double, double>>& loop)> match_db;
  };
  void set_other(std::optional<Other> other);
  const std::optional<Other>& other() const { return other_; }
  void say(const QString& words) { match_note_->setText(words); }  ///< until the next match
  void show_match();                                               ///< again what brings the return to the master
  QString note() const { return match_note_->text(); }
  void offer(QMenu* others);  ///< what can be heard in the return's place, at its button
  void open_others();
  std::optional<std::pair<double, double>> loop() const { return loop_range_; }
  void set_matched(bool on);
  bool matched() const { return matched_->isChecked(); }
  void set_lift(int db);
  int lift() const { return lift_->value(); }
  void toggle_play();

  Player* player() const { return &player_; }
  QString rate_words() const { return rate_note_->text(); }
  QString rate_hint() const { return rate_note_->toolTip(); }

 signals:
  void loop_changed();  ///< what is matched within it has been
  void heard_changed(Heard heard, double lift_db);
  void loop_cleared();

 protected:
  void resizeEvent(QResizeEvent* event) override;

 private:
  void push_mix();
  void find_match();
  void refresh();
  void dress();
  void make_meters(QHBoxLayout* row);
  void make_output(QHBoxLayout* row);
  void offer_outputs();
  void show_output();
  Player& player_;
  MixSettings mix_;
  std::optional<std::pair<double, double>> loop_range_, band_;
  std::shared_ptr<const NullReport> report_;
  std::optional<Other> other_;
  MatchBy match_by_ = MatchBy::integrated;
  std::optional<double> match_db_;
  QToolButton *play_, *matched_, *loop_, *output_;
  QButtonGroup* choice_;
  QSlider* lift_;
  QLabel *place_, *length_, *match_note_, *lift_value_, *loop_note_, *rate_note_;
  std::array<QLabel*, 5> values_{};  // M, S, I, true peak, correlation
  std::array<MeterBar*, 5> bars_{};  // of each
  QWidget* device_cell_ = nullptr;
  QTimer meters_;
};

}  // namespace heathmist::app
