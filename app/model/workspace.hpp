// The workspace: the bench, the trials that run, and which one is looked at. All the window's logic that is no widget.
#pragma once
#include <set>

#include "app/model/bench_model.hpp"
#include "app/model/file_watch.hpp"
#include "app/model/row_state.hpp"
#include "app/model/trial_results.hpp"

namespace heathmist::app {

/// From, to: seconds of the master, or Hz.
using Range = std::pair<double, double>;

class Workspace : public QObject {
  Q_OBJECT

 public:
  explicit Workspace(QObject* parent = nullptr);
  BenchModel& model() { return model_; }
  const Bench& bench() const { return model_.bench(); }
  TrialResults& results() { return results_; }
  Queue& queue() { return queue_; }
  const std::map<std::string, RowState>& states() const { return states_; }

  /// Takes files as they were dropped: a master and its returns; the null of the first return is then looked at.
  void add_files(const QStringList& files);
  /// What was mended on the way, a sentence each. Throws InputError.
  QStringList open(const QString& bench_file);
  void look_at(const std::string& id);
  const std::string& current() const { return current_; }
  /// As it was measured last, of what the files hold now; nothing where they have changed since.
  std::shared_ptr<const TrialResult> current_result() const { return result_of(current_); }
  std::shared_ptr<const TrialResult> result_of(const std::string& trial_id) const;
  /// The same, but only held and made as the bench has it now.
  std::shared_ptr<const TrialResult> exact_result_of(const std::string& trial_id) const;
  /// What there is to say of it: as it was measured, and whether it is out of date.
  std::vector<Finding> current_findings() const;
  void measure(const std::string& trial_id);  ///< beside what is looked at; results() tells when it is done
  FitHold current_hold() const;
  /// What of the trial is selected, in time and in frequency: every page and the listening follow it. None: all.
  void select(std::optional<Range> seconds);
  void select_band(std::optional<Range> hz);
  void go_to(double at_s) { emit went_to(at_s); }  ///< every page and the listening, to a place of the trial
  const std::optional<Range>& selection() const { return selection_; }
  const std::optional<Range>& band() const { return band_; }
  QString name_of(const std::string& id) const;
  void hold(const FitHold& hold, const QString& what);
  void remove(const std::string& id);
  void rename(const std::string& id, const QString& name);
  void point_anew(const std::string& id, const QString& file);
  /// The master was exported anew as this file; the null against the version before is looked at (versions.hpp).
  /// False: it is that file, or was before.
  bool new_version(const std::string& master_id, const QString& file);
  void set_floor(const std::optional<Floor>& floor);
  void floor_from(const std::string& trial_id);  ///< what that trial leaves is the floor of the route
  void exchange(const std::string& trial_id);    ///< master and return change places
  void cancel();
  bool is_disarmed(const std::string& trial_id) const;           ///< its chain holds a stage that may not run here
  QString words_of_disarmed(const std::string& trial_id) const;  ///< what its stages would do, a line each
  void retry_failed();   ///< what failed may go well now: a stage was armed, a file is back
  void look_at_files();  ///< are they all still there, and what they were?

  /// Chains (workspace_chains.cpp). The chain of the trial that is looked at; none: its return is a file.
  std::optional<Chain> current_chain() const;
  void set_chain(const Chain& chain, const QString& what);
  /// A new trial of the master that is looked at, its return made by a chain.
  void make_return(const Chain& chain);
  /// Trials of a master, one for each chain that it has not been through yet, in one step; the first is looked at.
  void make_returns(const std::string& master_id, const std::vector<Chain>& chains);
  /// Looks at the trial of a master with a chain; makes it where there is none.
  void look_through(const std::string& master_id, const Chain& chain);
  /// Looks at the trial of a master with a file as its return; makes it where there is none.
  void look_at_pair(const std::string& master_id, const QString& name, const std::filesystem::path& file);
  /// A trial for each master and return, those that are not there yet, in one step; the first is looked at.
  void take_pairs(const std::vector<std::pair<std::filesystem::path, std::filesystem::path>>& pairs);
  void run_on_all(const Chain& chain);  ///< a trial of every master that has none with this chain
  void compare_generations();           ///< a trial for each number of rounds up to the current one's, 5 at the least
  void keep_chain(const Chain& chain);  ///< on the bench, under its name
  /// False: another kept chain has that name.
  bool rename_kept_chain(const Chain& kept, const std::string& name);
  void drop_kept_chain(const Chain& kept);
  /// The bench's master of this file; a new one where there is none. Its id.
  std::string master_of_file(const QString& name, const std::filesystem::path& file);
  std::string current_master() const;  ///< id; empty: none
  void set_album(const std::string& master_id, const std::string& album);
  void move_master(int by);  ///< the one that is looked at, up or down the bench

 signals:
  void rows_changed();
  void looked_at();  ///< another row, or the same one anew
  void trial_ready(std::shared_ptr<const heathmist::app::TrialResult> result);
  void trial_failed(const QString& sentence);
  void measuring(const QString& name);  ///< the trial that is looked at has no result yet
  void nothing_selected();
  void selection_changed();  ///< in time
  void band_changed();
  void went_to(double at_s);
  void master_selected(const QString& name);
  void progressed(const QString& what, double fraction);
  void explaining(double fraction);  ///< the trial that is looked at has its null, and gets its explanation
  void idle();
  /// While the bench was open; what hangs on it is measured anew.
  void file_changed(const QString& file, const QString& sentence);

 private:
  void refresh();
  std::vector<Stage> disarmed_of(const std::string& trial_id) const;
  void look_up(const Master& master, const Trial& trial);
  // workspace_files.cpp
  std::vector<std::filesystem::path> files_of(const Master& master, const Trial& trial) const;
  bool is_made_of(const Master& master, const Trial& trial, const std::filesystem::path& file) const;
  int version_of(const Master& master, const Trial& trial) const;
  void with_files(const std::string& key, std::function<void(const Tell& tell)> work);
  void look_up(const std::string& id, const FileRef& ref);
  void look_up_what_is_new_beside();  ///< the trials
  void look_for_changes(const std::vector<std::filesystem::path>& files);
  void take_fingerprint(const std::filesystem::path& file, const std::string& print);
  std::set<std::string> tell_rows_of(const std::filesystem::path& file, bool there, const QString& now);
  void retry_failed_of(const std::filesystem::path& file);
  void drop_what_is_out_of_date();
  void take(const TrialResult& result);
  void request_current();
  void request_rest();
  /// rows_changed() and request_rest() once the hands are free: many rows may be learned of in a row.
  void tell_rows_soon();
  std::optional<TrialSpec> spec_of(const std::string& trial_id) const;
  TrialSpec spec_of(const Master& master, const Trial& trial) const;
  RowState& state(const std::string& id) { return states_[id]; }

  BenchModel model_;
  TrialResults results_{queue_};
  std::map<std::string, RowState> states_;
  std::map<std::string, FileRef> seen_;           // the file of each row as it was last looked at
  std::map<std::string, TrialSpec> measured_as_;  // what each row's summary is of
  std::map<std::string, std::string> prints_;     // fingerprints of files by path, as they were last looked at
  std::map<std::string, int> versions_;           // how often each was seen to change
  std::string current_;
  std::optional<Range> selection_, band_;
  QTimer rows_timer_;
  bool stopped_ = false;  // measuring the rest was cancelled
  FileWatch watch_;
  Queue queue_;  // last: its work may speak of all above
};

}  // namespace heathmist::app
