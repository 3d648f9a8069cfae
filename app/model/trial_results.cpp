#include "app/model/trial_results.hpp"

#include <QSettings>
#include <set>

#include "core/bench/armed.hpp"

namespace heathmist::app {

namespace {

/// Of results: those of the rows, and those of earlier states that undo leads back to. They share what is the same.
size_t most_result_bytes() {
  const auto usual = qulonglong(Analysis::usual_bytes >> 20);
  return size_t(QSettings().value("store/memory_mb", usual).toULongLong()) << 20;
}

constexpr size_t least_held = 2;  // the one that is looked at, and the one that came last

/// On the disk, by sound that was decoded or made.
int64_t most_scratch() {
  constexpr qulonglong usual_mb = 8192;
  return int64_t(QSettings().value("store/scratch_mb", usual_mb).toULongLong()) << 20;
}

/// The sums of a look, or nothing: a look that fails leaves what is on screen.
std::shared_ptr<const ResidualSums> sums_of(const RegionRequest& look, const Job& job) {
  try {
    Fit fit = look.fit;
    const Clip &master = *look.of->pair.master, &ret = *look.of->pair.ret;
    set_overlap(fit, master.format().frames, ret.format().frames);
    return std::make_shared<ResidualSums>(residual_sums(master, ret, fit, look.options, job));
  } catch (const Cancelled&) {
    throw;
  } catch (const std::exception&) {
    return nullptr;
  }
}

}  // namespace

TrialResults::TrialResults(Queue& queue, QObject* parent)
    : QObject(parent),
      queue_(queue),
      results_(most_result_bytes(), least_held),
      most_scratch_bytes_(most_scratch()),
      analysis_(most_result_bytes()) {}

void TrialResults::request(const TrialSpec& spec, bool is_looked_at) {
  if (const auto done = result(spec.id); done && done->spec == spec && done->why) return;
  if (is_looked_at)
    for (const auto& [id, other] : wanted_)
      if (id != spec.id) queue_.set_priority(other.token, Priority::background);
  const Priority priority = is_looked_at ? Priority::shown : Priority::background;
  if (const auto wanted = wanted_.find(spec.id); wanted != wanted_.end()) {
    if (wanted->second.spec == spec && !wanted->second.is_cancelled) {
      if (is_looked_at) queue_.set_priority(wanted->second.token, priority);
      return;
    }
    queue_.drop(wanted->second.token);
  }
  const int64_t serial = ++requests_;
  Request request{priority, [this, spec, serial](const Job& job, const Tell& tell) { run(spec, serial, job, tell); }};
  request.group = "trials";
  request.progressed = [this, id = QString::fromStdString(spec.id)](double fraction) { emit progressed(id, fraction); };
  request.ended = [this, id = spec.id, serial](Outcome outcome, const QString& sentence) {
    end(id, serial, outcome, sentence);
  };
  wanted_[spec.id] = {spec, serial, queue_.post(std::move(request))};
}

void TrialResults::look(const RegionRequest& wanted) {
  Request request{Priority::live, [this, wanted](const Job& job, const Tell& tell) {
                    if (const auto sums = sums_of(wanted, job))
                      tell([this, wanted, sums] { emit looked(wanted, sums); });
                  }};
  request.key = "look", request.stopped_by_later = true;
  request.group = "look";
  request.ended = [this](Outcome outcome, const QString&) {
    if (outcome == Outcome::superseded) return;
    look_ = 0;
    rest();
  };
  look_ = queue_.post(std::move(request));
}

void TrialResults::cancel() {
  for (auto& [id, wanted] : wanted_) queue_.cancel(wanted.token), wanted.is_cancelled = true;
  if (look_) queue_.drop(std::exchange(look_, 0));
}

void TrialResults::forget_all() {
  for (const auto& [id, wanted] : wanted_) queue_.drop(wanted.token);
  wanted_.clear();
  if (look_) queue_.drop(std::exchange(look_, 0));
  results_.clear();
}

void TrialResults::forget(const std::string& id) {
  results_.drop(id);
  const auto wanted = wanted_.find(id);
  if (wanted == wanted_.end()) return;
  queue_.drop(wanted->second.token);
  wanted_.erase(wanted);
}

std::shared_ptr<const TrialResult> TrialResults::result(const std::string& id) const {
  return results_.find(id).value_or(nullptr);
}

/// On a thread of the queue.
void TrialResults::run(const TrialSpec& spec, int64_t serial, const Job& job, const Tell& tell) {
  const auto publish = [&](const AnalysisResult& what) {
    tell([this, serial, result = std::make_shared<const TrialResult>(TrialResult{what, spec})] {
      if (is_of_the_latest(result->spec.id, serial)) keep(result);
    });
  };
  const AnalysisInput input{spec.master, spec.ret, spec.chain, spec.hold, {}, spec.floor};
  const auto null = analysis_.null(input, grant_here(), job.part(0, 0.5));
  publish(null);
  publish(explained_of(input, null, job.part(0.5, 1)));
}

/// A floor that is gone takes nothing away from the rest.
AnalysisResult TrialResults::explained_of(AnalysisInput input, const AnalysisResult& null, const Job& job) {
  try {
    return analysis_.explained(input, null, job);
  } catch (const InputError&) {
    if (!input.floor) throw;
    input.floor.reset();
    return analysis_.explained(input, null, job);
  }
}

void TrialResults::keep(std::shared_ptr<const TrialResult> result) {
  const std::string id = result->spec.id;
  const size_t bytes = bytes_of(*result->report) + (result->why ? bytes_of(*result->why) : 0);
  results_.keep(id, std::move(result), bytes);
  free_disk();
  emit finished(QString::fromStdString(id));
}

/// Trials of one master share its sound.
int64_t TrialResults::scratch_bytes() const {
  std::set<const Clip*> clips;
  results_.each([&](const auto& r) {
    for (const auto* clip : {&r->master, &r->ret, &r->pair.master, &r->pair.ret}) clips.insert(clip->get());
  });
  int64_t bytes = 0;
  for (const Clip* clip : clips) bytes += clip ? clip->scratch_bytes() : 0;
  return bytes;
}

/// The newest results stay, however long they are.
void TrialResults::free_disk() {
  while (results_.size() > least_held && scratch_bytes() > most_scratch_bytes_) results_.drop_oldest();
}

bool TrialResults::is_of_the_latest(const std::string& id, int64_t serial) const {
  const auto wanted = wanted_.find(id);
  return wanted != wanted_.end() && wanted->second.serial == serial;
}

void TrialResults::end(const std::string& id, int64_t serial, Outcome outcome, const QString& sentence) {
  if (!is_of_the_latest(id, serial)) return;
  wanted_.erase(id);
  if (outcome == Outcome::failed) emit failed(QString::fromStdString(id), sentence);
  if (outcome == Outcome::cancelled) emit cancelled(QString::fromStdString(id));
  rest();
}

void TrialResults::rest() {
  if (!is_busy()) emit rested();
}

}  // namespace heathmist::app
