#include "app/pages/engines/engine_plots.hpp"

#include <QVBoxLayout>
#include <algorithm>
#include <cmath>

#include "app/theme/theme.hpp"
#include "app/widgets/terms.hpp"

namespace heathmist::app {

namespace {

constexpr double deepest_db = -60, widest_db = 12;  // what is drawn; the table has the rest

double db(double amplitude, double least = deepest_db) {
  return std::max(least, 20 * std::log10(std::max(std::abs(amplitude), 1e-12)));
}

Series line(const QString& name, Role ink, Qt::PenStyle style = Qt::SolidLine) {
  Series s;
  s.name = name, s.ink = colour(ink), s.style = style, s.marked = false;
  return s;
}

constexpr Qt::PenStyle soft_styles[] = {Qt::DotLine, Qt::DashDotLine, Qt::DashDotDotLine, Qt::SolidLine};
Series soft_line(const QString& name, size_t place) {
  return line(name, Role::soft, soft_styles[place % std::size(soft_styles)]);
}

void add_rendered(Series& s, const GainReading& r) {
  for (const auto& p : r.curve) s.xs.push_back(p.at_s), s.ys.push_back(db(p.rendered));
}

std::vector<Series> gain_above(const NamedReading& one, const std::vector<NamedReading>& others) {
  std::vector<Series> all;
  for (size_t n = 0; n < others.size(); ++n) {
    all.push_back(soft_line(others[n].name, n));
    add_rendered(all.back(), *others[n].reading->gain);
  }
  all.push_back(line(QObject::tr("rendered"), Role::ret));
  add_rendered(all.back(), *one.reading->gain);
  all.push_back(line(QObject::tr("drawn"), Role::ink, Qt::DashLine));
  for (const auto& p : one.reading->gain->curve) all.back().xs.push_back(p.at_s), all.back().ys.push_back(db(p.drawn));
  return all;
}

std::vector<Series> gain_below(const NamedReading& one) {
  Series s = line(QObject::tr("rendered \u2212 drawn"), Role::residual);
  for (const auto& p : one.reading->gain->curve)
    s.xs.push_back(p.at_s), s.ys.push_back(std::clamp(p.off_db(), -widest_db, widest_db));
  return {s};
}

/// Of the inputs' own side; where both are placed by themselves the same tells their law. Along a move where one was
/// made, and as points where positions were held.
void add_side(Series& s, const PanReading& r, size_t side, bool held) {
  const size_t input = r.inputs == 2 ? side : 0;
  for (const auto& p : held || r.course.empty() ? r.positions : r.course)
    s.xs.push_back(p.position), s.ys.push_back(db(p.matrix[input][side], -40));
}

std::vector<Series> pan_above(const NamedReading& one, const std::vector<NamedReading>& others) {
  std::vector<Series> all;
  for (size_t n = 0; n < others.size(); ++n) {
    all.push_back(soft_line(others[n].name, n));
    add_side(all.back(), *others[n].reading->pan, 0, false);
  }
  for (const size_t side : {0, 1}) {
    all.push_back(line(side == 0 ? QObject::tr("left") : QObject::tr("right"), Role::ret,
                       side == 0 ? Qt::SolidLine : Qt::DashLine));
    add_side(all.back(), *one.reading->pan, side, false);
    Series points = line({}, Role::ret);
    points.joined = false, points.marked = true;
    add_side(points, *one.reading->pan, side, true);
    all.push_back(points);
  }
  return all;
}

std::vector<Series> pan_below(const NamedReading& one) {
  Series s = line(QObject::tr("level of unlike inputs"), Role::residual);
  const PanReading& r = *one.reading->pan;
  for (const auto& p : r.course.empty() ? r.positions : r.course)
    s.xs.push_back(p.position), s.ys.push_back(std::max(p.power_db, -40.0));
  return {s};
}

std::vector<Series> crossfade_above(const NamedReading& one, const std::vector<NamedReading>& others) {
  std::vector<Series> all;
  for (size_t n = 0; n < others.size(); ++n) {
    all.push_back(soft_line(others[n].name, n));
    const auto& r = *others[n].reading->crossfade;
    for (const auto& p : r.curve) all.back().xs.push_back(p.at_s), all.back().ys.push_back(db(p.b, -40));
  }
  Series a = line(QObject::tr("first clip"), Role::ret), b = line(QObject::tr("second clip"), Role::ret, Qt::DashLine);
  for (const auto& p : one.reading->crossfade->curve) {
    a.xs.push_back(p.at_s), a.ys.push_back(db(p.a, -40));
    b.xs.push_back(p.at_s), b.ys.push_back(db(p.b, -40));
  }
  all.push_back(a), all.push_back(b);
  return all;
}

std::vector<Series> crossfade_below(const NamedReading& one) {
  Series unlike = line(QObject::tr("unlike sources"), Role::residual),
         like = line(QObject::tr("like sources"), Role::ink, Qt::DashLine);
  for (const auto& p : one.reading->crossfade->curve) {
    unlike.xs.push_back(p.at_s), unlike.ys.push_back(std::max(p.level_db(0), -40.0));
    like.xs.push_back(p.at_s), like.ys.push_back(std::max(p.level_db(1), -40.0));
  }
  return {unlike, like};
}

std::vector<Series> trim_above(const NamedReading& one, const std::vector<NamedReading>& others) {
  const auto add = [](Series& s, const TrimReading& r) {
    std::vector<std::pair<double, double>> points;
    for (const auto& section : r.sections)
      points.emplace_back(section.asked.first_db, std::max(section.noise_dbfs.value_or(-200), -200.0));
    std::sort(points.begin(), points.end());
    for (const auto& [x, y] : points) s.xs.push_back(x), s.ys.push_back(y);
  };
  std::vector<Series> all;
  for (size_t n = 0; n < others.size(); ++n) {
    all.push_back(soft_line(others[n].name, n));
    add(all.back(), *others[n].reading->trim);
  }
  all.push_back(line(QObject::tr("all but the tone"), Role::residual));
  all.back().marked = true;
  add(all.back(), *one.reading->trim);
  return all;
}

}  // namespace

EnginePlots::EnginePlots(QWidget* parent) : QWidget(parent) {
  auto* rows = new QVBoxLayout(this);
  rows->setContentsMargins(0, 0, 0, 0);
  rows->setSpacing(2);
  upper_ = new GraphPlate("engine", tr("What was asked over what was rendered"), this);
  set_term(upper_, "engine_gain");
  lower_ = new GraphPlate("engine-difference", tr("What is between them"), this);
  set_term(lower_, "engine_gain");
  upper_->axisRect()->setMinimumMargins(QMargins(48, 8, 14, 20));
  upper_->setMinimumHeight(120);
  lower_->setMinimumHeight(84);
  rows->addWidget(upper_, 3);
  rows->addWidget(lower_, 2);
  show_nothing();
}

void EnginePlots::show(const QString& x, const QString& y, std::function<std::vector<Series>()> above,
                       const QString& y_below, std::function<std::vector<Series>()> below) {
  upper_->set_axes(below ? QString() : x, y);
  upper_->show_series(above);
  lower_->setVisible(bool(below));
  if (!below) return;
  lower_->set_axes(x, y_below);
  lower_->show_series(below);
  level_below();
}

void EnginePlots::show_reading(const NamedReading& one, const std::vector<NamedReading>& others) {
  const ProbeReading& r = *one.reading;
  if (r.gain)
    show(
        tr("seconds of the probe"), tr("gain, dB"), [one, others] { return gain_above(one, others); }, tr("off by, dB"),
        [one] { return gain_below(one); });
  else if (r.pan)
    show(
        tr("position"), tr("dB"), [one, others] { return pan_above(one, others); }, tr("dB"),
        [one] { return pan_below(one); });
  else if (r.crossfade)
    show(
        tr("seconds of the render"), tr("dB"), [one, others] { return crossfade_above(one, others); }, tr("level, dB"),
        [one] { return crossfade_below(one); });
  else if (r.trim)
    show(tr("gain put in first, dB"), tr("dBFS"), [one, others] { return trim_above(one, others); });
  else
    show_nothing();
  upper_->set_names_at(Qt::AlignHCenter | (r.trim ? Qt::AlignTop : Qt::AlignBottom));
}

void EnginePlots::show_score(const ProbeScore& score) {
  if (score.gain.points.empty()) return show_nothing();
  show(tr("seconds of the probe"), tr("dB"), [score] {
    Series s = line(QObject::tr("to be drawn"), Role::ink, Qt::DashLine);
    for (double t = score.body_s; t < score.body_s + score.body_seconds; t += 0.005)
      s.xs.push_back(t), s.ys.push_back(db(score.gain.amplitude_at(t)));
    return std::vector{s};
  });
}

/// As wide as the upper one; what is level is not blown up to its last digit.
void EnginePlots::level_below() {
  lower_->xAxis->setRange(upper_->xAxis->range());
  const QCPRange range = lower_->yAxis->range();
  if (range.size() < 2) lower_->yAxis->setRange(range.center() - 1, range.center() + 1);
}

void EnginePlots::look_at(std::optional<std::pair<double, double>> range) {
  upper_->fit();
  if (!lower_->isHidden()) lower_->fit();
  if (range) upper_->xAxis->setRange(range->first, range->second);
  level_below();
  for (GraphPlate* plate : {upper_, lower_})
    if (plate->isVisible()) plate->replot(QCustomPlot::rpQueuedReplot);
}

void EnginePlots::show_nothing() {
  upper_->show_series([] { return std::vector<Series>(); });
  lower_->hide();
}

}  // namespace heathmist::app
