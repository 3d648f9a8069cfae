#include "app/pages/engines/engines_view.hpp"

#include <QScrollArea>
#include <QVBoxLayout>
#include <algorithm>

#include "app/pages/engines/engine_table.hpp"
#include "app/theme/theme.hpp"
#include "app/widgets/labels.hpp"
#include "app/widgets/panel_head.hpp"
#include "app/widgets/terms.hpp"
#include "core/compare/json.hpp"
#include "core/probes/engine_answers.hpp"
#include "core/probes/score_json.hpp"

namespace heathmist::app {

namespace {

QPushButton* button(const QString& text, const QString& hint, QWidget* parent) {
  auto* made = new QPushButton(text, parent);
  made->setToolTip(hint);
  return made;
}

}  // namespace

EnginesView::EnginesView(Queue& queue, QWidget* parent) : QWidget(parent), readings_(queue) {
  auto* columns = new QSplitter(Qt::Horizontal, this);
  columns->setHandleWidth(1);
  columns->setChildrenCollapsible(false);
  auto* left = new QWidget(columns);
  auto* left_rows = new QVBoxLayout(left);
  left_rows->setContentsMargins(0, 0, 0, 10);
  cards_ = new EngineCards(left);
  left_rows->addWidget(cards_, 1);
  auto* add = button(tr("Add an engine\u2026"), tr("One of your own by name, or a stand-in"), left);
  left_rows->addWidget(add, 0, Qt::AlignHCenter);
  add->setObjectName("addEngine");
  connect(add, &QPushButton::clicked, this, [this, add] { emit add_wanted(add->mapToGlobal(QPoint(0, 0))); });
  columns->addWidget(left);
  columns->addWidget(make_middle());
  columns->addWidget(make_side());
  left->setMinimumWidth(190);
  columns->setStretchFactor(0, 0);
  columns->setStretchFactor(1, 1);
  columns->setStretchFactor(2, 0);
  columns->setSizes({236, 776, 256});
  auto* rows = new QVBoxLayout(this);
  rows->setContentsMargins(0, 0, 0, 0);
  rows->addWidget(columns);
  connect(cards_, &EngineCards::chosen, this, &EnginesView::choose);
  connect(cards_, &EngineCards::menu_wanted, this, &EnginesView::menu_wanted);
  connect(&readings_, &EngineReadings::changed, this, [this] {
    cards_->show_engines(bench_.engines, readings_);
    draw();
  });
  connect(&Theme::instance(), &Theme::changed, this, &EnginesView::draw);
  draw();
}

QWidget* EnginesView::make_middle() {
  auto* middle = new QWidget(this);
  middle->setMinimumWidth(420);
  auto* rows = new QVBoxLayout(middle);
  rows->setContentsMargins(12, 4, 10, 6);
  rows->setSpacing(4);
  auto* head = new QHBoxLayout;
  head->setSpacing(6);
  kinds_ = new Chooser(middle);
  for (const std::string& kind : engine_kinds())
    kinds_->add(title_of_kind(kind), QString::fromStdString(probe_kind(kind)->what), new QWidget);
  kinds_->add(tr("Side by side"), tr("All engines in one table"), new QWidget);
  kinds_->choose(1);
  kinds_->pages()->setParent(middle);
  kinds_->pages()->hide();
  connect(kinds_, &Chooser::chosen, this, [this](int index) {
    choose(engine_id_, size_t(index) < engine_kinds().size() ? engine_kinds()[size_t(index)] : all_engines);
  });
  head->addWidget(kinds_);
  head->addStretch(1);
  bring_ = button(tr("Bring in the render\u2026"), tr("What the engine made of the probe"), middle);
  ask_ = button(tr("Ask the stand-in"), tr("Have it do the score, and read what it renders"), middle);
  for (QPushButton* b : {bring_, ask_}) b->setProperty("main", true), head->addWidget(b);
  connect(bring_, &QPushButton::clicked, this, &EnginesView::render_wanted);
  connect(ask_, &QPushButton::clicked, this, &EnginesView::asking_wanted);
  rows->addLayout(head);
  rows->addWidget(answer_ = answer_label(middle, "engine_gain"));
  rows->addWidget(detail_ = soft_label({}, middle));
  detail_->setWordWrap(true);
  split_ = new QSplitter(Qt::Vertical, middle);
  split_->setHandleWidth(1);
  split_->addWidget(plots_ = new EnginePlots(split_));
  split_->addWidget(table_ = new ResultTable(tr("What was read"), split_));
  connect(table_, &ResultTable::chosen_changed, this, &EnginesView::look_at_chosen);
  split_->setSizes({330, 270});
  rows->addWidget(split_, 1);
  rows->addWidget(empty_ = new QLabel(middle), 1);
  empty_->setAlignment(Qt::AlignCenter);
  empty_->setProperty("soft", true);
  empty_->setWordWrap(true);
  with_others_ =
      button(tr("With the other engines"), tr("Draws what the others made of it softly under this one"), middle);
  with_others_->setCheckable(true);
  connect(with_others_, &QPushButton::toggled, this, &EnginesView::draw);
  rows->addWidget(with_others_, 0, Qt::AlignLeft);
  return middle;
}

QWidget* EnginesView::make_side() {
  auto* side = side_ = new QWidget(this);
  side->setMinimumWidth(200);
  const auto [rows, note] = put_head(side, tr("Score: what to do"));
  note->hide();
  auto* scroll = new QScrollArea(side);
  scroll->setWidgetResizable(true);
  scroll->setAccessibleName(tr("What is to be done with the probe"));
  scroll->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
  steps_ = new QLabel(scroll);
  set_term(steps_, "engine_gain");
  steps_->setFont(face(Type::small));
  steps_->setWordWrap(true);
  steps_->setAlignment(Qt::AlignTop);
  steps_->setContentsMargins(16, 0, 12, 8);
  steps_->setTextInteractionFlags(Qt::TextSelectableByMouse);
  scroll->setWidget(steps_);
  rows->addWidget(scroll, 1);
  auto* foot = new QVBoxLayout;
  foot->setContentsMargins(16, 4, 12, 8);
  foot->setSpacing(6);
  rate_ = new QComboBox(side);
  for (const int hz : {44100, 48000, 88200, 96000, 176400, 192000}) rate_->addItem(tr("%1 kHz").arg(hz / 1000.0), hz);
  rate_->setCurrentIndex(1);
  rate_->setAccessibleName(tr("The rate a probe is written at"));
  rate_->setToolTip(rate_->accessibleName());
  foot->addWidget(rate_);
  auto* write = button(tr("Write the probe\u2026"), tr("The file to bring into the engine under test"), side);
  connect(write, &QPushButton::clicked, this, &EnginesView::probe_wanted);
  foot->addWidget(write);
  auto* score =
      button(tr("Save the score\u2026"), tr("As a table, as JSON, or as a MIDI file that an engine can import"), side);
  connect(score, &QPushButton::clicked, this, &EnginesView::score_wanted);
  foot->addWidget(score);
  rows->addLayout(foot);
  rows->addWidget(findings_ = new FindingsPanel(side), 2);
  return side;
}

void EnginesView::show_bench(const Bench& bench) {
  if (taken_up_ && bench.engines == bench_.engines) return;
  taken_up_ = true;
  bench_ = bench;
  if (!engine() && !bench_.engines.empty()) engine_id_ = bench_.engines.front().id;
  readings_.set_bench(bench);
}

const TestedEngine* EnginesView::engine() const { return bench_.engine(engine_id_); }

void EnginesView::choose(const std::string& engine_id, const std::string& kind) {
  engine_id_ = engine_id;
  if (!kind.empty()) kind_ = kind;
  const auto& kinds = engine_kinds();
  const int place = int(std::find(kinds.begin(), kinds.end(), kind_) - kinds.begin());
  const QSignalBlocker quiet(kinds_);
  kinds_->choose(place);
  draw();
}

std::vector<NamedReading> EnginesView::others() const {
  std::vector<NamedReading> all;
  if (const RenderState* state = clip_gain(); state && state->reading) all.push_back({tr("clip gain"), state->reading});
  for (const TestedEngine& e : bench_.engines) {
    if (!with_others_->isChecked() || e.id == engine_id_) continue;
    if (const RenderState* state = readings_.of(e, kind_); state && state->reading)
      all.push_back({QString::fromStdString(e.name), state->reading});
  }
  return all;
}

/// The same line by another control of the chosen engine.
const RenderState* EnginesView::clip_gain() const {
  return engine() && kind_ == "gain" ? readings_.of(*engine(), kind_, "clip gain") : nullptr;
}

QString EnginesView::answer_of(const RenderState* state) const {
  const TestedEngine* e = engine();
  if (!e) return tr("What does a mixing engine do to audio when it only says that it passes it on?");
  const QString name = QString::fromStdString(e->name), kind = title_of_kind(kind_).toLower();
  if (!state)
    return e->stand_in.empty() ? tr("%1 has not been asked for its %2 yet.").arg(name, kind)
                               : tr("Ask %1 for its %2.").arg(name, kind);
  if (!state->failure.isEmpty()) return state->failure;
  if (!state->reading) return tr("Reading what %1 made of it\u2026").arg(name);
  const auto findings = engine_findings(*state->reading);
  return findings.empty() ? name : with_minus(findings.front().text);
}

void EnginesView::draw() {
  cards_->choose(engine_id_, kind_);
  const bool all = kind_ == all_engines;
  const TestedEngine* e = engine();
  const RenderState* state = e && !all ? readings_.of(*e, kind_) : nullptr;
  ask_->setVisible(e && !e->stand_in.empty() && !all && !state);
  bring_->setVisible(e && e->stand_in.empty() && !all);
  with_others_->setVisible(!all && kind_ != "transit" && bench_.engines.size() > 1);
  side_->setVisible(!all);
  empty_->setVisible(bench_.engines.empty());
  split_->setVisible(!bench_.engines.empty());
  plots_->setVisible(!all && kind_ != "transit");
  if (all) {
    answer_->setText(bench_.engines.size() == 1 ? tr("One engine: add another to see them side by side")
                                                : tr("%1 engines side by side").arg(bench_.engines.size()));
    detail_->clear();
    show_side_by_side(*table_, bench_.engines, readings_);
    findings_->show_findings({});
    steps_->clear();
    return;
  }
  answer_->setText(answer_of(state));
  draw_reading(state);
  draw_score();
}

void EnginesView::draw_reading(const RenderState* state) {
  const auto reading = state ? state->reading : nullptr;
  empty_->setText(
      tr("Add an engine: one of your own by name, or a stand-in to see how it goes.\n\n"
         "You write a probe, do in the engine what its score says, bring in the render, and read what became of it."));
  auto findings = reading ? engine_findings(*reading) : std::vector<Finding>();
  for (Finding& f : findings) f.text = with_minus(f.text).toStdString();
  QString detail = findings.size() > 1 ? QString::fromStdString(findings[1].text) : QString();
  if (const RenderState* by_clip = clip_gain())
    detail += (detail.isEmpty() ? "" : " ") + tr("Clip gain of the same engine: %1.")
                                                  .arg(by_clip->reading ? with_minus(engine_label(*by_clip->reading))
                                                       : by_clip->failure.isEmpty() ? tr("reading\u2026")
                                                                                    : by_clip->failure);
  detail_->setText(detail);
  detail_->setVisible(!detail_->text().isEmpty());
  findings_->show_findings(findings);
  show_in(*table_, reading);
  table_->setVisible(reading != nullptr);
  if (reading)
    plots_->show_reading({QString::fromStdString(engine()->name), reading}, others());
  else if (engine())
    plots_->show_score(probe_score(kind_, rate_hz()));
  else
    plots_->show_nothing();
}

void EnginesView::draw_score() {
  const auto score = probe_score(kind_, rate_hz());
  QStringList lines{score.files() > 1 ? tr("Two files on one track, from 0:00 on.")
                                      : tr("Put the probe on a stereo track at 0:00.")};
  const auto steps = score_steps(score);
  if (steps.empty()) lines << tr("Leave every fader at 0 dB and the pan in the middle.");
  for (const auto& step : steps) lines << with_minus(step);
  lines << tr("Render the whole track, from before the first chirp to after the last, at any rate.");
  steps_->setText(lines.join("\n"));
}

/// An event is looked at from a little before it is drawn until it is done.
void EnginesView::look_at_chosen() {
  const TestedEngine* e = engine();
  const RenderState* state = e ? readings_.of(*e, kind_) : nullptr;
  if (!state || !state->reading || !state->reading->gain) return;
  const auto chosen = table_->chosen();
  if (chosen.size() != 1) return plots_->look_at({});
  const GainEventReading& event = state->reading->gain->events[chosen.front()];
  const double done_s = event.drawn.length_s + (event.late_ms.value_or(0) + event.length_ms.value_or(0)) / 1000;
  const double room_s = 0.003 + 0.5 * done_s;
  plots_->look_at({{event.drawn.at_s - room_s, event.drawn.at_s + done_s + room_s}});
}

QStringList EnginesView::steps() const { return steps_->text().split("\n", Qt::SkipEmptyParts); }

QString EnginesView::csv() const {
  std::vector<Json> rows;
  for (const TestedEngine& e : bench_.engines) rows.push_back(engine_row(e, readings_.readings()));
  return QString::fromStdString(csv_of(rows, {"engine"}));
}

}  // namespace heathmist::app
