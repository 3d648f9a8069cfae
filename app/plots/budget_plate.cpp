#include "app/plots/budget_plate.hpp"

#include <algorithm>
#include <cmath>

#include "app/theme/line_breaks.hpp"
#include "app/theme/position.hpp"
#include "app/theme/theme.hpp"
#include "app/widgets/terms.hpp"

namespace heathmist::app {

namespace {

constexpr double half_width = 0.4;      // of a bar, in steps
constexpr double room_for_number = 20;  // pixels of a bar's height that a number needs

/// The column around which a layer is high in its neighbours too: there its name is on nothing else.
std::ptrdiff_t place_for_name(const std::vector<double>& heights) {
  constexpr std::ptrdiff_t beside = 2;
  std::vector<double> least;
  const auto count = std::ssize(heights);
  for (std::ptrdiff_t k = 0; k < count; ++k) {
    const std::ptrdiff_t reach = count > 20 ? std::min({beside, k, count - 1 - k}) : 0;
    least.push_back(*std::min_element(heights.begin() + k - reach, heights.begin() + k + reach + 1));
    if (count > 20 && reach < beside) least.back() = 0;  // it would stand out at the side
  }
  return std::max_element(least.begin(), least.end()) - least.begin();
}

}  // namespace

BudgetPlate::BudgetPlate(QWidget* parent) : Plate(parent) {
  title_ = "causes";
  set_term(this, "cause");
  setAccessibleName(tr("What the residual is made of: cause by cause, from the residual to the remainder"));
  setMouseTracking(true);
  axisRect()->setMinimumMargins(QMargins(54, 8, 10, 36));
  QSharedPointer<LevelTicker> levels(new LevelTicker);
  levels->setTickCount(8);
  levels->setTickOrigin(0);
  yAxis->setTicker(levels);
  xAxis->setTicks(false);
  xAxis->setTickLabels(false);
  xAxis->grid()->setVisible(false);
  text_ = corner_text(axisRect(), 0.985, Qt::AlignRight);
  text_->setPadding(QMargins(6, 4, 6, 4));
  text_->setTextAlignment(Qt::AlignLeft);
  text_->setVisible(false);
  text_->setLayer("overlay");
  yAxis->setLabel(tr("left, dBr"));
  yAxis->setLabelPadding(2);
  recolour();
}

void BudgetPlate::recolour() {
  dress(axisRect());
  text_->setFont(face(Type::small));
  text_->setColor(colour(Role::ink));
  text_->setBrush(colour(Role::sheet));
  text_->setPen(QPen(colour(Role::rule)));
  draw();
}

void BudgetPlate::show_steps(std::vector<BudgetStep> steps) {
  steps_ = std::move(steps), nothing_ = tr("Nothing is left that a cause could explain");
  chosen_ = heard_ = -1;
  text_->setVisible(false);
  draw();
}

void BudgetPlate::show_nothing(const QString& why) {
  steps_.clear(), nothing_ = why;
  chosen_ = heard_ = -1;
  text_->setVisible(false);
  draw();
}

void BudgetPlate::draw_along(Along along) {
  along_ = along;
  point_at(-1);
  draw();
}

const std::vector<LeftAt>& BudgetPlate::left_of(const BudgetStep& step) const {
  return along_ == Along::octaves ? step.by_octave : step.over_time;
}

bool BudgetPlate::has_layers() const {
  return std::any_of(steps_.begin(), steps_.end(), [&](const BudgetStep& s) { return !left_of(s).empty(); });
}

void BudgetPlate::draw() {
  for (auto* item : items_) removeItem(item);
  items_.clear();
  const bool layers = along_ != Along::whole, nothing = steps_.empty() || (layers && !has_layers());
  say_instead(!nothing          ? QString()
              : !steps_.empty() ? tr("These causes have no course of their own: see the whole")
                                : nothing_);
  yAxis->setVisible(!nothing);
  set_axes();
  if (!nothing) layers ? draw_layers() : draw_waterfall();
  replot(rpQueuedReplot);
}

void BudgetPlate::set_axes() {
  const bool layers = along_ != Along::whole && has_layers();
  xAxis->setTickLabels(layers);
  xAxis->setTicks(layers);
  xAxis->setLabel({});
  yAxis->setLabel(layers ? tr("left, dB against the programme there") : tr("left, dBr"));
  if (along_ == Along::octaves) {
    QSharedPointer<QCPAxisTickerText> names(new QCPAxisTickerText);
    for (const BudgetStep& s : steps_)
      for (size_t n = 0; n < s.by_octave.size(); ++n)
        names->addTick(column_at(s.by_octave[n]), hertz(std::round(s.by_octave[n].at), true));
    xAxis->setTicker(names);
  } else {
    xAxis->setTicker(QSharedPointer<ClockTicker>(new ClockTicker));
  }
}

/// Octaves stand side by side, moments where they are.
double BudgetPlate::column_at(const LeftAt& left) const {
  return along_ == Along::octaves ? std::log2(left.at / 31.25) : left.at;
}

void BudgetPlate::draw_layers() {
  double low = 1e300, high = -1e300, top = 0, bottom = -40;
  for (const BudgetStep& s : steps_)
    for (const LeftAt& l : left_of(s)) {
      low = std::min(low, column_at(l)), high = std::max(high, column_at(l));
      top = std::max(top, l.before_db), bottom = std::min(bottom, l.after_db);
    }
  const double margin = along_ == Along::octaves ? 0.6 : 0.01 * (high - low) + 0.1;
  xAxis->setRange(low - margin, high + margin);
  yAxis->setRange(std::max(-120.0, 20 * std::floor(bottom / 20)), std::min(top + 4, 30.0));
  for (int n = 0; n < int(steps_.size()); ++n) draw_layer(n);
  const bool gaps = along_ == Along::time &&
                    std::any_of(steps_.begin(), steps_.end(), [](const auto& s) { return has_gaps(s.over_time); });
  xAxis->setLabel(gaps ? tr("where nothing is drawn, nothing was read") : QString());
}

/// What a cause takes out in every column; each a shade lighter than the one before it.
void BudgetPlate::draw_layer(int n) {
  const auto& left = left_of(steps_[size_t(n)]);
  if (left.empty()) return;
  const double bottom = yAxis->range().lower;
  const int causes = std::max(1, int(steps_.size()) - 2);
  QColor ink = colour(Role::residual);
  ink.setAlphaF(float(1 - 0.7 * double(n - 1) / causes));
  std::vector<QPointF> shown(left.size());  // what of each column is drawn: middle, and height
  std::vector<double> heights(left.size(), 0);
  for (size_t k = 0; k < left.size(); ++k) {
    const double x = column_at(left[k]), from = std::max(bottom, left[k].before_db),
                 to = std::max(bottom, left[k].after_db);
    double half = 0.46;
    if (along_ == Along::time) {
      const double step = k + 1 < left.size() ? left[k + 1].at - left[k].at : k > 0 ? left[k].at - left[k - 1].at : 1;
      half = 0.5 * std::min(step, left.size() > 1 ? left[1].at - left[0].at : step);
    }
    if (from <= to) continue;
    auto* bar = new QCPItemRect(this);
    bar->topLeft->setCoords(x - half, from);
    bar->bottomRight->setCoords(x + half, to);
    bar->setBrush(ink);
    bar->setPen(n == heard_ || n == chosen_ ? QPen(colour(Role::ink), n == heard_ ? 2 : 1) : QPen(Qt::NoPen));
    items_.push_back(bar);
    shown[k] = {x, (from + to) / 2}, heights[k] = from - to;
  }
  const auto best = size_t(place_for_name(heights));
  const double pixels = std::abs(yAxis->coordToPixel(0) - yAxis->coordToPixel(heights[best]));
  if (pixels < room_for_number) return;
  auto* name = new QCPItemText(this);
  name->setFont(face(Type::small, true));
  name->setColor(colour(Role::ink));
  name->setBrush(colour(Role::sheet));
  name->setPadding(QMargins(4, 1, 4, 1));
  name->setText(QString::fromStdString(steps_[size_t(n)].label));
  const double half = 0.5 * QFontMetrics(name->font()).horizontalAdvance(name->text()) + 6;  // inside the axes
  const double x = std::clamp(xAxis->coordToPixel(shown[best].x()), axisRect()->left() + half,
                              std::max(axisRect()->left() + half, axisRect()->right() - half));
  name->position->setCoords(xAxis->pixelToCoord(x), shown[best].y());
  name->setLayer("overlay");
  items_.push_back(name);
}

void BudgetPlate::draw_waterfall() {
  double top = 0, bottom = -60;
  for (const BudgetStep& s : steps_) {
    top = std::max(top, s.from_db);
    if (s.cause) bottom = std::min(bottom, s.to_db);
  }
  yAxis->setRange(std::max(budget_bottom_db, 20 * std::floor((bottom - 8) / 20)), top + 4);
  xAxis->setRange(-0.6, std::max(4.6, double(steps_.size()) - 0.4));
  for (int n = 0; n < int(steps_.size()); ++n) draw_step(n);
}

void BudgetPlate::draw_step(int n) {
  const BudgetStep& s = steps_[size_t(n)];
  const double low = std::max(s.to_db, yAxis->range().lower);
  if (s.from_db > yAxis->range().lower) {
    auto* bar = new QCPItemRect(this);
    bar->topLeft->setCoords(n - half_width, s.from_db);
    bar->bottomRight->setCoords(n + half_width, low);
    QColor ink = colour(Role::residual);
    if (!s.cause) ink.setAlphaF(0.35f);
    bar->setBrush(ink);
    bar->setPen(n == heard_ || n == chosen_ ? QPen(colour(Role::ink), n == heard_ ? 3 : 1.5) : QPen(Qt::NoPen));
    items_.push_back(bar);
    const double pixels = std::abs(yAxis->coordToPixel(low) - yAxis->coordToPixel(s.from_db));
    const bool inside = s.cause && pixels > room_for_number;
    auto* size = new QCPItemText(this);
    size->setFont(face(Type::small, inside));
    size->setColor(colour(inside ? Role::sheet : Role::ink));
    size->position->setCoords(n, inside ? s.from_db : std::max(s.from_db, low));
    size->setPadding(QMargins(0, 3, 0, 2));
    size->setPositionAlignment(Qt::AlignHCenter | (inside ? Qt::AlignTop : Qt::AlignBottom));
    size->setText(s.cause ? tr("%1 dB").arg(number(s.to_db - s.from_db, 0)) : number(s.from_db, 1));
    const double room = xAxis->coordToPixel(n + half_width) - xAxis->coordToPixel(n - half_width);
    if (s.cause && QFontMetrics(size->font()).horizontalAdvance(size->text()) > room)
      size->setText(number(s.to_db - s.from_db, 0));  // the axis says what it counts
    items_.push_back(size);
  } else {
    auto* none = new QCPItemText(this);
    none->setFont(face(Type::small));
    none->setColor(colour(Role::soft));
    none->position->setCoords(n, yAxis->range().lower);
    none->setPositionAlignment(Qt::AlignHCenter | Qt::AlignBottom);
    none->setPadding(QMargins(0, 2, 0, 2));
    none->setText(tr("nothing"));
    items_.push_back(none);
  }
  const double level = s.cause ? low : s.from_db;  // where the next one starts
  if (n + 1 < int(steps_.size()) && level > yAxis->range().lower) {
    auto* across = new QCPItemLine(this);
    across->start->setCoords(n + half_width, level);
    across->end->setCoords(n + 1 - half_width, level);
    across->setPen(QPen(colour(Role::soft), 1, Qt::DashLine));
    items_.push_back(across);
  }
  write_below(n, label_of(n));
}

/// Two words stand on two lines where a bar is narrow.
QString BudgetPlate::label_of(int step) const {
  return QString::fromStdString(steps_[size_t(step)].label).replace(' ', '\n');
}

void BudgetPlate::write_below(int n, const QString& text) {
  auto* name = new QCPItemText(this);
  name->setClipToAxisRect(false);
  name->setFont(face(Type::small, true));
  name->setColor(colour(Role::ink));
  name->position->setTypeX(QCPItemPosition::ptPlotCoords);
  name->position->setTypeY(QCPItemPosition::ptAxisRectRatio);
  name->position->setCoords(n, 1.02);
  name->setPositionAlignment(Qt::AlignHCenter | Qt::AlignTop);
  name->setText(text);
  items_.push_back(name);
}

/// The first and the last stand for themselves, the causes by what they take the residual down to.
QString BudgetPlate::in_words() const {
  if (steps_.empty()) return Plate::in_words();
  QStringList told;
  for (const BudgetStep& s : steps_)
    told << (s.cause ? tr("%1 takes it down to %2")
                           .arg(QString::fromStdString(s.label),
                                s.to_db > budget_bottom_db ? number(s.to_db, 1) + " dBr" : tr("nothing"))
                     : QString::fromStdString(s.text));
  return told.join("; ");
}

QString BudgetPlate::read_out(int step) const {
  if (step < 0 || step >= int(steps_.size())) return {};
  const BudgetStep& s = steps_[size_t(step)];
  const QString text = QString::fromStdString(s.text);
  const auto level = [](double db) { return db > budget_bottom_db ? number(db, 1) + " dBr" : tr("nothing"); };
  if (!s.cause) return text;
  QString told = tr("%1\n%2 to %3").arg(text, level(s.from_db), level(s.to_db));
  if (spot_)
    told += tr("\nAt %1: %2 to %3 dB")
                .arg(along_ == Along::octaves ? hertz(std::round(spot_->at), false) : position(spot_->at, 1),
                     number(spot_->before_db, 1), number(spot_->after_db, 1));
  if (s.part.what == CausePart::none) return told;
  return told + (step == heard_ ? tr("\nHeard now: click again to let it go")
                                : tr("\nClick: hear it alone. Shift and click: the return without it"));
}

void BudgetPlate::mark_heard(int step) {
  heard_ = step;
  if (chosen_ >= 0) text_->setText(in_lines(read_out(chosen_), columns()));
  draw();
}

void BudgetPlate::point_at(int step, std::optional<LeftAt> spot) {
  if (step == chosen_ && spot.has_value() == spot_.has_value() && (!spot || spot->at == spot_->at)) return;
  chosen_ = step, spot_ = spot;
  text_->setVisible(step >= 0);
  text_->setText(in_lines(read_out(step), columns()));
  draw();
}

int BudgetPlate::columns() const { return axisRect()->width() * 3 / 4 / std::max(1, fontMetrics().averageCharWidth()); }

void BudgetPlate::choose(int step, Qt::KeyboardModifiers held) {
  if (step >= 0) emit cause_chosen(step, held.testFlag(Qt::ShiftModifier));
}

int BudgetPlate::step_at(const QPointF& place) const {
  if (!axisRect()->rect().adjusted(0, 0, 0, 40).contains(place.toPoint())) return -1;
  if (along_ != Along::whole) {
    const double x = xAxis->pixelToCoord(place.x()), db = yAxis->pixelToCoord(place.y());
    for (int n = 0; n < int(steps_.size()); ++n)
      if (const auto spot = spot_at(n, x); spot && db < spot->before_db && db >= spot->after_db) return n;
    return -1;
  }
  const int n = int(std::lround(xAxis->pixelToCoord(place.x())));
  return n >= 0 && n < int(steps_.size()) ? n : -1;
}

void BudgetPlate::mouseMoveEvent(QMouseEvent* event) {
  const int step = step_at(event->position());
  point_at(step, spot_at(step, xAxis->pixelToCoord(event->position().x())));
}

/// What of a step lies in the column nearest to a place; nothing of the whole.
std::optional<LeftAt> BudgetPlate::spot_at(int step, double column) const {
  if (along_ == Along::whole || step < 0) return {};
  const auto& left = left_of(steps_[size_t(step)]);
  const auto nearest = std::min_element(left.begin(), left.end(), [&](const LeftAt& a, const LeftAt& b) {
    return std::abs(column_at(a) - column) < std::abs(column_at(b) - column);
  });
  return nearest == left.end() ? std::nullopt : std::optional(*nearest);
}

void BudgetPlate::mouseReleaseEvent(QMouseEvent* event) {
  if (event->button() == Qt::LeftButton) choose(step_at(event->position()), event->modifiers());
}

void BudgetPlate::leaveEvent(QEvent*) { point_at(-1); }

void BudgetPlate::resizeEvent(QResizeEvent* event) {
  Plate::resizeEvent(event);
  draw();
}

void BudgetPlate::keyPressEvent(QKeyEvent* event) {
  const int last = int(steps_.size()) - 1;
  if (event->key() == Qt::Key_Right) return point_at(std::min(last, chosen_ + 1));
  if (event->key() == Qt::Key_Left) return point_at(std::max(0, chosen_ - 1));
  if (event->key() == Qt::Key_Return || event->key() == Qt::Key_Enter) return choose(chosen_, event->modifiers());
  Plate::keyPressEvent(event);
}

QString BudgetPlate::csv() const {
  if (along_ != Along::whole) {
    QString table = along_ == Along::octaves ? "hz,label,before_db,after_db\n" : "s,label,before_db,after_db\n";
    for (const BudgetStep& s : steps_)
      for (const LeftAt& l : left_of(s))
        table += QString("%1,%2,%3,%4\n")
                     .arg(l.at)
                     .arg(QString::fromStdString(s.label))
                     .arg(l.before_db, 0, 'f', 1)
                     .arg(l.after_db, 0, 'f', 1);
    return table;
  }
  QString text = "label,before_db,after_db,text\n";
  for (const BudgetStep& s : steps_)
    text += QString("%1,%2,%3,\"%4\"\n")
                .arg(QString::fromStdString(s.label))
                .arg(s.from_db, 0, 'f', 2)
                .arg(s.to_db, 0, 'f', 2)
                .arg(QString::fromStdString(s.text).replace('"', "\"\""));
  return text;
}

}  // namespace heathmist::app
