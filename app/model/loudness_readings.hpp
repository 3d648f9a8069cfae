// Measures every master and return of a bench by itself, off the interface thread; what was measured before is read
// from the cache.
#pragma once
#include <QTimer>

#include "app/model/long_work.hpp"
#include "core/bench/document.hpp"
#include "core/delivery/measured.hpp"

namespace heathmist::app {

/// A stretch of a master that was named as its dialogue: what long programmes are anchored in.
struct Dialogue {
  double from_s = 0, to_s = 0, lufs = 0;
};

struct LoudnessRow {
  std::string id;  ///< of the master or the trial
  QString master, name;
  bool is_master = true;
  std::filesystem::path file;    ///< of the return where there is one, else of the master
  std::optional<Chain> chain{};  ///< the master's file goes through it
  std::shared_ptr<const Measured> measured{};
  QString failure{};
  std::optional<Dialogue> dialogue{};
};

class LoudnessReadings : public QObject {
  Q_OBJECT

 public:
  explicit LoudnessReadings(Queue& queue, QObject* parent = nullptr);
  /// Takes up what is on the bench; what was measured stays.
  void set_bench(const Bench& bench);
  /// What was measured of it is not what it holds any more.
  void forget(const std::filesystem::path& file);
  /// Measures what has no numbers yet.
  void run();
  /// What failed is measured again at the next run().
  void retry_failed();
  void cancel() { work_.cancel(); }
  bool is_running() const { return work_.is_running(); }
  const std::vector<LoudnessRow>& rows() const { return rows_; }
  const LoudnessRow* row(const std::string& id) const;
  /// None: it has none any more.
  void set_dialogue(const std::string& id, std::optional<Dialogue> dialogue);
  size_t waiting() const;  ///< rows without numbers
  std::optional<double> left_s() const { return work_.left_s(fraction_); }

 signals:
  void rows_changed();               ///< other rows
  void measured();                   ///< some rows have got their numbers; not oftener than ten times a second
  void rested(const QString& note);  ///< nothing runs any more

 private:
  void take(size_t place, std::shared_ptr<const Measured> measured, const QString& failure);
  std::vector<LoudnessRow> rows_;
  LongWork work_;
  QTimer tell_;
  double fraction_ = 0;
};

}  // namespace heathmist::app
