#include "app/model/workspace.hpp"

#include <QFileInfo>
#include <QSettings>

#include "app/theme/theme.hpp"
#include "app/widgets/saving.hpp"
#include "core/audio/cache.hpp"
#include "core/audio/fingerprint.hpp"
#include "core/bench/armed.hpp"
#include "core/bench/versions.hpp"
#include "core/engines/engine.hpp"
#include "core/printable.hpp"

namespace heathmist::app {

namespace {

constexpr int soon_ms = 25, usual_cache_mb = 256;
constexpr int merge_hold = 1;  // nudges of one trial in a row are one step of undo: odd numbers

QString facts_words(const TrialSummary& s) {
  const QString dot = QString::fromUtf8(" · ");
  QString words = clock(s.master_s, 0) + dot + khz(s.master_rate_hz) + " kHz";
  if (s.master_bits > 0) words += dot + QString::number(s.master_bits) + (s.master_real ? " bit float" : " bit");
  if (s.master_lufs) words += dot + number(*s.master_lufs, 1) + " LUFS";
  return words;
}

FileRef ref_of(const QString& file) {
  const std::filesystem::path path = QFileInfo(file).absoluteFilePath().toStdString();
  return {path, {}};  // its mark is read by the way
}

}  // namespace

Workspace::Workspace(QObject* parent) : QObject(parent) {
  offer_engine_stage();
  set_cache_limit(QSettings().value("store/cache_mb", usual_cache_mb).toULongLong() << 20);
  with_files("cache", [](const Tell&) { sweep_cache(); });
  rows_timer_.setSingleShot(true);
  rows_timer_.setInterval(soon_ms);
  connect(&rows_timer_, &QTimer::timeout, this, [this] {
    emit rows_changed();
    if (!results_.is_busy()) request_rest();
  });
  connect(&model_, &BenchModel::changed, this, [this] {
    refresh();
    request_current();
  });
  connect(&results_, &TrialResults::progressed, this, [this](const QString& id, double fraction) {
    const Trial* trial = model_.bench().trial(id.toStdString());
    const bool shown = id.toStdString() == current_ && current_result();
    if (shown)
      emit explaining(std::max(0.0, 2 * fraction - 1));
    else if (trial)
      emit progressed(
          fraction < 0.5
              ? tr("Laying %1 on its master, %2 %")
                    .arg(QString::fromStdString(title_of(*trial)))
                    .arg(int(200 * fraction))
              : tr("Explaining %1, %2 %").arg(QString::fromStdString(title_of(*trial))).arg(int(200 * fraction - 100)),
          fraction);
  });
  connect(&results_, &TrialResults::finished, this, [this](const QString& id) {
    const auto result = results_.result(id.toStdString());
    const auto& bench = model_.bench();
    const Trial* trial = bench.trial(id.toStdString());
    if (!result || !trial || !(result->spec == *spec_of(trial->id))) return;  // wanted otherwise meanwhile
    take(*result);
    results_.result(current_);  // which is in use, and let go last
    emit rows_changed();
    if (trial->id == current_) emit trial_ready(result);
    if (!result->why) return;  // its explanation is still to come
    with_files({}, [audio = bench.master_of(trial->id)->audio, of = *trial, result,
                    summary = *state(trial->id).summary](const Tell&) {
      // of what the files held when they were measured: one that was changed meanwhile keeps nothing
      if (fingerprint(audio.file) == result->master_print &&
          (of.chain ? chain_fingerprint(*of.chain) : fingerprint(of.ret.file)) == result->ret_print)
        keep_summary(audio, of, summary);
    });
  });
  connect(&watch_, &FileWatch::settled, this, [this](const QString& file) { look_for_changes({file.toStdString()}); });
  connect(&results_, &TrialResults::rested, this, [this] {
    request_rest();
    if (!results_.is_busy()) emit idle();
  });
  connect(&results_, &TrialResults::failed, this, [this](const QString& id, const QString& sentence) {
    state(id.toStdString()).failure = sentence;
    state(id.toStdString()).disarmed = is_disarmed(id.toStdString());
    state(id.toStdString()).running = false;
    emit rows_changed();
    if (id.toStdString() == current_) emit trial_failed(sentence);
  });
  connect(&results_, &TrialResults::cancelled, this, [this](const QString& id) {
    state(id.toStdString()).running = false;
    emit rows_changed();
    if (id.toStdString() == current_ && !current_result())
      emit trial_failed(tr("Stopped before it was done. Choose the trial again to measure it."));
  });
}

std::optional<TrialSpec> Workspace::spec_of(const std::string& trial_id) const {
  const Trial* trial = model_.bench().trial(trial_id);
  return trial ? std::optional(spec_of(*model_.bench().master_of(trial_id), *trial)) : std::nullopt;
}

TrialSpec Workspace::spec_of(const Master& master, const Trial& trial) const {
  TrialSpec spec{trial.id,    master.audio.file,        trial.ret.file, trial.hold, model_.bench().floor,
                 trial.chain, version_of(master, trial)};
  if (!spec.floor) return spec;
  const auto as_it_is = [this](FileRef& ref) {  // told by its version: a fingerprint may be learned late
    const auto it = versions_.find(ref.file.native());
    ref.fingerprint = std::to_string(it == versions_.end() ? 0 : it->second);
  };
  as_it_is(spec.floor->recording);
  if (spec.floor->master) as_it_is(*spec.floor->master);
  return spec;
}

void Workspace::take(const TrialResult& result) {
  auto summary = summary_of(*result.report);
  for (const StageReport& s : result.stages)
    if (s.encoded_bytes) summary.encoded_bytes = s.encoded_bytes, summary.bit_rate_bps = s.bit_rate_bps;
  RowState& row = state(result.spec.id);
  row.summary = summary, row.failure.clear(), row.running = false;
  measured_as_[result.spec.id] = result.spec;
  state(model_.bench().master_of(result.spec.id)->id).facts = facts_words(summary);
}

void Workspace::select(std::optional<Range> seconds) {
  if (selection_ == seconds) return;
  selection_ = seconds;
  emit selection_changed();
}

void Workspace::select_band(std::optional<Range> hz) {
  if (band_ == hz) return;
  band_ = hz;
  emit band_changed();
}

/// Numbers of a trial that is now held, made or pointed at otherwise, by whatever way, are no longer its own.
void Workspace::drop_what_is_out_of_date() {
  const auto is_of = [this](const TrialSpec& spec, const Master& m,
                            const Trial& t) {  // the floor moves no number of a row
    return spec.master == m.audio.file && spec.ret == t.ret.file && spec.hold == t.hold && spec.chain == t.chain &&
           spec.version == version_of(m, t);
  };
  for (const Master& m : model_.bench().masters)
    for (const Trial& t : m.trials) {
      const auto measured = measured_as_.find(t.id);
      if (measured == measured_as_.end() || is_of(measured->second, m, t)) continue;
      measured_as_.erase(measured);
      RowState& row = state(t.id);
      row.summary.reset(), row.failure.clear(), row.looked_up = false;
    }
}

/// The stages of a trial's chain that may not run here, and without which it cannot be made.
std::vector<Stage> Workspace::disarmed_of(const std::string& trial_id) const {
  std::vector<Stage> found;
  const Trial* trial = model_.bench().trial(trial_id);
  if (!trial || !trial->chain) return found;
  for (const Stage* stage : disarmed_stages(*trial->chain, grant_here()))
    if (capability_of(*stage) != Capability::write_file) found.push_back(*stage);
  return found;
}

bool Workspace::is_disarmed(const std::string& trial_id) const { return !disarmed_of(trial_id).empty(); }

QString Workspace::words_of_disarmed(const std::string& trial_id) const {
  QStringList lines;
  for (const Stage& stage : disarmed_of(trial_id))
    lines << tr("It would %1").arg(QString::fromStdString(printable(deed_of(stage))));
  return lines.join("\n");
}

void Workspace::retry_failed() {
  stopped_ = false;
  for (const Master& m : model_.bench().masters)
    for (const Trial& t : m.trials) {
      state(t.id).failure.clear();
      state(t.id).disarmed = false;
      if (t.chain && !disarmed_stages(*t.chain, grant_nothing).empty()) results_.forget(t.id);  // it may do more now
    }
  emit rows_changed();
  request_current();
  if (!results_.is_busy()) request_rest();
}

void Workspace::refresh() {
  const auto all = heathmist::files_of(model_.bench());
  set_files_in_use(all);
  watch_.watch(all);
  drop_what_is_out_of_date();
  look_up_what_is_new_beside();
  for (const Master& m : model_.bench().masters) {
    if (auto& seen = seen_[m.id]; !(seen == m.audio)) look_up(m.id, seen = m.audio);
    for (const Trial& t : m.trials) {
      if (auto& seen = seen_[t.id]; !t.chain && !(seen == t.ret)) look_up(t.id, seen = t.ret);
      if (!state(t.id).summary) look_up(m, t);
      if (state(t.id).summary) state(m.id).facts = facts_words(*state(t.id).summary);
    }
  }
  emit rows_changed();
}

/// What an earlier run found out about the trial.
void Workspace::look_up(const Master& master, const Trial& trial) {
  with_files("trial " + trial.id,
             [this, owner = master.id, audio = master.audio, trial, spec = spec_of(master, trial)](const Tell& tell) {
               tell([this, id = trial.id, owner, spec, kept = kept_summary(audio, trial)] {
                 const auto now = spec_of(id);
                 if (!now || !(*now == spec)) return;
                 auto& row = state(id);
                 row.looked_up = true;
                 if (kept && !row.summary) {
                   row.summary = kept, measured_as_[id] = spec;
                   state(owner).facts = facts_words(*kept);
                 }
                 tell_rows_soon();
               });
             });
}

QStringList Workspace::open(const QString& bench_file) {
  std::vector<std::string> notes;
  const auto loaded = load_bench(bench_file.toStdString(), &notes);  // refuses before anything is let go
  results_.forget_all();
  states_.clear();
  seen_.clear();
  measured_as_.clear();
  prints_.clear();
  versions_.clear();
  current_.clear();
  for (const Master& m : loaded.masters)
    if (!m.trials.empty()) {
      current_ = m.trials.front().id;
      break;
    }
  model_.open(bench_file, loaded);
  if (current_.empty()) emit nothing_selected();
  QStringList told;
  for (const auto& note : notes) told << QString::fromStdString(note);
  return told;
}

void Workspace::add_files(const QStringList& files) {
  const Master* under = model_.bench().master(current_);
  if (!under) under = model_.bench().master_of(current_);
  const Drop drop = sort_drop(files, under != nullptr);
  const std::string owner = under ? under->id : std::string();
  std::string first;
  model_.edit(tr("Add files"), [&](Bench& bench) {
    Master* master = drop.master.isEmpty() ? bench.master(owner) : nullptr;
    if (!master) {
      bench.masters.push_back({fresh_id(), title_of(drop.master).toStdString(), ref_of(drop.master), {}});
      master = &bench.masters.back();
    }
    for (const QString& file : drop.returns) {
      master->trials.push_back(
          {fresh_id(), title_of(file).toStdString(), ref_of(file), {}, {}, heathmist::version_of(*master)});
      if (first.empty()) first = master->trials.back().id;
    }
    if (first.empty()) first = master->id;
  });
  look_at(first);
  emit rows_changed();
}

void Workspace::look_at(const std::string& id) {
  current_ = id;
  stopped_ = false;
  emit looked_at();
  const auto& bench = model_.bench();
  if (const Trial* trial = bench.trial(id)) look_for_changes(files_of(*bench.master_of(id), *trial));
  request_current();
}

std::shared_ptr<const TrialResult> Workspace::result_of(const std::string& trial_id) const {
  const auto done = results_.result(trial_id);
  const auto spec = spec_of(trial_id);
  const bool same_files = done && spec && done->spec.version == spec->version && done->spec.master == spec->master &&
                          done->spec.ret == spec->ret;
  return same_files ? done : nullptr;
}

std::shared_ptr<const TrialResult> Workspace::exact_result_of(const std::string& trial_id) const {
  const auto done = results_.result(trial_id);
  return done && spec_of(trial_id) == done->spec ? done : nullptr;
}

void Workspace::measure(const std::string& trial_id) {
  if (const auto spec = spec_of(trial_id)) results_.request(*spec, false);
}

void Workspace::request_current() {
  const auto& bench = model_.bench();
  if (const auto spec = spec_of(current_)) {
    const auto done = results_.result(current_);
    if (done && done->spec == *spec) {
      emit trial_ready(done);
      if (done->why) return;
    }
    state(current_).running = true;
    results_.request(*spec, true);
    if (!current_result()) emit measuring(name_of(current_));
  } else if (const Master* master = bench.master(current_)) {
    emit master_selected(QString::fromStdString(master->name));
  } else {
    emit nothing_selected();
  }
}

void Workspace::tell_rows_soon() {
  if (!rows_timer_.isActive()) rows_timer_.start();
}

void Workspace::request_rest() {
  if (stopped_) return;
  for (const Master& m : model_.bench().masters)
    for (const Trial& t : m.trials)
      if (const auto& row = state(t.id);
          row.looked_up && !row.summary && row.failure.isEmpty() && row.file != FileState::missing) {
        const TrialSpec spec = spec_of(m, t);
        const auto done = results_.result(t.id);
        if (!done || !(done->spec == spec) || !done->why) return results_.request(spec, false);
        take(*done);
        emit rows_changed();
      }
}

FitHold Workspace::current_hold() const {
  const Trial* trial = model_.bench().trial(current_);
  return trial ? trial->hold : FitHold{};
}

QString Workspace::name_of(const std::string& id) const {
  const auto& bench = model_.bench();
  if (const Master* m = bench.master(id)) return QString::fromStdString(m->name);
  const Trial* t = bench.trial(id);
  return t ? QString::fromStdString(title_of(*t)) : QString();
}

void Workspace::hold(const FitHold& held, const QString& what) {
  const std::string id = current_;
  state(id).summary.reset();
  model_.edit(
      what,
      [&](Bench& bench) {
        if (Trial* trial = bench.trial(id)) trial->hold = held;
      },
      merge_hold + 2 * int(std::hash<std::string>()(id) & 0xffffff));
}

void Workspace::remove(const std::string& id) {
  std::string next;
  if (const Master* owner = model_.bench().master_of(id))
    for (const Trial& t : owner->trials)
      if (t.id != id) next = t.id;
  if (id == current_) current_ = next;
  model_.edit(tr("Remove"), [&](Bench& bench) {
    std::erase_if(bench.masters, [&](const Master& m) { return m.id == id; });
    for (Master& m : bench.masters) std::erase_if(m.trials, [&](const Trial& t) { return t.id == id; });
  });
}

void Workspace::rename(const std::string& id, const QString& name) {
  model_.edit(tr("Rename"), [&](Bench& bench) {
    if (Master* m = bench.master(id)) m->name = name.toStdString();
    if (Trial* t = bench.trial(id)) t->name = name.toStdString();
  });
}

void Workspace::point_anew(const std::string& id, const QString& file) {
  for (const Master& m : model_.bench().masters)
    for (const Trial& t : m.trials)
      if (m.id == id || t.id == id) state(t.id).failure.clear();
  look_for_changes({ref_of(file).file});  // the same path may hold another take
  model_.edit(tr("Point anew"), [&](Bench& bench) {
    if (Master* m = bench.master(id)) m->audio = ref_of(file);
    if (Trial* t = bench.trial(id)) t->ret = ref_of(file), t->version = heathmist::version_of(*bench.master_of(id));
  });
}

bool Workspace::new_version(const std::string& master_id, const QString& file) {
  const Master* master = bench().master(master_id);
  const FileRef now = ref_of(file);
  const auto is_it = [&](const FileRef& ref) { return same_file(ref.file, now.file); };
  if (!master || is_it(master->audio) || std::ranges::any_of(master->earlier, is_it)) return false;
  std::string trial;
  model_.edit(tr("A new version of a master"),
              [&](Bench& bench) { trial = take_new_version(*bench.master(master_id), now); });
  look_at(trial);
  return true;
}

std::vector<Finding> Workspace::current_findings() const {
  const auto result = current_result();
  if (!result || !result->report) return {};
  std::vector<Finding> findings = result->report->findings;
  const Trial* trial = bench().trial(current_);
  if (const auto old = trial ? finding_of_version(*bench().master_of(current_), *trial) : std::nullopt)
    findings.insert(findings.begin() + (findings.empty() ? 0 : 1), *old);  // behind the verdict
  return findings;
}

void Workspace::set_floor(const std::optional<Floor>& floor) {
  model_.edit(floor ? tr("Set the floor of the route") : tr("Let the floor go"),
              [&](Bench& bench) { bench.floor = floor; });
}

void Workspace::floor_from(const std::string& trial_id) {
  const Trial* trial = model_.bench().trial(trial_id);
  const Master* owner = model_.bench().master_of(trial_id);
  if (trial && owner && !trial->chain) set_floor(Floor{trial->name, trial->ret, owner->audio});
}

void Workspace::exchange(const std::string& trial_id) {
  model_.edit(tr("Exchange master and return"), [&](Bench& bench) {
    Master* owner = bench.master_of(trial_id);
    if (!owner || bench.trial(trial_id)->chain) return;
    Trial trial = *bench.trial(trial_id);
    std::erase_if(owner->trials, [&](const Trial& t) { return t.id == trial_id; });
    Master turned{fresh_id(), trial.name, trial.ret, {}};
    trial.name = owner->name;
    trial.ret = owner->audio;
    trial.hold = {};
    trial.id = fresh_id();
    current_ = trial.id;
    turned.trials.push_back(trial);
    if (owner->trials.empty())
      *owner = turned;
    else
      bench.masters.push_back(turned);
  });
}

void Workspace::cancel() {
  stopped_ = true;
  results_.cancel();
}

}  // namespace heathmist::app
