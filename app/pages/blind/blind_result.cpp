#include "app/pages/blind/blind_result.hpp"

#include <QHBoxLayout>
#include <QSplitter>
#include <QVBoxLayout>

#include "app/theme/theme.hpp"
#include "app/widgets/labels.hpp"
#include "core/compare/json.hpp"

namespace heathmist::app {

BlindResultView::BlindResultView(QWidget* parent) : QWidget(parent) {
  auto* rows = new QVBoxLayout(this);
  rows->setContentsMargins(16, 4, 16, 8);
  rows->setSpacing(4);
  rows->addWidget(answer_ = answer_label(this));
  rows->addWidget(detail_ = soft_label({}, this));
  detail_->setWordWrap(true);
  auto* split = new QSplitter(Qt::Vertical, this);
  split->setHandleWidth(1);
  plot_ = new GraphPlate("blind", tr("How the answers went"), split);
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
  log_ = blind_log(test);
  answer_->setText(QString::fromStdString(result.sentence));
  detail_->setText((detail_of(result) + " " + beside).trimmed());
  key_->setText(tr("Key, sealed before the first answer: %1\nSHA-256: %2")
                    .arg(QString::fromStdString(result.key), QString::fromStdString(test.key.hash)));
  set_columns();
  table_->set_rows(log_.size());
  const bool graded = !result.grades.empty();
  plot_->set_axes(tr("round"), graded ? tr("grade") : tr("right so far, of all"));
  plot_->setVisible(test.design.method != BlindMethod::preference);
  plot_->show_series([this] { return series(); });
}

QString BlindResultView::detail_of(const BlindResult& r) const {
  QStringList words{tr("%1, from %2 to %3 s.")
                        .arg(QString::fromStdString(test_.stimuli.size() == 2 ? test_.stimuli[1].name : "All at once"))
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

/// Right answers as a share of all so far, with the share that would have to be reached; grades of each stimulus.
std::vector<Series> BlindResultView::series() const {
  std::vector<Series> all;
  Series share, half;
  share.name = tr("right so far"), share.ink = colour(Role::residual), share.marked = false;
  half.name = tr("by guessing"), half.ink = colour(Role::soft), half.style = Qt::DashLine, half.marked = false;
  int right = 0, count = 0;
  for (const Json& row : log_) {
    if (!row["right"].is_boolean()) continue;
    ++count, right += row["right"].get<bool>();
    share.xs.push_back(count), share.ys.push_back(double(right) / count);
    half.xs.push_back(count), half.ys.push_back(0.5);
  }
  if (count > 0) return {share, half};
  const auto open = size_t(open_buttons(test_.design.method));
  constexpr Qt::PenStyle styles[] = {Qt::SolidLine, Qt::DashLine, Qt::DotLine, Qt::DashDotLine};
  for (size_t n = 0; n < test_.stimuli.size() && open > 0; ++n) {
    Series s;
    s.name = QString::fromStdString(test_.stimuli[n].name);
    s.ink = colour(n == 0 ? Role::master : test_.stimuli[n].trial.empty() ? Role::soft : Role::residual);
    s.style = styles[n % std::size(styles)];
    for (const Json& row : log_)
      for (size_t b = open; b - open < row["grades"].size(); ++b)
        if (row["button_" + std::to_string(b + 1)] == test_.stimuli[n].name)
          s.xs.push_back(row["round"].get<double>()), s.ys.push_back(row["grades"][b - open].get<double>());
    all.push_back(std::move(s));
  }
  return all;
}

void BlindResultView::set_columns() {
  size_t buttons = 0;
  for (const Json& row : log_)
    while (row.contains("button_" + std::to_string(buttons + 1))) ++buttons;
  const auto open = size_t(open_buttons(test_.design.method));
  const auto letter = [open, abx = test_.design.method == BlindMethod::abx](size_t b) {
    return b < open ? tr("Reference") : abx && b == 2 ? QString("X") : QString(QChar('A' + int(b - open)));
  };
  std::vector<Column> columns{{tr("Round"),
                               {},
                               [](size_t n) {
                                 return Cell{QString::number(n + 1), double(n)};
                               },
                               true,
                               60}};
  const bool graded = test_.design.method == BlindMethod::triple || test_.design.method == BlindMethod::multi;
  for (size_t b = graded ? open : 0; b < buttons; ++b)
    columns.push_back({letter(b), tr("What was played"),
                       [this, b, open, graded](size_t n) {
                         const Json& row = log_[n];
                         const QString name =
                             QString::fromStdString(row["button_" + std::to_string(b + 1)].get<std::string>());
                         if (!graded || row["grades"].size() <= b - open) return Cell{name};
                         return Cell{tr("%1: %2").arg(name).arg(row["grades"][b - open].get<double>())};
                       },
                       false, Column::stretch});
  if (!graded) {
    columns.push_back({tr("Answer"),
                       {},
                       [this, letter](size_t n) {
                         const Json& given = log_[n]["answer"];
                         return Cell{given.is_null() ? tr("none") : letter(given.get<size_t>() - 1)};
                       },
                       false,
                       80});
    columns.push_back(
        {tr("Right"),
         {},
         [this](size_t n) {
           const Json& right = log_[n]["right"];
           if (!right.is_boolean()) return Cell{QString::fromUtf8("\u2013")};
           return right.get<bool>() ? Cell{tr("right"), {}, {}, Role::moss} : Cell{tr("wrong"), {}, {}, Role::rust};
         },
         false,
         70});
  }
  columns.push_back(
      {tr("Took, s"), {}, [this](size_t n) { return number_cell(log_[n]["took_s"].get<double>(), 1); }, true, 80});
  if (counted(test_) < int(test_.answers.size()))
    columns.push_back({tr("Void"),
                       {},
                       [this](size_t n) { return Cell{QString::fromStdString(log_[n]["void"].get<std::string>())}; },
                       false,
                       120});
  table_->set_columns(std::move(columns));
}

QString BlindResultView::csv() const { return QString::fromStdString(csv_of(log_, {"round"})); }

}  // namespace heathmist::app
