#include "app/model/trial_runner.hpp"

#include <QElapsedTimer>
#include <algorithm>

#include "core/audio/fingerprint.hpp"
#include "core/bench/armed.hpp"

namespace heathmist::app {

namespace {
constexpr size_t most_open_clips = 6;
}

TrialRunner::TrialRunner(QObject* parent) : QObject(parent) {
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
    const auto done = results_.find(spec.id);
    if (done != results_.end() && done->second->spec == spec && done->second->why) return;
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
  results_.erase(id);
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
  const auto it = results_.find(id);
  return it == results_.end() ? nullptr : it->second;
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

TrialRunner::Opened TrialRunner::open(const std::filesystem::path& file, const Job& job) {
  const std::string print = fingerprint(file);
  for (auto it = clips_.begin(); it != clips_.end(); ++it)
    if (it->file == file && it->print == print) {
      std::rotate(clips_.begin(), it, it + 1);
      return clips_.front();
    }
  clips_.push_front({file, print, Clip::open(file, job)});
  if (clips_.size() > most_open_clips) clips_.pop_back();
  return clips_.front();
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
    auto result = null_of(spec, job.part(0, 0.5));
    publish(std::make_shared<TrialResult>(*result));
    explain_result(*result, job.part(0.5, 1));
    publish(std::move(result));
  } catch (const Cancelled&) {
    if (!is_wanted(spec.id)) emit cancelled(id);
  } catch (const std::exception& error) {
    emit failed(id, QString::fromUtf8(error.what()));
  } catch (...) {
    emit failed(id, tr("Something went wrong that has no name; choose the trial again"));
  }
}

/// Runs the null, or takes what is left of it from an earlier run of the same files.
std::shared_ptr<TrialResult> TrialRunner::null_of(const TrialSpec& spec, const Job& job) {
  const auto before = this->result(spec.id);
  auto result = std::make_shared<TrialResult>();
  result->spec = spec;
  const Opened master = open(spec.master, job.part(0, 0.1));
  result->master = master.clip, result->master_print = master.print;
  if (spec.chain) {
    result->ret_print = chain_fingerprint(*spec.chain);
    auto made = returns_.make(result->master, master.print, *spec.chain, job.part(0.1, 0.25), grant_here());
    result->ret = made.ret;
    result->stages = std::move(made.stages);
  } else {
    const Opened ret = open(spec.ret, job.part(0.1, 0.25));
    result->ret = ret.clip, result->ret_print = ret.print;
  }
  const bool same_files = before && before->spec.master == spec.master && before->spec.ret == spec.ret &&
                          before->master == result->master && before->ret == result->ret;
  if (same_files && before->spec.hold == spec.hold) {
    *result = *before;
    result->spec = spec;
    return result;
  }
  result->pair = same_files ? before->pair : comparable(result->master, result->ret, job.part(0.25, 0.5));
  const bool same_part = same_files && before->spec.hold.by == spec.hold.by;
  if (!spec.hold.any()) {
    result->report =
        std::make_shared<NullReport>(null_test(*result->master, *result->ret, result->pair, {}, job.part(0.5, 1)));
    result->measured = result->report->fit;
    return result;
  }
  if (same_part) {
    result->measured = before->measured;
  } else {
    result->measured = find_fit(*result->pair.master, *result->pair.ret, {}, job.part(0.5, 0.6));
    if (spec.hold.by)
      result->measured =
          find_fit_by(result->pair.master, result->pair.ret, result->measured, *spec.hold.by, job.part(0.6, 0.7));
  }
  NullOptions options;
  options.held_fit = with_hold(result->measured, spec.hold);
  result->report =
      std::make_shared<NullReport>(null_test(*result->master, *result->ret, result->pair, options, job.part(0.7, 1)));
  return result;
}

void TrialRunner::explain_result(TrialResult& result, const Job& job) {
  ExplainOptions options;
  if (result.spec.floor) {
    try {
      options.floor = spectrum_of(*result.spec.floor, *result.report, job.part(0, 0.1));
    } catch (const InputError&) {  // a floor that is gone takes nothing away from the rest
    }
  }
  auto report = std::make_shared<NullReport>(*result.report);
  result.why = std::make_shared<Explanation>(
      explain(*result.master, *result.ret, result.pair, *report, options, job.part(0.1, 1)));
  result.report = std::move(report);
}

Spectrum TrialRunner::spectrum_of(const Floor& floor, const NullReport& report, const Job& job) {
  const auto recording = open(floor.recording.file, job.part(0, 0.2)).clip;
  if (floor.master)
    return null_test(open(floor.master->file, job.part(0.2, 0.3)).clip, recording, {}, job.part(0.3, 1))
        .sums.residual_spectrum;
  const auto at_rate = Clip::at_rate(recording, report.master.sample_rate_hz, job.part(0.2, 0.6));
  auto spectrum = average_spectrum(*at_rate, 16384, 0, -1, 2000, job.part(0.6, 1));
  for (double& power : spectrum.power) power /= report.fit.gain() * report.fit.gain();
  return spectrum;
}

void TrialRunner::publish(std::shared_ptr<const TrialResult> result) {
  const QString id = QString::fromStdString(result->spec.id);
  {
    std::scoped_lock held(lock_);
    results_[result->spec.id] = std::move(result);
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
