#include "app/pages/crossfade/crossfade_view.hpp"

#include <QHBoxLayout>
#include <QSplitter>
#include <QVBoxLayout>
#include <algorithm>
#include <cmath>

#include "app/theme/theme.hpp"
#include "app/widgets/labels.hpp"
#include "app/widgets/terms.hpp"

namespace heathmist::app {

namespace {

constexpr double even_db = 0.5;  // less is not heard as a dip

QString capital(const char* words) {
  QString text = QObject::tr(words);
  return text.left(1).toUpper() + text.mid(1);
}

NumberField* field(QWidget* parent, double high, double value, double step, int decimals, const QString& unit,
                   const QString& hint) {
  auto* box = new NumberField(parent);
  box->setRange(0, high);
  box->setDecimals(decimals);
  box->setSingleStep(step);
  box->setSuffix(" " + unit);
  box->setValue(value);
  box->setToolTip(hint);
  box->setAccessibleName(hint);
  box->setMinimumWidth(92);
  set_term(box, "time");
  return box;
}

}  // namespace

CrossfadeView::CrossfadeView(Queue& queue, QWidget* parent) : QWidget(parent), work_(queue) {
  auto* rows = new QVBoxLayout(this);
  rows->setContentsMargins(12, 4, 12, 6);
  rows->setSpacing(4);
  rows->addWidget(make_head());
  rows->addWidget(answer_ = answer_label(this, "fade_level"));
  auto* split = new QSplitter(Qt::Vertical, this);
  split->setHandleWidth(1);
  auto* plots = new QWidget(split);
  auto* plot_rows = new QVBoxLayout(plots);
  plot_rows->setContentsMargins(0, 0, 0, 0);
  plot_rows->setSpacing(2);
  levels_ = new GraphPlate("crossfade", tr("Level over the fade by each law"), plots);
  set_term(levels_, "fade_level");
  levels_->axisRect()->setMinimumMargins(QMargins(48, 8, 14, 20));
  levels_->set_axes({}, tr("level, dB"));
  levels_->set_names_in_a_row();
  alike_ = new GraphPlate("correlation", tr("Correlation of the two clips over the fade"), plots);
  set_term(alike_, "correlation");
  alike_->set_axes(tr("seconds of the fade"), tr("correlation"));
  plot_rows->addWidget(levels_, 3);
  plot_rows->addWidget(alike_, 2);
  make_table(split);
  split->addWidget(plots);
  split->addWidget(table_);
  split->setSizes({400, 170});
  rows->addWidget(split, 1);
  rows->addWidget(make_listening());
  connect(&work_, &LongWork::ended, this, [this](Outcome, const QString& failure) {
    note_->clear();
    if (!failure.isEmpty()) answer_->setText(failure);
    draw();
    emit rested();
  });
  connect(&Theme::instance(), &Theme::changed, this, &CrossfadeView::draw);
  ask();
}

QWidget* CrossfadeView::make_head() {
  auto* head = new QWidget(this);
  auto* row = new QHBoxLayout(head);
  row->setContentsMargins(0, 0, 0, 0);
  row->setSpacing(6);
  const auto clip = [&](const QString& before, const QString& hint, NumberField*& from) {
    row->addWidget(soft_label(before, head));
    auto* box = new QComboBox(head);
    box->setToolTip(hint);
    box->setAccessibleName(hint);
    box->setMinimumContentsLength(12);
    box->setSizeAdjustPolicy(QComboBox::AdjustToMinimumContentsLengthWithIcon);
    row->addWidget(box, 1);
    row->addWidget(soft_label(tr("at"), head));
    from = field(head, 86400, 10, 0.1, 3, tr("s"), tr("Where the fade begins in it"));
    row->addWidget(from);
    connect(box, &QComboBox::currentIndexChanged, this, &CrossfadeView::ask);
    connect(from, &NumberField::valueChanged, this, &CrossfadeView::ask);
    return box;
  };
  a_ = clip(tr("from"), tr("The clip that fades out"), a_from_);
  b_ = clip(tr("to"), tr("The clip that fades in"), b_from_);
  row->addWidget(soft_label(tr("over"), head));
  length_ = field(head, 60000, 1000, 100, 0, tr("ms"), tr("How long the fade is"));
  length_->setMinimum(5);
  row->addWidget(length_);
  connect(length_, &NumberField::valueChanged, this, &CrossfadeView::ask);
  return head;
}

QWidget* CrossfadeView::make_listening() {
  auto* foot = new QWidget(this);
  auto* row = new QHBoxLayout(foot);
  row->setContentsMargins(0, 2, 0, 0);
  row->setSpacing(8);
  itself_ = new QCheckBox(tr("the first clip with itself"), foot);
  itself_->setToolTip(tr("Like sources: what the wrong law does to them is heard at once"));
  connect(itself_, &QCheckBox::toggled, this, &CrossfadeView::ask);
  grains_ = new QCheckBox(tr("as grains of"), foot);
  grains_->setToolTip(
      tr("Short grains in turn from either clip, overlapping by half: there the wrong law is heard most"));
  grain_ = field(foot, 200, 60, 10, 0, tr("ms"), tr("How long a grain is"));
  grain_->setMinimum(20);
  grain_->setEnabled(false);
  connect(grains_, &QCheckBox::toggled, grain_, &QWidget::setEnabled);
  note_ = note_label(foot);
  hear_ = new QPushButton(tr("Hear it"), foot);
  hear_->setProperty("main", true);
  hear_->setToolTip(tr("The crossfade by the chosen law as return, by the best one as master"));
  connect(hear_, &QPushButton::clicked, this, &CrossfadeView::hearing_wanted);
  row->addWidget(itself_);
  row->addWidget(grains_);
  row->addWidget(grain_);
  row->addWidget(note_, 1);
  row->addWidget(hear_);
  return foot;
}

void CrossfadeView::make_table(QWidget* parent) {
  table_ = new ResultTable(tr("What each law does there"), parent);
  const auto law = [this](size_t n) -> const CrossfadeStudy::Law& { return study_->laws[n]; };
  table_->set_columns({{tr("Law"),
                        {},
                        [this, law](size_t n) {
                          return Cell{capital(label_of(law(n).law)), {}, {}, {}, n == study_->best};
                        },
                        false,
                        Column::stretch},
                       {tr("Level in the middle, dB"),
                        {},
                        [law](size_t n) { return number_cell(law(n).level_db[law(n).level_db.size() / 2].second, 2); },
                        true,
                        170,
                        "fade_level"},
                       {tr("Greatest departure, dB"), tr("From even, anywhere in the fade"),
                        [law](size_t n) {
                          const double db = law(n).departure_db;
                          return Cell{number(db, 2),
                                      db,
                                      {},
                                      std::abs(db) < even_db ? Role::moss
                                      : std::abs(db) < 1.5   ? Role::gorse
                                                             : Role::rust};
                        },
                        true, 170, "fade_level"},
                       {tr("Verdict"),
                        {},
                        [this, law](size_t n) {
                          return Cell{n == study_->best                         ? tr("keeps it even best")
                                      : std::abs(law(n).departure_db) < even_db ? tr("even")
                                      : law(n).departure_db < 0                 ? tr("dips")
                                                                                : tr("swells")};
                        },
                        false,
                        150}});
  connect(table_, &ResultTable::chosen_changed, this, [this] {
    if (study_) levels_->show_series([this] { return level_series(); });
  });
  connect(table_, &ResultTable::opened, this, &CrossfadeView::hearing_wanted);
}

namespace {

/// The masters and the files that came back, by name.
std::vector<std::pair<QString, QString>> clips_of(const Bench& bench) {
  std::vector<std::pair<QString, QString>> clips;
  const auto add = [&](const std::string& name, const std::filesystem::path& file) {
    clips.emplace_back(QString::fromStdString(name), QString::fromStdString(file.string()));
  };
  for (const Master& m : bench.masters) {
    add(m.name, m.audio.file);
    for (const Trial& t : m.trials)
      if (!t.chain) add(m.name + ": " + title_of(t), t.ret.file);
  }
  return clips;
}

}  // namespace

/// Only where the clips are others: a list that is open stays open. What is studied is what is chosen.
void CrossfadeView::show_bench(const Bench& bench) {
  auto clips = clips_of(bench);
  if (clips != clips_) {
    const bool first = clips_.empty();
    clips_ = std::move(clips);
    quiet_ = true;
    for (QComboBox* box : {a_, b_}) {
      const auto before = box->currentData();
      box->clear();
      for (const auto& [name, file] : clips_) box->addItem(name, file);
      box->setCurrentIndex(std::max(0, box->findData(before)));
    }
    if (first && bench.masters.size() > 1)
      b_->setCurrentIndex(b_->findData(QString::fromStdString(bench.masters[1].audio.file.string())));
    quiet_ = false;
  }
  const auto choice = chosen();
  if (!choice || !studied_ || !studied_->same_sources(*choice)) ask();
}

void CrossfadeView::choose(const std::filesystem::path& a, const std::filesystem::path& b, const CrossfadeSpot& spot) {
  quiet_ = true;
  a_->setCurrentIndex(a_->findData(QString::fromStdString(a.string())));
  b_->setCurrentIndex(b_->findData(QString::fromStdString(b.string())));
  a_from_->setValue(spot.a_from_s), b_from_->setValue(spot.b_from_s), length_->setValue(1000 * spot.length_s);
  quiet_ = false;
  ask();
}

void CrossfadeView::forget(const std::filesystem::path& file) {
  const auto choice = chosen();
  if (choice && (choice->a == file || choice->b == file)) ask();
}

std::optional<CrossfadeChoice> CrossfadeView::chosen() const {
  if (a_->currentIndex() < 0 || b_->currentIndex() < 0) return {};
  CrossfadeChoice choice;
  choice.a = a_->currentData().toString().toStdString();
  choice.b = itself_->isChecked() ? choice.a : std::filesystem::path(b_->currentData().toString().toStdString());
  choice.spot = {a_from_->value(), itself_->isChecked() ? a_from_->value() : b_from_->value(), length_->value() / 1000};
  if (study_) {
    const auto rows = table_->chosen();
    choice.law = study_->laws[rows.empty() ? study_->best : rows.front()].law;
  }
  if (grains_->isChecked()) choice.options.grain_s = grain_->value() / 1000;
  return choice;
}

void CrossfadeView::ask() {
  if (quiet_) return;
  b_->setEnabled(!itself_->isChecked());
  b_from_->setEnabled(!itself_->isChecked());
  study_.reset();
  studied_ = chosen();
  work_.drop();
  if (!studied_) {
    answer_->setText(tr("Which law keeps the level even between two clips? Put two masters on the bench."));
    return draw();
  }
  answer_->setText(tr("Which law keeps the level even between these two?"));
  draw();
  note_->setText(tr("reading\u2026"));
  work_.start([this, c = *studied_](const Job& job, const Tell& tell) {
    auto study = study_crossfade(Clip::open(c.a, job.part(0, 0.3)), Clip::open(c.b, job.part(0.3, 0.6)), c.spot,
                                 job.part(0.6, 1));
    tell([this, study = std::move(study)] { study_ = study; });
  });
}

std::vector<Series> CrossfadeView::level_series() const {
  std::vector<Series> all;
  if (!study_) return all;
  const auto rows = table_->chosen();
  const size_t chosen = rows.empty() ? study_->best : rows.front();
  constexpr Qt::PenStyle styles[] = {Qt::DashLine, Qt::DotLine, Qt::DashLine, Qt::DashDotLine, Qt::DashDotDotLine};
  for (size_t n = 0; n < study_->laws.size(); ++n) {
    const bool bold = n == chosen;
    Series s;
    s.name = tr(label_of(study_->laws[n].law));
    s.ink = colour(bold ? Role::residual : Role::soft), s.style = bold ? Qt::SolidLine : styles[n % std::size(styles)];
    s.marked = false;
    for (const auto& [at, db] : study_->laws[n].level_db) s.xs.push_back(at), s.ys.push_back(std::max(db, -12.0));
    all.push_back(std::move(s));
  }
  return all;
}

void CrossfadeView::draw() {
  hear_->setEnabled(study_.has_value());
  levels_->show_series([this] { return level_series(); });
  alike_->show_series([this] {
    Series s;
    s.ink = colour(Role::ink), s.marked = false;
    if (study_)
      for (const auto& [at, r] : study_->over_time) s.xs.push_back(at), s.ys.push_back(r);
    return std::vector{s};
  });
  alike_->yAxis->setRange(-1.1, 1.1);
  alike_->xAxis->setRange(levels_->xAxis->range());
  table_->set_rows(study_ ? study_->laws.size() : 0);
  if (study_) answer_->setText(QString::fromStdString(label_of(*study_)).replace(" -", QString::fromUtf8(" \u2212")));
}

}  // namespace heathmist::app
