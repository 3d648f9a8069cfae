// Runs null tests off the interface thread: one at a time, the one that is looked at first.
#pragma once
#include <QObject>
#include <condition_variable>
#include <deque>
#include <thread>

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

/// A narrowed look at the trial that was run last: some seconds, another resolution, a nudged fit.
struct RegionRequest {
  std::shared_ptr<const TrialResult> of;
  Fit fit;
  SumsOptions options;
  bool nudge = false;  ///< only the level is wanted, soon
};

class TrialRunner : public QObject {
  Q_OBJECT

 public:
  explicit TrialRunner(QObject* parent = nullptr);
  ~TrialRunner() override;

  /// Queues a trial, before all others where `urgent`. One that is queued or has a result with the same spec is not run
  /// again.
  void request(const TrialSpec& spec, bool urgent);
  /// Queues a look; it takes the place of any look still waiting.
  void look(const RegionRequest& look);
  /// Stops the trial that is running and forgets what is queued.
  void cancel();
  void forget_all();
  void forget(const std::string& id);  ///< its result: it is run anew when it is asked for
  bool is_busy() const;

  /// Nothing where it was not run, or was let go for others since: it is asked for again then.
  std::shared_ptr<const TrialResult> result(const std::string& id) const;
  /// What the results weigh that are held.
  size_t bytes() const;

 signals:
  void progressed(const QString& id, double fraction);  ///< the null: 0 .. 0.5, the explanation: 0.5 .. 1
  void finished(const QString& id);                     ///< twice: the null, and its explanation
  void failed(const QString& id, const QString& sentence);
  void cancelled(const QString& id);  ///< and not because it is wanted otherwise, or later
  void rested();                      ///< nothing runs and nothing waits any more
  void looked(const heathmist::app::RegionRequest& look, std::shared_ptr<const heathmist::ResidualSums> sums);

 private:
  void work(std::stop_token stop);
  void work_on_looks(std::stop_token stop);
  bool is_wanted(const std::string& id) const;
  void run_trial(const TrialSpec& spec, std::stop_token stop);
  AnalysisResult explained_of(AnalysisInput input, const AnalysisResult& null, const Job& job);
  void publish(std::shared_ptr<const TrialResult> result);
  void run_look(const RegionRequest& look, std::stop_token stop);

  mutable std::mutex lock_;
  std::condition_variable_any wake_, wake_looks_;
  std::deque<TrialSpec> queue_;
  std::optional<RegionRequest> look_;
  bool looking_ = false;
  std::stop_source look_stop_;
  std::optional<TrialSpec> running_;
  std::stop_source running_stop_;
  mutable Store<std::shared_ptr<const TrialResult>> results_;  // by id, newest first
  Analysis analysis_;                                          // worker thread only
  std::jthread worker_, looks_worker_;
};

}  // namespace heathmist::app

Q_DECLARE_METATYPE(heathmist::app::RegionRequest)
