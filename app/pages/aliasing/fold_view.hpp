// The fold calculator: between two rates, where each frequency lands, and what else lands there.
#pragma once
#include <QLabel>
#include <QVBoxLayout>

#include "app/plots/fold_plate.hpp"
#include "app/widgets/number_field.hpp"
#include "app/widgets/result_table.hpp"

namespace heathmist::app {

class FoldView : public QWidget {
  Q_OBJECT

 public:
  explicit FoldView(QWidget* parent = nullptr);
  void ask(double from_hz, double to_hz, double tone_hz);
  QString headline() const { return headline_->text(); }
  FoldPlate* plate() const { return plate_; }
  ResultTable* landings() const { return landings_; }
  ResultTable* sources() const { return sources_; }
  NumberField* tone() const { return tone_; }

 private:
  QWidget* make_head();
  void make_tables(QVBoxLayout* column, QWidget* side);
  void draw();
  NumberField *from_, *to_, *tone_;
  QLabel *headline_, *landings_title_, *sources_title_;
  FoldPlate* plate_;
  ResultTable *landings_, *sources_;
  std::vector<Landing> landed_;
  std::vector<LandingFrom> others_;
};

}  // namespace heathmist::app
