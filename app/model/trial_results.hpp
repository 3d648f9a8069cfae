// What came of the trials: results by trial, and the requests for those that are wanted. One trial runs at a time, the
// one that is looked at first.
#pragma once
#include "app/model/queue.hpp"
#include "core/bench/analysis.hpp"

namespace heathmist::app {

/// What a trial needs to be run.
struct TrialSpec {
  std::string id;
  std::filesystem::path master, ret;
  FitHold hold;
  std::optional<Floor> floor;
  std::optional<Chain> chain{};  ///< makes the return in place of the file
  int version = 0;               ///< of what the files hold: another one, where one was seen to change
  bool operator==(const TrialSpec&) const = default;
};

/// A trial that has been run, for what it is.
struct TrialResult : AnalysisResult {
  TrialSpec spec;
};

/// A narrowed look at a trial that was run: some seconds, another resolution, a nudged fit.
struct RegionRequest {
  std::shared_ptr<const TrialResult> of;
  Fit fit;
  SumsOptions options;
  bool nudge = false;  ///< only the level is wanted, soon
};

class TrialResults : public QObject {
  Q_OBJECT

 public:
  explicit TrialResults(Queue& queue, QObject* parent = nullptr);

  /// Wants a trial, before all others where it is looked at. One that is on its way or has a result with the same spec
  /// is not run again.
  void request(const TrialSpec& spec, bool is_looked_at);
  /// Wants a look; it takes the place of the look before.
  void look(const RegionRequest& look);
  /// Stops what runs and forgets what is wanted.
  void cancel();
  void forget_all();
  void forget(const std::string& id);  ///< its result, and what is on its way: it is run anew when it is asked for
  bool is_busy() const { return !wanted_.empty() || look_ != 0; }

  /// Nothing where it was not run, or was let go for others since: it is asked for again then.
  std::shared_ptr<const TrialResult> result(const std::string& id) const;
  size_t bytes() const { return results_.bytes(); }  ///< what the results weigh that are held
  int64_t scratch_bytes() const;                     ///< what their sound takes on the disk, decoded or made

 signals:
  void progressed(const QString& id, double fraction);  ///< the null: 0 .. 0.5, the explanation: 0.5 .. 1
  void finished(const QString& id);                     ///< twice: the null, and its explanation
  void failed(const QString& id, const QString& sentence);
  void cancelled(const QString& id);  ///< and not because it is wanted otherwise, or later
  void rested();                      ///< nothing runs and nothing waits any more
  void looked(const heathmist::app::RegionRequest& look, std::shared_ptr<const heathmist::ResidualSums> sums);

 private:
  struct Wanted {
    TrialSpec spec;
    int64_t serial;  // of the request: what is told of an earlier one comes too late
    Queue::Token token;
    bool is_cancelled = false;
  };
  bool is_of_the_latest(const std::string& id, int64_t serial) const;
  void run(const TrialSpec& spec, int64_t serial, const Job& job, const Tell& tell);
  AnalysisResult explained_of(AnalysisInput input, const AnalysisResult& null, const Job& job);
  void keep(std::shared_ptr<const TrialResult> result);
  void free_disk();
  void end(const std::string& id, int64_t serial, Outcome outcome, const QString& sentence);
  void rest();

  Queue& queue_;
  std::map<std::string, Wanted> wanted_;                       // by id
  int64_t requests_ = 0;                                       // so far: the last one's serial
  Queue::Token look_ = 0;                                      // of the look that is on its way
  mutable Store<std::shared_ptr<const TrialResult>> results_;  // by id, newest first
  const int64_t most_scratch_bytes_;
  Analysis analysis_;  // of the trial that runs
};

}  // namespace heathmist::app
