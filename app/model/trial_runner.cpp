#include "app/model/trial_runner.hpp"

#include <QElapsedTimer>
#include <QSettings>
#include <algorithm>

#include "core/bench/armed.hpp"

namespace heathmist::app {

namespace {

/// Of results: those of the rows, and those of earlier states that undo leads back to. They share what is the same.
size_t most_bytes() {
  const auto usual = qulonglong(Analysis::usual_bytes >> 20);
  return size_t(QSettings().value("store/memory_mb", usual).toULongLong()) << 20;
}

}  // namespace

TrialRunner::TrialRunner(QObject* parent) : QObject(parent), results_(most_bytes()), analysis_(most_bytes()) {
  qRegisterMetaType<RegionRequest>();
  qRegisterMetaType<std::shared_ptr<const ResidualSums>>();
  worker_ = std::jthread([this](std::stop_token stop) { work(stop); });
  looks_worker_ = std::jthread([this](std::stop_token stop) { work_on_looks(stop); });
}

TrialRunner::~TrialRunner() {
  worker_.request_stop();
  looks_worker_.request_stop();
  {
    std::scoped_lock held(lock_);
    running_stop_.request_stop();
    look_stop_.request_stop();
  }
  wake_.notify_all();
  wake_looks_.notify_all();
}

void TrialRunner::request(const TrialSpec& spec, bool urgent) {
  {
    std::scoped_lock held(lock_);
    if (const auto done = results_.find(spec.id); done && (*done)->spec == spec && (*done)->why) return;
    if (running_ && *running_ == spec && !running_stop_.stop_requested()) return;
    std::erase_if(queue_, [&](const TrialSpec& s) { return s.id == spec.id; });
    if (running_ && running_->id == spec.id) running_stop_.request_stop();  // its values have changed meanwhile
    if (urgent && running_ && running_->id != spec.id &&
        !running_stop_.stop_requested()) {  // what is looked at goes first
      queue_.push_back(*running_);
      running_stop_.request_stop();
    }
    if (urgent)
      queue_.push_front(spec);
    else
      queue_.push_back(spec);
  }
  wake_.notify_all();
}

void TrialRunner::look(const RegionRequest& wanted) {
  {
    std::scoped_lock held(lock_);
    look_ = wanted;
    look_stop_.request_stop();  // the one before it is no longer wanted
  }
  wake_looks_.notify_all();
}

void TrialRunner::cancel() {
  std::scoped_lock held(lock_);
  queue_.clear();
  look_.reset();
  running_stop_.request_stop();
  look_stop_.request_stop();
}

void TrialRunner::forget_all() {
  cancel();
  std::scoped_lock held(lock_);
  results_.clear();
}

void TrialRunner::forget(const std::string& id) {
  std::scoped_lock held(lock_);
  results_.drop(id);
}

bool TrialRunner::is_busy() const {
  std::scoped_lock held(lock_);
  return running_ || look_ || looking_ || !queue_.empty();
}

bool TrialRunner::is_wanted(const std::string& id) const {
  std::scoped_lock held(lock_);
  return std::any_of(queue_.begin(), queue_.end(), [&](const TrialSpec& s) { return s.id == id; });
}

std::shared_ptr<const TrialResult> TrialRunner::result(const std::string& id) const {
  std::scoped_lock held(lock_);
  return results_.find(id).value_or(nullptr);
}

size_t TrialRunner::bytes() const {
  std::scoped_lock held(lock_);
  return results_.bytes();
}

void TrialRunner::work(std::stop_token stop) {
  bool worked = false;
  while (!stop.stop_requested()) {
    std::optional<TrialSpec> next;
    std::stop_token token;
    {
      std::unique_lock held(lock_);
      running_.reset();
      if (std::exchange(worked, false) && queue_.empty()) emit rested();
      if (!wake_.wait(held, stop, [&] { return !queue_.empty(); })) return;
      running_stop_ = {};
      token = running_stop_.get_token();
      next = queue_.front();
      queue_.pop_front();
      running_ = next;
    }
    worked = true;
    run_trial(*next, token);
  }
}

/// On a thread of its own: a selection or a nudge does not wait until a trial is explained.
void TrialRunner::work_on_looks(std::stop_token stop) {
  while (!stop.stop_requested()) {
    std::optional<RegionRequest> next;
    std::stop_token token;
    {
      std::unique_lock held(lock_);
      if (!wake_looks_.wait(held, stop, [&] { return look_.has_value(); })) return;
      next = std::exchange(look_, {});
      looking_ = true;
      look_stop_ = {};
      token = look_stop_.get_token();
    }
    run_look(*next, token);
    std::scoped_lock held(lock_);
    looking_ = false;
    if (!look_ && !running_ && queue_.empty()) emit rested();
  }
}

void TrialRunner::run_trial(const TrialSpec& spec, std::stop_token stop) {
  const QString id = QString::fromStdString(spec.id);
  Job job{stop,
          [this, id, timer = std::make_shared<QElapsedTimer>()](double fraction) {
            if (timer->isValid() && timer->elapsed() < 40) return;
            timer->start();
            emit progressed(id, fraction);
          },
          0};
  try {
    const AnalysisInput input{spec.master, spec.ret, spec.chain, spec.hold, {}, spec.floor};
    const auto null = analysis_.null(input, grant_here(), job.part(0, 0.5));
    publish(std::make_shared<TrialResult>(TrialResult{null, spec}));
    const auto explained = explained_of(input, null, job.part(0.5, 1));
    publish(std::make_shared<TrialResult>(TrialResult{explained, spec}));
  } catch (const Cancelled&) {
    if (!is_wanted(spec.id)) emit cancelled(id);
  } catch (const std::exception& error) {
    emit failed(id, QString::fromUtf8(error.what()));
  } catch (...) {
    emit failed(id, tr("Something went wrong that has no name; choose the trial again"));
  }
}

/// A floor that is gone takes nothing away from the rest.
AnalysisResult TrialRunner::explained_of(AnalysisInput input, const AnalysisResult& null, const Job& job) {
  try {
    return analysis_.explained(input, null, job);
  } catch (const InputError&) {
    if (!input.floor) throw;
    input.floor.reset();
    return analysis_.explained(input, null, job);
  }
}

void TrialRunner::publish(std::shared_ptr<const TrialResult> result) {
  const QString id = QString::fromStdString(result->spec.id);
  {
    std::scoped_lock held(lock_);
    const std::string key = result->spec.id;
    const size_t bytes = bytes_of(*result->report) + (result->why ? bytes_of(*result->why) : 0);
    results_.keep(key, std::move(result), bytes);
  }
  emit finished(id);
}

void TrialRunner::run_look(const RegionRequest& look, std::stop_token stop) {
  try {
    Job job;
    job.stop = stop;
    Fit fit = look.fit;
    set_overlap(fit, look.of->pair.master->format().frames, look.of->pair.ret->format().frames);
    auto sums = std::make_shared<ResidualSums>(
        residual_sums(*look.of->pair.master, *look.of->pair.ret, fit, look.options, job));
    emit looked(look, sums);
  } catch (...) {  // a look that fails leaves what is on screen
  }
}

}  // namespace heathmist::app
