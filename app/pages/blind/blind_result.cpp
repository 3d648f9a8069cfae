#include "app/pages/blind/blind_result.hpp"

#include <QHBoxLayout>
#include <QSplitter>
#include <QVBoxLayout>

#include "app/theme/theme.hpp"
#include "app/widgets/labels.hpp"
#include "app/widgets/terms.hpp"
#include "core/compare/json.hpp"

namespace heathmist::app {

BlindResultView::BlindResultView(QWidget* parent) : QWidget(parent) {
  auto* rows = new QVBoxLayout(this);
  rows->setContentsMargins(16, 4, 16, 8);
  rows->setSpacing(4);
  rows->addWidget(answer_ = answer_label(this, "p_value"));
  rows->addWidget(detail_ = soft_label({}, this));
  detail_->setWordWrap(true);
  set_term(detail_, "p_value");
  auto* split = new QSplitter(Qt::Vertical, this);
  split->setHandleWidth(1);
  plot_ = new GraphPlate("blind", tr("How the answers went"), split);
  set_term(plot_, "answers");
  table_ = new ResultTable(tr("The rounds, with what was played"), split);
  split->setSizes({220, 300});
  rows->addWidget(split, 1);
  auto* foot = new QHBoxLayout;
  key_ = soft_label({}, this);
  key_->setTextInteractionFlags(Qt::TextSelectableByMouse | Qt::TextSelectableByKeyboard);
  key_->setWordWrap(true);
  auto* back = new QPushButton(tr("Back to the tests"), this);
  back->setProperty("main", true);
  connect(back, &QPushButton::clicked, this, &BlindResultView::back_wanted);
  foot->addWidget(key_, 1);
  foot->addWidget(back, 0, Qt::AlignBottom);
  rows->addLayout(foot);
  connect(&Theme::instance(), &Theme::changed, this, [this] { plot_->show_series([this] { return series(); }); });
}

void BlindResultView::show_test(const BlindTest& test, const QString& beside) {
  test_ = test;
  const BlindResult result = result_of(test);
  rounds_ = blind_rounds(test);
  answer_->setText(QString::fromStdString(result.sentence));
  detail_->setText((detail_of(result) + " " + beside).trimmed());
  key_->setText(tr("Key, sealed before the first answer: %1\nSHA-256: %2")
                    .arg(QString::fromStdString(result.key), QString::fromStdString(test.key.hash)));
  set_columns();
  table_->set_rows(rounds_.size());
  threshold_ = result.threshold;
  const bool graded = !result.grades.empty();
  plot_->set_axes(tr("round"), threshold_ ? QString::fromStdString(test.unit)
                               : graded   ? tr("grade")
                                          : tr("right so far, of all"));
  plot_->setVisible(test.design.method != BlindMethod::preference);
  plot_->show_series([this] { return series(); });
}

QString BlindResultView::detail_of(const BlindResult& r) const {
  QStringList words{tr("%1, from %2 to %3 s.")
                        .arg(test_.design.ladder ? tr("Against %1").arg(QString::fromStdString(test_.stimuli[0].name))
                             : test_.stimuli.size() == 2 ? QString::fromStdString(test_.stimuli[1].name)
                                                         : tr("All at once"))
                        .arg(test_.from_s, 0, 'f', 1)
                        .arg(test_.until_s, 0, 'f', 1)};
  if (r.verdict)
    words << tr("%1 % right (95 % interval %2 to %3 %).")
                 .arg(100 * r.verdict->share, 0, 'f', 0)
                 .arg(100 * r.verdict->low, 0, 'f', 0)
                 .arg(100 * r.verdict->high, 0, 'f', 0);
  if (r.preference && r.no_preference > 0) words << tr("No difference was heard in %1 rounds.").arg(r.no_preference);
  if (r.grades.size() > 1)
    for (size_t n = 0; n < r.grades.size(); ++n)
      words << tr("%1: %2 (%3 to %4).")
                   .arg(QString::fromStdString(test_.stimuli[n].name))
                   .arg(r.grades[n].mean, 0, 'f', 0)
                   .arg(r.grades[n].low, 0, 'f', 0)
                   .arg(r.grades[n].high, 0, 'f', 0);
  if (r.voids > 0) words << tr("%1 void: they do not count.").arg(r.voids);
  return words.join(" ");
}

/// Where the staircase stood, round by round, and the threshold it found.
std::vector<Series> BlindResultView::stairs() const {
  Series course, found;
  course.name = tr("the difference"), course.ink = colour(Role::residual);
  found.name = tr("threshold"), found.ink = colour(Role::soft), found.style = Qt::DashLine, found.marked = false;
  for (size_t n = 0; n < rounds_.size(); ++n)
    if (rounds_[n].value && rounds_[n].right) {
      course.xs.push_back(double(n + 1)), course.ys.push_back(*rounds_[n].value);
      if (threshold_) found.xs.push_back(double(n + 1)), found.ys.push_back(*threshold_);
    }
  return {course, found};
}

/// Right answers as a share of all so far, beside what guessing comes to; or the grades of each stimulus.
std::vector<Series> BlindResultView::series() const {
  if (test_.design.method == BlindMethod::threshold) return stairs();
  Series share, guessed;
  share.name = tr("right so far"), share.ink = colour(Role::residual), share.marked = false;
  guessed.name = tr("by guessing"), guessed.ink = colour(Role::soft), guessed.style = Qt::DashLine,
  guessed.marked = false;
  for (size_t n = 0; n < rounds_.size(); ++n)
    if (rounds_[n].share_so_far) {
      share.xs.push_back(double(n + 1)), share.ys.push_back(*rounds_[n].share_so_far);
      guessed.xs.push_back(double(n + 1)), guessed.ys.push_back(1.0 / choices_of(test_.design));
    }
  if (!share.xs.empty()) return {share, guessed};
  std::vector<Series> all;
  for (size_t n = 0; n < test_.stimuli.size(); ++n) {
    Series s;
    s.name = QString::fromStdString(test_.stimuli[n].name);
    s.ink = colour(n == 0 ? Role::master : test_.stimuli[n].trial.empty() ? Role::soft : Role::residual);
    s.style = line_style(n);
    for (size_t r = 0; r < rounds_.size(); ++r)
      if (const auto grade = grade_of(test_, rounds_[r], n)) s.xs.push_back(double(r + 1)), s.ys.push_back(*grade);
    all.push_back(std::move(s));
  }
  return all;
}

Cell BlindResultView::played_cell(size_t row, size_t button) const {
  const BlindRound& r = rounds_[row];
  const auto stimulus = size_t(r.round.buttons[button]);
  const QString name = QString::fromStdString(test_.stimuli[stimulus].name);
  const auto grade = grade_of(test_, r, stimulus);
  const bool graded = grade && button >= size_t(open_buttons(test_.design.method));
  return {graded ? tr("%1: %2").arg(name).arg(*grade) : name, grade};
}

Cell BlindResultView::answer_cell(size_t row) const {
  const BlindRound& r = rounds_[row];
  if (!r.given.void_why.empty()) return {QString::fromUtf8("\u2013")};
  if (r.given.button < 0) return {tr("no difference")};
  if (asks_yes_or_no(test_.design)) return {r.given.button == 1 ? tr("it differs") : tr("the same")};
  return {QString::fromStdString(button_name(test_.design.method, r.given.button))};
}

void BlindResultView::set_columns() {
  const BlindMethod method = test_.design.method;
  const bool graded = method == BlindMethod::triple || method == BlindMethod::multi;
  const auto number_of = [](size_t n) { return Cell{QString::number(n + 1), double(n)}; };
  std::vector<Column> columns{{tr("Round"), {}, number_of, true, 60, "answers"}};
  const size_t buttons = rounds_.empty() ? 0 : rounds_.front().round.buttons.size();
  for (size_t b = size_t(open_buttons(method)); b < buttons; ++b)
    columns.push_back({QString::fromStdString(button_name(method, int(b))), tr("What was played"),
                       [this, b](size_t n) { return played_cell(n, b); }, false, Column::stretch});
  if (!graded) columns.push_back({tr("Answer"), {}, [this](size_t n) { return answer_cell(n); }, false, 100});
  if (choices_of(test_.design) > 0 || asks_yes_or_no(test_.design))
    columns.push_back({tr("Right"),
                       {},
                       [this](size_t n) {
                         const auto& right = rounds_[n].right;
                         if (!right) return Cell{QString::fromUtf8("\u2013")};
                         return *right ? Cell{tr("right"), {}, {}, Role::moss} : Cell{tr("wrong"), {}, {}, Role::rust};
                       },
                       false,
                       70});
  columns.push_back(
      {tr("Took, s"), {}, [this](size_t n) { return number_cell(rounds_[n].given.took_s, 1); }, true, 80, "answers"});
  if (counted(test_) < int(test_.answers.size()))
    columns.push_back({tr("Void"),
                       {},
                       [this](size_t n) { return Cell{QString::fromStdString(rounds_[n].given.void_why)}; },
                       false,
                       160});
  table_->set_columns(std::move(columns));
}

QString BlindResultView::csv() const { return QString::fromStdString(csv_of(blind_log(test_), {"round"})); }

}  // namespace heathmist::app
