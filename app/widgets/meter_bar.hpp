// A slim bar under a number that moves: where it stands now, and a tick where it stood highest.
#pragma once
#include <QWidget>
#include <chrono>
#include <optional>

namespace heathmist::app {

class MeterBar : public QWidget {
  Q_OBJECT

 public:
  using Clock = std::chrono::steady_clock;
  /// `from` is where the bar begins: the low end, or the middle of what goes either way.
  MeterBar(double low, double high, double from, QWidget* parent = nullptr);
  /// Nothing: there is no reading, and nothing is held any more.
  void show_value(std::optional<double> value, Clock::time_point now = Clock::now());
  std::optional<double> value() const { return value_; }
  /// The highest; it stands for two seconds.
  std::optional<double> held() const { return held_; }
  /// From here on the bar and its tick warn.
  void set_limit(double limit) { limit_ = limit; }

 protected:
  void paintEvent(QPaintEvent*) override;

 private:
  double low_, high_, from_;
  std::optional<double> value_, held_, limit_;
  Clock::time_point held_since_;
};

}  // namespace heathmist::app
