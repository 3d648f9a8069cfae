#include "app/shell/heard_choice.hpp"

#include "core/audio/clip.hpp"

namespace heathmist::app {

namespace {

using Loop = std::optional<std::pair<double, double>>;

/// As it lies: from its own first frame on.
Fit fit_as_it_lies(const Clip& clip) {
  Fit fit;
  fit.last = clip.format().frames;
  return fit;
}

bool lies_as(const TrialResult& result, const OtherSound& sound) {
  const Fit& fit = result.report->fit;
  return result.pair.ret == sound.clip && fit.delay_samples == sound.fit.delay_samples &&
         fit.drift_ppm == sound.fit.drift_ppm;
}

}  // namespace

HeardChoice::HeardChoice(PageContext& context, QObject* parent)
    : QObject(parent), context_(context), workspace_(context.workspace), making_(context.workspace.queue()) {
  context_.listening.offer(&menu_);
  connect(&menu_, &QMenu::aboutToShow, this, [this] { fill(&menu_); });
  connect(&context_.listening, &ListeningBar::loop_changed, this, &HeardChoice::match_loop);
  connect(&workspace_.results(), &TrialResults::finished, this,
          [this](const QString& id) { take_result(id.toStdString()); });
  connect(&workspace_.results(), &TrialResults::failed, this, [this](const QString& id, const QString& sentence) {
    if (id.toStdString() != wanted_) return;
    wanted_.clear();
    context_.say(sentence);
    hear_own();
  });
  connect(&workspace_, &Workspace::file_changed, this, [this](const QString& file) { forget(file); });
  connect(&context_.player, &Player::source_changed, this, [this] {
    if (!context_.player.has_other()) let_go();
  });
  connect(&workspace_.model(), &BenchModel::changed, this, &HeardChoice::take_bench);
  connect(&making_, &LongWork::ended, this, [this](Outcome, const QString& failure) {
    if (!failure.isEmpty()) context_.say(failure), hear_own();
    emit rested();
  });
}

std::vector<Command> HeardChoice::commands() {
  const auto heard = [this] { return context_.player.has_source(); };
  std::vector<Command> all;
  for (size_t n = 0; n < size_t(most); ++n)
    all.push_back({tr("Hear trial %1 of this master").arg(n + 1),
                   MenuKind::listen,
                   [this, n] { hear_trial(n); },
                   {QKeySequence(QString("Ctrl+%1").arg(n + 1))},
                   [this, n] { return context_.player.has_source() && master() && n < master()->trials.size(); },
                   tr("In the return's place")});
  all.push_back({tr("Hear the trial that is looked at"),
                 MenuKind::listen,
                 [this] { hear_own(); },
                 {QKeySequence("Ctrl+0")},
                 heard,
                 tr("In the return's place")});
  all.push_back({tr("Hear another trial or master\u2026"),
                 MenuKind::listen,
                 [this] { context_.listening.open_others(); },
                 {QKeySequence("Ctrl+M")},
                 heard});
  return all;
}

const Master* HeardChoice::master() const {
  const Bench& bench = workspace_.bench();
  return bench.master(workspace_.current_master());
}

void HeardChoice::fill(QMenu* menu) {
  menu->clear();
  const Master* own = master();
  if (!own) return;
  const auto add = [&](const QString& name, const QString& key, std::function<void()> run, bool is_heard) {
    QAction* action = menu->addAction(key.isEmpty() ? name : name + "\t" + key, this, std::move(run));
    action->setCheckable(true);
    action->setChecked(is_heard);
  };
  for (size_t n = 0; n < own->trials.size(); ++n) {
    const QString name = QString::fromStdString(title_of(own->trials[n]));
    const bool looked_at = own->trials[n].id == workspace_.current();
    add(
        name, n < size_t(most) ? tr("Ctrl %1").arg(n + 1) : QString(), [this, n] { hear_trial(n); },
        heard_.empty() ? looked_at : own->trials[n].id == heard_);
  }
  menu->addSeparator();
  for (const Master& m : workspace_.bench().masters) {
    if (&m == own) continue;
    const QString name = QString::fromStdString(m.name);
    add(
        name, {}, [this, id = m.id] { hear_master(id); }, m.id == heard_);
  }
}

void HeardChoice::let_go() {
  making_.drop();
  brought_.reset(), sound_.reset(), file_.clear(), heard_.clear(), wanted_.clear();
}

void HeardChoice::hear(
    const std::string& id, const QString& name, std::shared_ptr<const OtherSound> sound,
    std::function<std::optional<double>(MatchBy, const std::optional<std::pair<double, double>>&)> match_db) {
  heard_ = id, file_ = sound->clip->path(), sound_ = sound;
  context_.player.set_cause(nullptr);
  context_.player.set_other(std::move(sound));
  context_.listening.set_other(ListeningBar::Other{name, std::move(match_db)});
  context_.listening.hear(Heard::ret);
}

void HeardChoice::hear_own() {
  let_go();
  context_.player.set_other(nullptr);
  context_.listening.set_other({});
  context_.listening.hear(Heard::ret);
}

void HeardChoice::hear_trial(size_t number) {
  const Master* own = master();
  if (!own || number >= own->trials.size() || !context_.player.has_source()) return;
  const Trial& trial = own->trials[number];
  if (trial.id == workspace_.current()) return hear_own();
  making_.drop();
  brought_.reset();
  const auto result = workspace_.result_of(trial.id);
  wanted_ = result && result->report ? std::string() : trial.id;
  if (!wanted_.empty()) {
    context_.listening.say(tr("measuring it first\u2026"));
    return workspace_.measure(trial.id);
  }
  hear(trial.id, QString::fromStdString(title_of(trial)),
       std::make_shared<const OtherSound>(OtherSound{result->pair.ret, result->report->fit}),
       [report = result->report](MatchBy by, const Loop& loop) { return match_gain_db(*report, by, loop); });
}

/// What was waited for is there; or what is heard was measured anew, and lies elsewhere now.
void HeardChoice::take_result(const std::string& id) {
  const Master* own = master();
  const bool is_heard = id == heard_ && context_.player.has_other();
  const auto result = workspace_.result_of(id);
  if (!own || id.empty() || (id != wanted_ && !is_heard) || !result || !result->report) return;
  if (is_heard && lies_as(*result, *sound_)) return;  // it has been explained, and is what it was
  const Heard heard = is_heard ? context_.listening.heard() : Heard::ret;
  for (size_t n = 0; n < own->trials.size(); ++n)
    if (own->trials[n].id == id) hear_trial(n);
  context_.listening.hear(heard);
}

/// What is heard may have gone from the bench, or be held otherwise.
void HeardChoice::take_bench() {
  if (heard_.empty() || !context_.player.has_other()) return;
  if (workspace_.bench().trial(heard_))
    workspace_.measure(heard_);
  else if (!workspace_.bench().master(heard_))
    hear_own();
}

/// Opened, brought to the rate and measured off the interface thread; heard when it is there.
void HeardChoice::hear_master(const std::string& id) {
  const Master* m = workspace_.bench().master(id);
  const auto result = workspace_.current_result();
  if (!m || !result || !context_.player.has_source()) return;
  wanted_.clear();
  context_.listening.say(tr("making it as loud\u2026"));
  making_.start([this, id, file = m->audio.file, name = QString::fromStdString(m->name), master = result->pair.master,
                 loop = context_.listening.loop()](const Job& job, const Tell& tell) {
    auto brought = std::make_shared<Brought>();
    const auto clip =
        Clip::at_rate(Clip::open(file, job.part(0, 0.2)), master->format().sample_rate_hz, job.part(0.2, 0.5));
    brought->sound = std::make_shared<const OtherSound>(OtherSound{clip, fit_as_it_lies(*clip)});
    brought->master = master, brought->loop = loop;
    brought->whole_db = match_gain_db(*master, *clip, {}, job.part(0.5, 0.9));
    if (loop) brought->loop_db = match_gain_db(*master, *clip, loop, job.part(0.9, 1));
    tell([this, id, brought, name, file] {
      brought_ = brought;
      hear(id, name, brought->sound, [brought](MatchBy, const Loop& within) {
        return within && within == brought->loop && brought->loop_db ? brought->loop_db : brought->whole_db;
      });
      file_ = file;
    });
  });
}

/// Within another loop another master is another loudness.
void HeardChoice::match_loop() {
  const Loop loop = context_.listening.loop();
  if (!brought_ || !context_.player.has_other() || !loop || loop == brought_->loop) return;
  making_.start([this, brought = brought_, loop](const Job& job, const Tell& tell) {
    const auto db = match_gain_db(*brought->master, *brought->sound->clip, loop, job);
    tell([this, brought, loop, db] {
      if (brought != brought_) return;
      brought->loop = loop, brought->loop_db = db;
      context_.listening.set_other(context_.listening.other());
    });
  });
}

/// Nothing is heard of a file that is another by now.
void HeardChoice::forget(const QString& file) {
  if (context_.player.has_other() && file.toStdString() == file_.string()) hear_own();
}

}  // namespace heathmist::app
