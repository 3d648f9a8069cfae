// What a blind test showed: its sentence, round by round, and the key that was sealed.
#pragma once
#include <QLabel>
#include <QPushButton>

#include "app/plots/graph_plate.hpp"
#include "app/widgets/result_table.hpp"
#include "core/hearing/blind_test.hpp"

namespace heathmist::app {

class BlindResultView : public QWidget {
  Q_OBJECT

 public:
  explicit BlindResultView(QWidget* parent = nullptr);
  /// Of an ended test. `beside`: a sentence that belongs to it; may be empty.
  void show_test(const BlindTest& test, const QString& beside = {});
  QString answer() const { return answer_->text(); }
  QString detail() const { return detail_->text(); }
  ResultTable* table() const { return table_; }
  QString csv() const;

 signals:
  void back_wanted();

 private:
  QString detail_of(const BlindResult& result) const;
  std::vector<Series> series() const;
  std::vector<Series> stairs() const;
  void set_columns();
  Cell played_cell(size_t row, size_t button) const;
  Cell answer_cell(size_t row) const;
  BlindTest test_;
  std::vector<BlindRound> rounds_;
  std::optional<double> threshold_;
  QLabel *answer_, *detail_, *key_;
  GraphPlate* plot_;
  ResultTable* table_;
};

}  // namespace heathmist::app
