// How places in the music are written, and where the ticks of a time axis stand: in time, in samples, or in bars and
// beats of a tempo.
#pragma once
#include <QObject>
#include <QString>

namespace heathmist::app {

struct Tempo {
  double bpm = 120;  ///< beats a minute
  int beats = 4;     ///< in a bar
  double first_beat_s = 0;
  bool operator==(const Tempo&) const = default;
};

class Positions : public QObject {
  Q_OBJECT

 public:
  enum class Unit { time, samples, beats };
  static Positions& instance();
  Unit unit() const { return unit_; }
  const Tempo& tempo() const { return tempo_; }
  void set_unit(Unit unit);
  /// What is out of reach is brought within it: 10 to 999 beats a minute, 1 to 32 in a bar.
  void set_tempo(Tempo tempo);
  /// Of what is looked at; its samples are counted.
  void set_rate(double hz);

  /// "1:02.35", "2 992 800", "17 · 3.48": bar 17, beat 3 and 48 hundredths.
  QString text(double seconds, int decimals = 2) const;
  /// Of a tick, with no more digits than it has.
  QString tick(double seconds) const;
  /// The least round step between ticks that is no shorter.
  double step(double wanted_s) const;
  /// A place that ticks are counted from.
  double origin_s() const { return unit_ == Unit::beats ? tempo_.first_beat_s : 0; }

 signals:
  void changed();

 private:
  double beat_s() const { return 60 / tempo_.bpm; }
  QString in_bars(double seconds, int decimals) const;
  Unit unit_ = Unit::time;
  Tempo tempo_;
  double rate_hz_ = 48000;
};

inline QString position(double seconds, int decimals = 2) { return Positions::instance().text(seconds, decimals); }

}  // namespace heathmist::app
