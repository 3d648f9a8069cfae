// The residual's budget: a waterfall from the residual, cause by cause, to the remainder.
#pragma once
#include "app/plates/plate.hpp"
#include "core/compare/waterfall.hpp"

namespace heathmist::app {

class BudgetPlate : public Plate {
  Q_OBJECT

 public:
  explicit BudgetPlate(QWidget* parent = nullptr);
  void show_steps(std::vector<BudgetStep> steps);
  void show_nothing(const QString& why);
  QString csv() const override;
  QString read_out(int step) const;
  int chosen() const { return chosen_; }
  int heard() const { return heard_; }
  const std::vector<BudgetStep>& steps() const { return steps_; }
  void mark_heard(int step);  ///< -1: none

 signals:
  /// By a click, or Return on the one that the arrows went to; with Shift, what is left without it is meant.
  void cause_chosen(int step, bool without);

 protected:
  void recolour() override;
  void resizeEvent(QResizeEvent* event) override;
  void mouseMoveEvent(QMouseEvent* event) override;
  void mouseReleaseEvent(QMouseEvent* event) override;
  void keyPressEvent(QKeyEvent* event) override;
  void leaveEvent(QEvent* event) override;

 private:
  void draw();
  void draw_step(int n);
  void write_below(int n, const QString& text);
  void point_at(int step);
  void choose(int step, Qt::KeyboardModifiers held);
  int step_at(const QPointF& place) const;
  int columns() const;  // of text
  QString label_of(int step) const;
  std::vector<BudgetStep> steps_;
  std::vector<QCPAbstractItem*> items_;
  QString nothing_;
  int chosen_ = -1, heard_ = -1;
  QCPItemText *text_, *empty_;
};

}  // namespace heathmist::app
