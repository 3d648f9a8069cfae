#include "app/pages/heard_instead.hpp"

namespace heathmist::app {

namespace {

/// As it stands: what is made here needs no fit.
std::shared_ptr<const NullReport> null_of(const Comparable& pair, const Job& job) {
  NullOptions as_it_stands;
  as_it_stands.held_fit.emplace();
  as_it_stands.held_fit->pairs = plain_pairs(pair.master->format().channels, pair.ret->format().channels);
  as_it_stands.held_fit->trusted = true;
  return std::make_shared<NullReport>(null_test(*pair.master, *pair.ret, pair, as_it_stands, job));
}

}  // namespace

HeardInstead::HeardInstead(PageContext& context, const QString& failed, QObject* parent)
    : QObject(parent), context_(context), making_(context.workspace.queue()) {
  connect(&making_, &LongWork::ended, this, [this, failed](Outcome, const QString& failure) {
    if (!failure.isEmpty()) context_.say(failed + " " + failure);
  });
}

void HeardInstead::hear(std::function<Comparable(const Job&)> make) {
  context_.player.pause();
  making_.start([this, make = std::move(make)](const Job& job, const Tell& tell) {
    const Comparable pair = make(job.part(0, 0.7));
    const auto report = null_of(pair, job.part(0.7, 1));
    tell([this, pair, report] { play(pair, report); });
  });
}

void HeardInstead::play(const Comparable& pair, const std::shared_ptr<const NullReport>& report) {
  heard_ = true;
  context_.player.set_source(pair, report->fit);
  context_.listening.set_pair(report);
  context_.listening.hear(Heard::ret);
  context_.player.seek(0);
  context_.player.play();
}

void HeardInstead::stop() {
  making_.drop();
  if (!std::exchange(heard_, false)) return;
  context_.player.pause();
  context_.hear_trial();
}

}  // namespace heathmist::app
