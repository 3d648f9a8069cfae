#include "app/plates/budget_plate.hpp"

#include <algorithm>
#include <cmath>

#include "app/theme/theme.hpp"

namespace heathmist::app {

namespace {

constexpr double half_width = 0.4;      // of a bar, in steps
constexpr double room_for_number = 20;  // pixels of a bar's height that a number needs

/// Words put on lines of at most so many characters.
QString in_lines(const QString& text, int most) {
  QString out;
  for (const QString& line : text.split('\n')) {
    int width = 0;
    for (const QString& word : line.split(' ')) {
      const bool fits = width + int(word.size()) + 1 <= most || width == 0;
      out += width == 0 ? word : fits ? ' ' + word : '\n' + word;
      width = (fits ? width : 0) + int(word.size()) + 1;
    }
    out += '\n';
  }
  return out.chopped(1);
}

}  // namespace

BudgetPlate::BudgetPlate(QWidget* parent) : Plate(parent) {
  title_ = "causes";
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
  empty_ = corner_text(axisRect(), 0.5, Qt::AlignHCenter);
  empty_->position->setCoords(0.5, 0.4);
  recolour();
}

void BudgetPlate::recolour() {
  dress(axisRect());
  empty_->setFont(face(Type::body));
  empty_->setColor(colour(Role::soft));
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

void BudgetPlate::draw() {
  for (auto* item : items_) removeItem(item);
  items_.clear();
  empty_->setVisible(steps_.empty());
  empty_->setText(nothing_);
  yAxis->setVisible(!steps_.empty());
  double top = 0, bottom = -60;
  for (const BudgetStep& s : steps_) {
    top = std::max(top, s.from_db);
    if (s.cause) bottom = std::min(bottom, s.to_db);
  }
  yAxis->setRange(std::max(budget_bottom_db, 20 * std::floor((bottom - 8) / 20)), top + 4);
  xAxis->setRange(-0.6, std::max(4.6, double(steps_.size()) - 0.4));
  for (int n = 0; n < int(steps_.size()); ++n) draw_step(n);
  replot(rpQueuedReplot);
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

QString BudgetPlate::read_out(int step) const {
  if (step < 0 || step >= int(steps_.size())) return {};
  const BudgetStep& s = steps_[size_t(step)];
  const QString text = QString::fromStdString(s.text);
  const auto level = [](double db) { return db > budget_bottom_db ? number(db, 1) + " dBr" : tr("nothing"); };
  if (!s.cause) return text;
  const QString told = tr("%1\n%2 to %3").arg(text, level(s.from_db), level(s.to_db));
  if (s.part.what == CausePart::none) return told;
  return told + (step == heard_ ? tr("\nHeard now: click again to let it go")
                                : tr("\nClick: hear it alone. Shift and click: the return without it"));
}

void BudgetPlate::mark_heard(int step) {
  heard_ = step;
  if (chosen_ >= 0) text_->setText(in_lines(read_out(chosen_), columns()));
  draw();
}

void BudgetPlate::point_at(int step) {
  if (step == chosen_) return;
  chosen_ = step;
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
  const int n = int(std::lround(xAxis->pixelToCoord(place.x())));
  return n >= 0 && n < int(steps_.size()) ? n : -1;
}

void BudgetPlate::mouseMoveEvent(QMouseEvent* event) { point_at(step_at(event->position())); }

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
