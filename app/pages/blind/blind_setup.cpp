#include "app/pages/blind/blind_setup.hpp"

#include <QDateTime>
#include <QHBoxLayout>
#include <QMenu>
#include <QVBoxLayout>
#include <algorithm>

#include "app/theme/theme.hpp"
#include "app/widgets/labels.hpp"
#include "core/hearing/ladder.hpp"

namespace heathmist::app {

namespace {

struct MethodWords {
  BlindMethod method;
  const char* what;
  int rounds;
};
constexpr MethodWords methods[] = {
    {BlindMethod::abx, QT_TR_NOOP("is it heard at all: X is A or B"), 16},
    {BlindMethod::triple, QT_TR_NOOP("small differences graded (ITU-R BS.1116)"), 8},
    {BlindMethod::multi, QT_TR_NOOP("trials of one master, with anchors of 3.5 and 7 kHz (ITU-R BS.1534)"), 4},
    {BlindMethod::preference, QT_TR_NOOP("which of two sounds better"), 16},
    {BlindMethod::threshold, QT_TR_NOOP("how small a difference is still heard"), 16}};

struct LadderWords {
  LadderDesign design;
  const char* name;
};
const std::vector<LadderWords>& ladders() {
  static const std::vector<LadderWords> all{
      {{LadderOf::lift, {}, 0}, QT_TR_NOOP("the residual of this trial, lifted")},
      {{LadderOf::level, {}, 0}, QT_TR_NOOP("a difference in level")},
      {{LadderOf::word_length, {}, 0}, QT_TR_NOOP("the word length, with TPDF dither")},
      {{LadderOf::bit_rate, "aac", 0}, QT_TR_NOOP("the bit rate of AAC")},
      {{LadderOf::bit_rate, "mp3", 0}, QT_TR_NOOP("the bit rate of MP3")},
      {{LadderOf::bit_rate, "opus", 0}, QT_TR_NOOP("the bit rate of Opus")},
      {{LadderOf::bit_rate, "vorbis", 0}, QT_TR_NOOP("the bit rate of Vorbis")},
      {{LadderOf::fold, {}, 8000}, QT_TR_NOOP("what folds about 8 kHz")},
      {{LadderOf::fold, {}, 11025}, QT_TR_NOOP("what folds about 11.025 kHz")},
      {{LadderOf::fold, {}, 16000}, QT_TR_NOOP("what folds about 16 kHz")},
      {{LadderOf::fold, {}, 22050}, QT_TR_NOOP("what folds about 22.05 kHz")}};
  return all;
}

const MethodWords& words_of(BlindMethod method) {
  for (const MethodWords& m : methods)
    if (m.method == method) return m;
  return methods[0];
}

NumberField* seconds_field(QWidget* parent, const QString& hint) {
  auto* field = new NumberField(parent);
  field->setRange(0, 1e6);
  field->setDecimals(3);
  field->setSuffix(" s");
  field->setMinimumWidth(96);
  set_term(field, "time");
  field->setAccessibleName(hint);
  field->setToolTip(hint);
  return field;
}

QString heard_in(const BlindTest& test) {
  for (const LadderWords& l : ladders())
    if (test.design.ladder == l.design) return QObject::tr(l.name);
  return test.stimuli.size() == 2 ? QString::fromStdString(test.stimuli[1].name)
                                  : QObject::tr("%1 at once").arg(test.stimuli.size());
}

QString when_of(const BlindTest& test) {
  if (test.answers.empty()) return QObject::tr("not begun");
  return QDateTime::fromMSecsSinceEpoch(test.answers.front().at_ms).toString("yyyy-MM-dd hh:mm");
}

}  // namespace

BlindSetup::BlindSetup(QWidget* parent) : QWidget(parent) {
  auto* rows = new QVBoxLayout(this);
  rows->setContentsMargins(16, 4, 16, 8);
  rows->setSpacing(6);
  rows->addWidget(answer_ = answer_label(this, "p_value"));
  rows->addWidget(note_ = soft_label({}, this));
  note_->setWordWrap(true);
  note_->hide();
  rows->addWidget(make_form());
  rows->addWidget(chances_ = soft_label({}, this));
  chances_->setWordWrap(true);
  rows->addSpacing(8);
  rows->addWidget(title_label(tr("Tests of this bench"), this));
  make_table();
  rows->addWidget(table_, 1);
  refresh();
}

QWidget* BlindSetup::make_form() {
  auto* form = new QWidget(this);
  auto* lines = new QVBoxLayout(form);
  lines->setContentsMargins(0, 2, 0, 2);
  const auto line = [&] {
    auto* row = new QHBoxLayout;
    row->setSpacing(6);
    lines->addLayout(row);
    return row;
  };
  auto* first = line();
  method_ = new QComboBox(form);
  for (const MethodWords& m : methods)
    method_->addItem(QString("%1: %2").arg(tr(title_of(m.method)), tr(m.what)), int(m.method));
  method_->setAccessibleName(tr("Method"));
  trial_ = new QComboBox(form);
  trial_->setAccessibleName(tr("The trial that is heard against its master"));
  trial_->setToolTip(trial_->accessibleName());
  trial_->setMinimumContentsLength(24);
  trial_->setSizeAdjustPolicy(QComboBox::AdjustToMinimumContentsLengthWithIcon);
  first->addWidget(soft_label(tr("listen to"), form));
  first->addWidget(trial_, 1);
  first->addWidget(soft_label(tr("by"), form));
  first->addWidget(method_, 1);
  auto* second = line();
  from_ = seconds_field(form, tr("Where the excerpt begins"));
  until_ = seconds_field(form, tr("Where it ends; it is played round and round"));
  until_->setValue(8);
  rounds_ = new QSpinBox(form);
  set_term(rounds_, "answers");
  rounds_->setRange(1, 200);
  rounds_->setValue(16);
  rounds_->setAccessibleName(tr("Rounds"));
  rounds_->setMinimumWidth(64);
  make_ladders(form);
  make_among(form);
  catches_ = new QCheckBox(tr("a third of the pairs are equal"), form);
  catches_->setToolTip(tr("A catch test: how often is one preferred where both are the same?"));
  crossfade_ = new QCheckBox(tr("crossfade"), form);
  crossfade_->setChecked(true);
  crossfade_->setToolTip(tr("Switch over 10 ms; without it over 1 ms, just long enough not to click"));
  train_ = new QPushButton(tr("Train first"), form);
  train_->setToolTip(tr("The same, with names shown; nothing is kept"));
  begin_ = new QPushButton(tr("Begin"), form);
  begin_->setProperty("main", true);
  second->addWidget(soft_label(tr("from"), form));
  second->addWidget(from_);
  second->addWidget(soft_label(tr("to"), form));
  second->addWidget(until_);
  counted_ = {soft_label(tr("rounds"), form), rounds_};
  for (QWidget* w : counted_) second->addWidget(w);
  second->addWidget(ladder_);
  second->addWidget(rule_);
  second->addWidget(among_);
  second->addWidget(catches_);
  second->addWidget(crossfade_);
  second->addStretch(1);
  second->addWidget(stop_ = new QPushButton(tr("Stop"), form));
  stop_->hide();
  connect(stop_, &QPushButton::clicked, this, &BlindSetup::stop_wanted);
  second->addWidget(train_);
  second->addWidget(begin_);
  connect(begin_, &QPushButton::clicked, this, &BlindSetup::begin_wanted);
  connect(train_, &QPushButton::clicked, this, &BlindSetup::training_wanted);
  connect(method_, &QComboBox::currentIndexChanged, this, [this] {
    rounds_->setValue(words_of(choice().method).rounds);
    refresh();
  });
  connect(rounds_, &QSpinBox::valueChanged, this, &BlindSetup::refresh);
  connect(trial_, &QComboBox::currentIndexChanged, this, &BlindSetup::refresh);
  return form;
}

void BlindSetup::make_ladders(QWidget* form) {
  ladder_ = new QComboBox(form);
  for (const LadderWords& l : ladders()) ladder_->addItem(tr(l.name));
  ladder_->setAccessibleName(tr("What the difference is in"));
  ladder_->setToolTip(ladder_->accessibleName());
  rule_ = new QComboBox(form);
  rule_->addItem(tr("told apart 70.7 % of the time"), 2);
  rule_->addItem(tr("told apart 79.4 % of the time"), 3);
  rule_->addItem(tr("heard half of the time (yes or no)"), 1);
  rule_->setAccessibleName(tr("Which threshold is sought"));
  rule_->setToolTip(tr("Down after two, three or one right answers, up after a wrong one (Levitt 1971)"));
  connect(ladder_, &QComboBox::currentIndexChanged, this, &BlindSetup::refresh);
  connect(rule_, &QComboBox::currentIndexChanged, this, &BlindSetup::refresh);
}

void BlindSetup::make_among(QWidget* form) {
  among_ = new QToolButton(form);
  among_->setPopupMode(QToolButton::InstantPopup);
  among_->setMinimumHeight(28);
  among_->setToolTip(tr("Which trials are graded at once"));
  among_->setMenu(new QMenu(among_));
  connect(among_->menu(), &QMenu::aboutToShow, this, [this] {
    among_->menu()->clear();
    const MasterTrials* m = chosen_master();
    for (size_t n = 0; m && n < m->trials.size(); ++n) {
      QAction* action = among_->menu()->addAction(m->names[n]);
      action->setCheckable(true);
      action->setChecked(!left_.contains(m->trials[n]));
      connect(action, &QAction::toggled, this, [this, id = m->trials[n]](bool on) {
        if (on)
          left_.erase(id);
        else
          left_.insert(id);
        refresh();
      });
    }
  });
}

const BlindSetup::MasterTrials* BlindSetup::chosen_master() const {
  const std::string id = trial_->currentData().toString().toStdString();
  for (const MasterTrials& m : masters_)
    if (std::find(m.trials.begin(), m.trials.end(), id) != m.trials.end()) return &m;
  return nullptr;
}

void BlindSetup::choose_among(const std::vector<std::string>& trials) {
  left_.clear();
  for (const MasterTrials& m : masters_)
    for (const std::string& id : m.trials)
      if (std::find(trials.begin(), trials.end(), id) == trials.end()) left_.insert(id);
  refresh();
}

void BlindSetup::make_table() {
  table_ = new ResultTable(tr("Blind tests of this bench"), this);
  const auto of = [this](size_t n) -> const BlindTest& { return tests_[n]; };
  table_->set_columns(
      {{tr("When"), {}, [of](size_t n) { return Cell{when_of(of(n))}; }, false, 120},
       {tr("Method"), {}, [of](size_t n) { return Cell{tr(title_of(of(n).design.method))}; }, false, 190},
       {tr("Listened to"),
        {},
        [of](size_t n) {
          const BlindTest& t = of(n);
          return Cell{heard_in(t)};
        },
        false,
        190},
       {tr("What it shows"), {}, [this, of](size_t n) { return result_cell(of(n)); }, false, Column::stretch},
       {tr("Hash of its key"), tr("SHA-256 of the sealed order, shown before the first answer"),
        [of](size_t n) {
          const QString hash = QString::fromStdString(of(n).key.hash);
          return Cell{hash.left(12) + QChar(0x2026), {}, hash};
        },
        false, 120}});
  connect(table_, &ResultTable::opened, this, [this, of](size_t n) { emit test_opened(of(n).id); });
}

Cell BlindSetup::result_cell(const BlindTest& test) const {
  try {
    if (!is_ended(test))
      return {test.design.method == BlindMethod::threshold
                  ? tr("sealed after %1 answers: open it to go on").arg(counted(test))
                  : tr("sealed, %1 of %2 answered: open it to go on").arg(counted(test)).arg(test.design.rounds)};
    return {QString::fromStdString(result_of(test).sentence)};
  } catch (const SealError& error) {
    return {QString::fromUtf8(error.what()), {}, QString::fromUtf8(error.what()), Role::rust};
  }
}

std::string BlindSetup::chosen_test() const {
  const auto rows = table_->chosen();
  return rows.empty() ? std::string() : tests_[rows.front()].id;
}

/// Only where they are others: a list that is open stays open.
void BlindSetup::show_bench(const Bench& bench) {
  if (!std::equal(tests_.rbegin(), tests_.rend(), bench.blind.begin(), bench.blind.end()))
    tests_.assign(bench.blind.rbegin(), bench.blind.rend());
  std::vector<std::pair<QString, QString>> items, now;
  masters_.clear();
  for (const Master& m : bench.masters) {
    masters_.push_back({m.id, {}, {}});
    for (const Trial& t : m.trials) {
      items.emplace_back(QString::fromStdString(m.name + ": " + title_of(t)), QString::fromStdString(t.id));
      masters_.back().trials.push_back(t.id);
      masters_.back().names << QString::fromStdString(title_of(t));
    }
  }
  for (int n = 0; n < trial_->count(); ++n) now.emplace_back(trial_->itemText(n), trial_->itemData(n).toString());
  if (items != now) {
    const QSignalBlocker quiet(trial_);
    const auto before = trial_->currentData();
    trial_->clear();
    for (const auto& [name, id] : items) trial_->addItem(name, id);
    trial_->setCurrentIndex(std::max(0, trial_->findData(before)));
  }
  table_->set_rows(tests_.size(), [this](size_t n) { return QString::fromStdString(tests_[n].id); });
  refresh();
}

void BlindSetup::propose(const std::string& trial, const std::optional<std::pair<double, double>>& seconds,
                         double length_s) {
  if (const int at = trial_->findData(QString::fromStdString(trial)); at >= 0 && trial != proposed_) {
    proposed_ = trial;
    trial_->setCurrentIndex(at);
  }
  if (seconds && seconds != proposed_seconds_) {
    from_->setValue(seconds->first), until_->setValue(seconds->second);
  } else if (!seconds && length_s > 0 && until_->value() > length_s) {
    from_->setValue(0), until_->setValue(std::min(8.0, length_s));
  }
  proposed_seconds_ = seconds;
}

BlindChoice BlindSetup::choice() const {
  BlindChoice c;
  c.method = BlindMethod(method_->currentData().toInt());
  c.rounds = rounds_->value(), c.catches = catches_->isChecked() && c.method == BlindMethod::preference;
  c.from_s = from_->value(), c.until_s = until_->value();
  c.ladder = ladders()[size_t(std::max(0, ladder_->currentIndex()))].design;
  c.right_to_go_down = rule_->currentData().toInt();
  if (const MasterTrials* m = chosen_master()) {
    c.master = m->master;
    if (c.method == BlindMethod::multi)
      std::copy_if(m->trials.begin(), m->trials.end(), std::back_inserter(c.trials),
                   [this](const std::string& id) { return !left_.contains(id); });
    else
      c.trials = {trial_->currentData().toString().toStdString()};
  }
  return c;
}

void BlindSetup::choose(BlindMethod method) { method_->setCurrentIndex(method_->findData(int(method))); }

void BlindSetup::choose(const LadderDesign& ladder, int right_to_go_down) {
  choose(BlindMethod::threshold);
  for (size_t n = 0; n < ladders().size(); ++n)
    if (ladders()[n].design == ladder) ladder_->setCurrentIndex(int(n));
  rule_->setCurrentIndex(rule_->findData(right_to_go_down));
}

void BlindSetup::say(const QString& sentence) {
  note_->setText(sentence);
  note_->setVisible(!sentence.isEmpty());
}

void BlindSetup::show_making(bool making) {
  stop_->setVisible(making);
  for (QPushButton* b : {begin_, train_}) b->setVisible(!making);
}

void BlindSetup::refresh() {
  const BlindMethod method = choice().method;
  const bool any = trial_->count() > 0;
  catches_->setVisible(method == BlindMethod::preference);
  among_->setVisible(method == BlindMethod::multi);
  if (const MasterTrials* m = chosen_master())
    among_->setText(tr("%1 of %2 trials").arg(choice().trials.size()).arg(m->trials.size()));
  begin_->setEnabled(any), train_->setEnabled(any);
  answer_->setText(any ? tr("Can it be heard? Listen without knowing which is which.")
                       : tr("Put a master and its return on the bench, then find out by ear."));
  for (QWidget* w : counted_) w->setVisible(method != BlindMethod::threshold);
  for (QWidget* w : {ladder_, rule_}) w->setVisible(method == BlindMethod::threshold);
  chances_->setText(chance_words());
}

QString BlindSetup::chance_words() const {
  const BlindChoice c = choice();
  if (c.method == BlindMethod::threshold)
    return tr("The difference gets smaller while it is heard and greater while it is not, for some 40 to 70 answers. "
              "%1 An excerpt of 2 to %2 s is best.")
        .arg(c.ladder.of == LadderOf::level ? tr("The level is all that differs.")
                                            : tr("All are brought to one loudness within %1 LU.").arg(equal_within_lu))
        .arg(longest_ladder_s);
  if (c.method != BlindMethod::abx)
    return tr("All are brought to the master's loudness within %1 LU, and switch at the same place.")
        .arg(equal_within_lu);
  if (needed_right(c.rounds) > c.rounds)
    return tr("%1 rounds can't show anything: %2 are needed, all of them right.").arg(c.rounds).arg(needed_answers());
  return tr("%1 of %2 right would happen by guessing less than 1 time in 20. Who hears it 8 times in 10 reaches that "
            "with a chance of %3 %.")
      .arg(needed_right(c.rounds))
      .arg(c.rounds)
      .arg(100 * power_of(c.rounds, 0.9), 0, 'f', 0);
}

}  // namespace heathmist::app
