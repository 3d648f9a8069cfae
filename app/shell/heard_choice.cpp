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

}  // namespace

HeardChoice::HeardChoice(PageContext& context, QObject* parent)
    : QObject(parent), context_(context), workspace_(context.workspace), making_(context.workspace.queue()) {
  context_.listening.offer(&menu_);
  connect(&menu_, &QMenu::aboutToShow, this, [this] { fill(&menu_); });
  connect(&context_.listening, &ListeningBar::loop_changed, this, &HeardChoice::match_loop);
  connect(&workspace_.results(), &TrialResults::finished, this, [this](const QString& id) { hear_wanted(id); });
  connect(&workspace_.results(), &TrialResults::failed, this, [this](const QString& id, const QString& sentence) {
    if (id.toStdString() != wanted_) return;
    wanted_.clear();
    context_.say(sentence);
    hear_own();
  });
  connect(&workspace_, &Workspace::file_changed, this, [this](const QString& file) { forget(file); });
  connect(&context_.player, &Player::source_changed, this, [this] {
    if (context_.player.has_other()) return;
    making_.drop();
    brought_.reset(), file_.clear(), wanted_.clear();
  });
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
  const auto& other = context_.listening.other();
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
        other ? other->name == name : looked_at);
  }
  menu->addSeparator();
  for (const Master& m : workspace_.bench().masters) {
    if (&m == own) continue;
    const QString name = QString::fromStdString(m.name);
    add(
        name, {}, [this, id = m.id] { hear_master(id); }, other && other->name == name);
  }
}

void HeardChoice::hear(
    const QString& name, std::shared_ptr<const OtherSound> sound,
    std::function<std::optional<double>(MatchBy, const std::optional<std::pair<double, double>>&)> match_db) {
  file_ = sound->clip->path();
  context_.player.set_cause(nullptr);
  context_.player.set_other(std::move(sound));
  context_.listening.set_other(ListeningBar::Other{name, std::move(match_db)});
  context_.listening.hear(Heard::ret);
}

void HeardChoice::hear_own() {
  making_.drop();
  brought_.reset(), file_.clear(), wanted_.clear();
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
  hear(QString::fromStdString(title_of(trial)),
       std::make_shared<const OtherSound>(OtherSound{result->pair.ret, result->report->fit}),
       [report = result->report](MatchBy by, const Loop& loop) { return match_gain_db(*report, by, loop); });
}

/// Once it is measured: the one that was asked for last.
void HeardChoice::hear_wanted(const QString& id) {
  const Master* own = master();
  if (!own || wanted_.empty() || id.toStdString() != wanted_) return;
  for (size_t n = 0; n < own->trials.size(); ++n)
    if (own->trials[n].id == wanted_ && workspace_.result_of(wanted_)) return hear_trial(n);
}

/// Opened, brought to the rate and measured off the interface thread; heard when it is there.
void HeardChoice::hear_master(const std::string& id) {
  const Master* m = workspace_.bench().master(id);
  const auto result = workspace_.current_result();
  if (!m || !result || !context_.player.has_source()) return;
  wanted_.clear();
  context_.listening.say(tr("making it as loud\u2026"));
  making_.start([this, file = m->audio.file, name = QString::fromStdString(m->name), master = result->pair.master,
                 loop = context_.listening.loop()](const Job& job, const Tell& tell) {
    auto brought = std::make_shared<Brought>();
    const auto clip =
        Clip::at_rate(Clip::open(file, job.part(0, 0.2)), master->format().sample_rate_hz, job.part(0.2, 0.5));
    brought->sound = std::make_shared<const OtherSound>(OtherSound{clip, fit_as_it_lies(*clip)});
    brought->master = master, brought->loop = loop;
    brought->whole_db = match_gain_db(*master, *clip, {}, job.part(0.5, 0.9));
    if (loop) brought->loop_db = match_gain_db(*master, *clip, loop, job.part(0.9, 1));
    tell([this, brought, name, file] {
      brought_ = brought;
      hear(name, brought->sound, [brought](MatchBy, const Loop& within) {
        return within && within == brought->loop && brought->loop_db ? brought->loop_db : brought->whole_db;
      });
      file_ = file;
    });
  });
}

/// Within another loop another master is another loudness.
void HeardChoice::match_loop() {
  const Loop loop = context_.listening.loop();
  if (!brought_ || !loop || loop == brought_->loop) return;
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
  if (file_.empty() || file.toStdString() != file_.string()) return;
  hear_own();
}

}  // namespace heathmist::app
