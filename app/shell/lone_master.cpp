#include "app/shell/lone_master.hpp"

namespace heathmist::app {

namespace {

/// Master and return at once: what the player and its bar ask of a pair.
std::shared_ptr<const NullReport> itself(const ClipFormat& format) {
  auto report = std::make_shared<NullReport>();
  report->master = report->ret = format;
  report->identical = true, report->kind = Kind::identical;
  report->fit.pairs = plain_pairs(format.channels, format.channels);
  report->fit.trusted = true;
  report->fit.last = format.frames;
  return report;
}

}  // namespace

LoneMaster::LoneMaster(PageContext& context, QObject* parent)
    : QObject(parent), context_(context), opening_(context.workspace.queue()) {
  Workspace* workspace = &context_.workspace;
  connect(workspace, &Workspace::master_selected, this, &LoneMaster::hear);
  connect(workspace, &Workspace::trial_ready, this, &LoneMaster::let_go);
  connect(workspace, &Workspace::measuring, this, &LoneMaster::let_go);
  connect(workspace, &Workspace::trial_failed, this, &LoneMaster::let_go);
  connect(workspace, &Workspace::nothing_selected, this, &LoneMaster::let_go);
  connect(workspace, &Workspace::file_changed, this, [this](const QString& file) {
    if (file.toStdString() != held_) return;
    let_go();
    hear();
  });
  // a page that was heard in its place let go: it is heard again
  connect(&context_.player, &Player::source_changed, this, [this] {
    if (context_.player.has_source() || held_.empty() || opening_.is_running()) return;
    let_go();
    QMetaObject::invokeMethod(this, &LoneMaster::hear, Qt::QueuedConnection);
  });
  connect(&opening_, &LongWork::ended, this, [this](Outcome, const QString& failure) {
    if (!failure.isEmpty()) context_.say(failure);
  });
}

void LoneMaster::let_go() {
  opening_.drop();
  held_.clear();
}

void LoneMaster::hear() {
  const Master* master = context_.workspace.bench().master(context_.workspace.current());
  if (!master || master->audio.file == held_) return;  // what plays goes on while the bench changes
  let_go();
  context_.player.clear_source();
  context_.listening.set_pair(nullptr);
  held_ = master->audio.file;
  opening_.start([this, file = held_](const Job& job, const Tell& tell) {
    tell([this, clip = Clip::open(file, job)] { take(clip); });
  });
}

void LoneMaster::take(std::shared_ptr<const Clip> clip) {
  const auto report = itself(clip->format());
  context_.player.set_source({clip, clip}, report->fit);
  context_.listening.set_pair(report);
  context_.listening.hear(Heard::master);
}

}  // namespace heathmist::app
