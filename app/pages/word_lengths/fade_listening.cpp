#include "app/pages/word_lengths/fade_listening.hpp"

namespace heathmist::app {

namespace {

constexpr int rate_hz = 48000;

/// As it stands: a fade has no fit.
std::shared_ptr<const NullReport> null_of(const Fade& fade, const Comparable& pair, const Job& job) {
  NullOptions as_it_stands;
  as_it_stands.held_fit.emplace();
  as_it_stands.held_fit->pairs = plain_pairs(2, 2);
  as_it_stands.held_fit->trusted = true;
  return std::make_shared<NullReport>(null_test(*fade.before, *fade.after, pair, as_it_stands, job));
}

}  // namespace

FadeListening::FadeListening(PageContext& context, QObject* parent)
    : QObject(parent), context_(context), making_(context.workspace.queue()) {
  connect(&making_, &LongWork::ended, this, [this](Outcome, const QString& failure) {
    if (!failure.isEmpty()) context_.say(tr("The fade was not made. %1").arg(failure));
  });
}

void FadeListening::hear(const WordCut& cut) {
  context_.player.pause();
  making_.start([this, cut](const Job& job, const Tell& tell) {
    const Fade fade = fade_through(cut, rate_hz, job);
    const Comparable pair{fade.before, fade.after};
    const auto report = null_of(fade, pair, job);
    tell([this, pair, report] { play(pair, report); });
  });
}

void FadeListening::play(const Comparable& pair, const std::shared_ptr<const NullReport>& report) {
  heard_ = true;
  context_.player.set_source(pair, report->fit);
  context_.listening.set_pair(report);
  context_.listening.hear(Heard::ret);
  context_.player.seek(0);
  context_.player.play();
}

void FadeListening::stop() {
  making_.drop();
  if (!std::exchange(heard_, false)) return;
  context_.player.pause();
  context_.hear_trial();
}

}  // namespace heathmist::app
