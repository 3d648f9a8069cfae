// Word lengths on one plate: the noise each number of bits leaves with each dither, and how true low levels stay.
#pragma once
#include <QComboBox>
#include <QLabel>
#include <QPushButton>

#include "app/model/long_work.hpp"
#include "app/plots/graph_plate.hpp"
#include "app/plots/lines_plate.hpp"
#include "app/widgets/result_table.hpp"
#include "core/boards/word_board.hpp"

namespace heathmist::app {

class WordLengthsView : public QWidget {
  Q_OBJECT

 public:
  static constexpr int rate_hz = 48000;  ///< of all that is cut here
  explicit WordLengthsView(Queue& queue, QWidget* parent = nullptr);
  /// Reads every cut; cut by cut the rows fill.
  void start();
  bool is_running() const { return work_.is_running(); }
  /// Only these are listed and drawn; 0 and empty: all.
  void show_only(int bits, const std::string& dither);
  const std::vector<WordRow>& rows() const { return rows_; }
  ResultTable* table() const { return table_; }
  LinesPlate* densities() const { return densities_; }
  GraphPlate* levels() const { return levels_; }
  QString headline() const { return headline_->text(); }
  QString csv() const;
  void hear();  ///< the fade through the chosen cut

  enum Column { name_column, noise_column, theory_column, weighted_column, linear_column };

 signals:
  void rested();
  void hear_wanted(const heathmist::WordCut& cut);

 protected:
  void showEvent(QShowEvent* event) override;

 private:
  QWidget* make_head();
  void make_table(QWidget* parent);
  void fill();
  void draw();
  bool is_in(const WordCut& cut) const;
  const WordRow* chosen() const;
  std::vector<NamedLine> density_lines() const;
  std::vector<LineMark> density_words() const;  ///< the lines' names, beside them
  std::vector<Series> level_series() const;
  LongWork work_;
  bool was_run_ = false;
  std::vector<WordRow> rows_;
  QComboBox *bits_, *dither_;
  QLabel *headline_, *note_;
  QPushButton *run_, *hear_;
  ResultTable* table_;
  LinesPlate* densities_;
  GraphPlate* levels_;
};

}  // namespace heathmist::app
