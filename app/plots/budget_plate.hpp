// The residual's budget: a waterfall from the residual, cause by cause, to the remainder; or the same in every octave,
// or at every moment, where each cause is what lies between two levels.
#pragma once
#include "app/plots/plate.hpp"
#include "core/compare/waterfall.hpp"

namespace heathmist::app {

class BudgetPlate : public Plate {
  Q_OBJECT

 public:
  enum class Along { whole, octaves, time };
  explicit BudgetPlate(QWidget* parent = nullptr);
  void draw_along(Along along);
  Along along() const { return along_; }
  void show_steps(std::vector<BudgetStep> steps);
  void show_nothing(const QString& why);
  QString csv() const override;
  QString read_out(int step) const;
  QString in_words() const override;
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
  void draw_waterfall();
  void draw_layers();
  void draw_layer(int n);
  void draw_step(int n);
  const std::vector<LeftAt>& left_of(const BudgetStep& step) const;
  bool has_layers() const;
  void set_axes();
  double column_at(const LeftAt& left) const;
  void write_below(int n, const QString& text);
  void point_at(int step, std::optional<LeftAt> spot = {});
  void choose(int step, Qt::KeyboardModifiers held);
  int step_at(const QPointF& place) const;
  std::optional<LeftAt> spot_at(int step, double column) const;
  int columns() const;  // of text
  QString label_of(int step) const;
  std::vector<BudgetStep> steps_;
  std::vector<QCPAbstractItem*> items_;
  QString nothing_;
  int chosen_ = -1, heard_ = -1;
  Along along_ = Along::whole;
  std::optional<LeftAt> spot_;  // the octave, or moment, that is pointed at
  QCPItemText* text_;
};

}  // namespace heathmist::app
