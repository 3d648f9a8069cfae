#include "app/pages/blind/blind_view.hpp"

#include <QDateTime>
#include <algorithm>

namespace heathmist::app {

namespace {

constexpr double anchors_hz[] = {3500, 7000};  // ITU-R BS.1534-3
constexpr double share_of_catches = 1.0 / 3, share_of_same = 1.0 / 4;
constexpr int rest_after = 10;

/// The reference and the rung that is heard first.
Stimuli pair_of(const Ladder& ladder) {
  Stimuli s;
  s.rate_hz = ladder.rate_hz, s.turned_down_db = ladder.turned_down_db;
  s.sound = {ladder.reference, ladder.sound(0)};
  s.gain_db = {0, 0}, s.lufs = {ladder.lufs, ladder.lufs};
  return s;
}

QString sentence_of(const std::exception& error) { return QString::fromUtf8(error.what()); }

}  // namespace

BlindView::BlindView(Workspace& workspace, Deck::Open device, QWidget* parent)
    : QStackedWidget(parent), workspace_(workspace), deck_(std::move(device)), making_(workspace.queue()) {
  addWidget(setup_ = new BlindSetup(this));
  addWidget(run_ = new BlindRun(this));
  addWidget(result_ = new BlindResultView(this));
  connect(setup_, &BlindSetup::begin_wanted, this, &BlindView::begin);
  connect(setup_, &BlindSetup::training_wanted, this, &BlindView::train);
  connect(setup_, &BlindSetup::test_opened, this, &BlindView::go_on);
  connect(run_, &BlindRun::heard_changed, this, [this](int button) {
    if (button < int(round_.buttons.size())) deck_.choose(sound_of(round_.buttons[size_t(button)]));
  });
  connect(run_, &BlindRun::play_wanted, this, [this] { deck_.is_playing() ? deck_.pause() : deck_.play(); });
  connect(run_, &BlindRun::answered, this, &BlindView::take);
  connect(run_, &BlindRun::taking_back_wanted, this, &BlindView::take_back_last);
  connect(run_, &BlindRun::leaving_wanted, this, &BlindView::leave);
  connect(result_, &BlindResultView::back_wanted, this, [this] {
    setCurrentWidget(setup_);
    show_bench();
  });
  connect(&deck_, &Deck::playing_changed, this, [this](bool playing) {
    run_->show_playing(playing);
    if (playing) emit starting();
  });
  connect(&deck_, &Deck::dropped_out, this, &BlindView::drop_out);
  connect(&workspace_.results(), &TrialResults::finished, this, [this] {
    if (!waiting_ || !missing(waiting_->choice).empty()) return;
    const Waiting go = *std::exchange(waiting_, {});
    prepare(go.choice, go.then);
  });
  connect(&workspace_.results(), &TrialResults::failed, this, [this](const QString& id, const QString& sentence) {
    const auto& of = waiting_ ? waiting_->choice.trials : std::vector<std::string>{};
    if (std::find(of.begin(), of.end(), id.toStdString()) == of.end()) return;
    stop_waiting();
    setup_->say(sentence);
  });
  connect(&workspace_.results(), &TrialResults::cancelled, this, [this](const QString&) { stop_waiting(); });
  connect(setup_, &BlindSetup::stop_wanted, this, [this] {
    making_.cancel();
    stop_waiting();
  });
  connect(&making_, &LongWork::progressed, this,
          [this](double fraction) { setup_->say(tr("making them equally loud, %1 %").arg(int(100 * fraction))); });
  connect(&making_, &LongWork::ended, this, [this](Outcome outcome, const QString& failure) {
    setup_->show_making(false);
    setup_->say(how_it_ended(outcome, failure));
    if (failure.isEmpty() && made_.stimuli && then_) then_();
    then_ = {};
    emit rested();
  });
}

void BlindView::show_bench() {
  setup_->show_bench(workspace_.bench());
  const auto result = workspace_.current_result();
  setup_->propose(workspace_.current(), workspace_.selection(), result ? result->report->master.duration_s() : 0);
  if (is_running() && !training_ && !test()) leave();  // it was undone, or another bench is open
}

const BlindTest* BlindView::test() const {
  if (training_) return &*training_;
  for (const BlindTest& t : workspace_.bench().blind)
    if (t.id == running_) return &t;
  return nullptr;
}

int BlindView::step() const { return int(std::hash<std::string>{}(running_) | 1); }

/// Answers are one step of the bench with their test: to undo is to undo all of it, not an answer.
void BlindView::change(const QString& what, const std::function<void(BlindTest&)>& how) {
  if (training_) return how(*training_);
  workspace_.model().edit(
      what,
      [&](Bench& bench) {
        for (BlindTest& t : bench.blind)
          if (t.id == running_) how(t);
      },
      step());
}

BlindView::Order BlindView::order_for(const BlindChoice& choice,
                                      const std::vector<std::shared_ptr<const TrialResult>>& of) const {
  Order order{choice, of.front()->pair.master, {}, {}};
  order.made.named.push_back({"the master", {}, of.front()->master_print});
  order.made.files.push_back(of.front()->spec.master);
  for (const auto& result : of) {
    if (choice.method == BlindMethod::threshold && choice.ladder.of != LadderOf::lift) break;  // the master's alone
    const Trial* trial = workspace_.bench().trial(result->spec.id);
    const std::string name = trial ? title_of(*trial) : result->spec.id;
    order.others.push_back({name, result->pair.ret, result->report->fit});
    order.made.named.push_back({name, result->spec.id, result->ret_print});
    order.made.files.push_back(result->spec.ret);
  }
  if (choice.method == BlindMethod::multi)
    for (const double hz : anchors_hz) {
      const std::string name = QString("anchor of %1 kHz").arg(hz / 1000).toStdString();
      order.others.push_back({name, {}, {}, hz});
      order.made.named.push_back({name});
    }
  return order;
}

std::vector<std::string> BlindView::missing(const BlindChoice& choice) const {
  std::vector<std::string> ids;
  for (const std::string& id : choice.trials)
    if (const auto result = workspace_.result_of(id); !result || !result->report) ids.push_back(id);
  return ids;
}

void BlindView::stop_waiting() {
  if (!waiting_) return;
  waiting_.reset();
  setup_->show_making(false);
  setup_->say(how_it_ended(Outcome::cancelled, {}));
  emit rested();
}

void BlindView::prepare(const BlindChoice& choice, std::function<void()> then) {
  if (choice.trials.empty()) {
    setup_->say(tr("Choose a trial."));
    return emit rested();
  }
  const auto gone = [this](const std::string& id) { return workspace_.bench().trial(id) == nullptr; };
  if (std::any_of(choice.trials.begin(), choice.trials.end(), gone)) {
    setup_->say(tr("What is listened to is not on the bench any more: this test can't be gone on with."));
    return emit rested();
  }
  if (const auto ids = missing(choice); !ids.empty()) {
    waiting_ = {choice, std::move(then)};
    setup_->say(tr("measuring %1 first\u2026").arg(workspace_.name_of(ids.front())));
    setup_->show_making(true);
    for (const std::string& id : ids) workspace_.measure(id);
    return;
  }
  std::vector<std::shared_ptr<const TrialResult>> of;
  for (const std::string& id : choice.trials) of.push_back(workspace_.result_of(id));
  made_ = {}, then_ = std::move(then);
  emit starting();
  setup_->say(tr("making them equally loud\u2026"));
  setup_->show_making(true);
  making_.start([this, order = order_for(choice, of)](const Job& job, const Tell& tell) {
    Made made = order.made;
    make(order, made, job);
    tell([this, made = std::move(made)] { made_ = made; });
  });
}

/// Off the interface thread.
void BlindView::make(const Order& order, Made& made, const Job& job) {
  const BlindChoice& c = order.choice;
  if (c.method != BlindMethod::threshold) {
    made.stimuli = std::make_shared<const Stimuli>(make_stimuli(*order.master, c.from_s, c.until_s, order.others, job));
    for (size_t n = 0; n < made.named.size(); ++n) made.named[n].gain_db = made.stimuli->gain_db[n];
    return;
  }
  const ToHear trial = order.others.empty() ? ToHear{} : order.others.front();
  const auto ladder =
      std::make_shared<const Ladder>(make_ladder(*order.master, c.from_s, c.until_s, c.ladder, trial, job));
  made.stimuli = std::make_shared<const Stimuli>(pair_of(*ladder));
  made.named = stimuli_of(*ladder, made.named.front(), made.named.back());  // of the trial, or the master
  made.ladder = ladder;
}

BlindDesign BlindView::design_for(const BlindChoice& choice) const {
  BlindDesign design{choice.method, int(made_.named.size()), choice.rounds};
  if (choice.method == BlindMethod::threshold) {
    design.rule.rungs = made_.named.size() - 1, design.rule.right_to_go_down = choice.right_to_go_down;
    design.ladder = choice.ladder;
    if (asks_yes_or_no(design)) design.catches = share_of_same;
  }
  if (choice.catches) design.catches = made_.stimuli->same(0, 1) ? 1 : share_of_catches;
  return design;
}

int BlindView::sound_of(int stimulus) const { return made_.ladder ? std::min(stimulus, 1) : stimulus; }

/// The rung that this round asks about, in the place of the one before.
void BlindView::put_rung() {
  const int stimulus = *std::max_element(round_.buttons.begin(), round_.buttons.end());
  if (!made_.ladder || stimulus < 1) return;
  deck_.put(1, std::make_shared<const Planar>(made_.ladder->sound(size_t(stimulus) - 1)));
}

bool BlindView::refuse_the_same(const BlindChoice& choice) {
  if (made_.ladder || choice.method == BlindMethod::multi || choice.catches || !made_.stimuli->same(0, 1)) return false;
  setup_->say(
      tr("Both are bit-identical there: there is nothing to hear. To see what suggestion does, choose Preference "
         "with equal pairs."));
  return true;
}

void BlindView::begin() {
  const BlindChoice choice = setup_->choice();
  prepare(choice, [this, choice] {
    if (refuse_the_same(choice)) return;
    BlindTest fresh;
    try {
      fresh = begin_blind_test(design_for(choice), made_.named);
    } catch (const std::exception& error) {
      return setup_->say(sentence_of(error));
    }
    fresh.id = fresh_id(), fresh.master = choice.master, fresh.from_s = choice.from_s, fresh.until_s = choice.until_s;
    training_.reset(), running_ = fresh.id;
    workspace_.model().edit(
        tr("Blind test"), [&](Bench& bench) { bench.blind.push_back(fresh); }, step());
    start_run();
    run_->say(tr("The order is sealed: SHA-256 %1\u2026").arg(QString::fromStdString(fresh.key.hash).left(16)));
  });
}

void BlindView::train() {
  const BlindChoice choice = setup_->choice();
  prepare(choice, [this, choice] {
    try {
      training_ = begin_blind_test(design_for(choice), made_.named);
    } catch (const std::exception& error) {
      return setup_->say(sentence_of(error));
    }
    running_.clear();
    start_run();
  });
}

void BlindView::go_on(const std::string& id) {
  for (const BlindTest& t : workspace_.bench().blind) {
    if (t.id != id) continue;
    try {
      if (is_ended(t)) {
        result_->show_test(t);
        return setCurrentWidget(result_);
      }
    } catch (const std::exception& error) {
      return setup_->say(sentence_of(error));
    }
    BlindChoice choice{t.master, {}, t.design.method, t.design.rounds, t.design.catches > 0, t.from_s, t.until_s,
                       {},       2};
    choice.ladder = t.design.ladder.value_or(LadderDesign{}), choice.right_to_go_down = t.design.rule.right_to_go_down;
    for (const BlindStimulus& s : t.stimuli)
      if (!s.trial.empty() && std::find(choice.trials.begin(), choice.trials.end(), s.trial) == choice.trials.end())
        choice.trials.push_back(s.trial);
    if (const Master* m = workspace_.bench().master(t.master); m && choice.trials.empty() && !m->trials.empty())
      choice.trials.push_back(m->trials.front().id);  // the master's clip is its
    return prepare(choice, [this, t] {
      const bool same = std::equal(made_.named.begin(), made_.named.end(), t.stimuli.begin(), t.stimuli.end(),
                                   [](const auto& a, const auto& b) {
                                     return a.content == b.content && a.trial == b.trial && a.value == b.value;
                                   });
      if (!same)
        return setup_->say(tr("What is listened to has changed since this test began: it can't be gone on with."));
      training_.reset(), running_ = t.id;
      start_run();
    });
  }
}

void BlindView::start_run() {
  deck_.load(made_.stimuli);
  deck_.set_crossfade(setup_->crossfades());
  setCurrentWidget(run_);
  run_->say({});
  next();
  deck_.play();
}

void BlindView::next() {
  const BlindTest* t = test();
  if (!t) return leave();
  round_ = next_round(*t);
  put_rung();
  QStringList names;
  if (training_)
    for (const int n : round_.buttons) names << QString::fromStdString(t->stimuli[size_t(n)].name);
  run_->ask(*t, round_, names);
}

void BlindView::take(const BlindAnswer& given) {
  if (!test()) return leave();
  if (training_) {  // it goes round without an end, and keeps nothing
    make_void(*training_, "training", given.at_ms);
    return next();
  }
  try {
    change(tr("Blind test"), [&](BlindTest& t) { answer(t, given); });
  } catch (const std::invalid_argument& error) {
    return run_->say(sentence_of(error));
  }
  if (is_ended(*test())) return finish();
  run_->say(counted(*test()) % rest_after == 0 ? tr("Rest your ears for a minute, if you like: it waits.") : QString());
  next();
}

void BlindView::take_back_last() {
  if (training_ || !test()) return;
  const int64_t now = QDateTime::currentMSecsSinceEpoch();
  BlindTest trying = *test();
  const bool taken = take_back(trying, now);
  if (taken) change(tr("Blind test"), [&](BlindTest& t) { take_back(t, now); });
  if (taken) next();
  run_->say(taken ? tr("Taken back.") : tr("Only the last answer can be taken back, for two seconds."));
}

void BlindView::drop_out() {
  if (!is_running()) return;
  if (!training_ && test()) {
    change(tr("Blind test"),
           [](BlindTest& t) { make_void(t, "the device dropped out", QDateTime::currentMSecsSinceEpoch()); });
    next();
  }
  run_->say(tr("The output device dropped out: that round is void, another takes its place. Play when it is back."));
}

/// What left here is as loud as it was made to be, or that is said.
QString BlindView::unequal() const {
  std::optional<double> low, high;
  if (made_.ladder && made_.ladder->design.of == LadderOf::level) return {};  // there it is the question
  for (size_t n = 0; n < made_.stimuli->sound.size(); ++n) {
    if (!made_.ladder && n > 0 && made_.named[n].trial.empty()) continue;
    if (const auto lufs = deck_.sent_lufs(n))
      low = std::min(low.value_or(*lufs), *lufs), high = std::max(high.value_or(*lufs), *lufs);
  }
  if (!low || *high - *low <= equal_within_lu) return {};
  return tr("What was sent to the device was not equally loud, by %1 LU.").arg(*high - *low, 0, 'f', 2);
}

void BlindView::finish() {
  const BlindTest ended = *test();
  deck_.pause();
  running_.clear();
  result_->show_test(ended, unequal());
  setCurrentWidget(result_);
}

void BlindView::leave() {
  deck_.pause();
  making_.drop();
  setup_->show_making(false);
  waiting_.reset();
  if (!is_running()) return;
  const bool kept = !training_ && test();
  training_.reset(), running_.clear();
  setCurrentWidget(setup_);
  show_bench();
  setup_->say(kept ? tr("The test is kept as far as it went: open it below to go on.") : QString());
}

void BlindView::forget(const std::filesystem::path& file) {
  if (!is_running() || training_ || std::find(made_.files.begin(), made_.files.end(), file) == made_.files.end())
    return;
  leave();
  setup_->say(tr("%1 changed while it was listened to: this test can't be gone on with.")
                  .arg(QString::fromStdString(file.filename().string())));
}

}  // namespace heathmist::app
