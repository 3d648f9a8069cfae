// The converter board: every converter there is, and every sweep that came back from elsewhere, for one pair of rates.
#pragma once
#include <QComboBox>
#include <QLabel>
#include <QPushButton>
#include <QSplitter>

#include "app/model/long_work.hpp"
#include "app/plots/fold_plate.hpp"
#include "app/widgets/result_table.hpp"
#include "core/boards/converter_board.hpp"

namespace heathmist::app {

class ConvertersView : public QWidget {
  Q_OBJECT

 public:
  enum Column {
    name_column,
    picture_column,
    grade_column,
    folds_column,
    where_column,
    ripple_column,
    edge_column,
    rings_column,
    delay_column,
    thd_column,
    speed_column
  };
  static constexpr int most_large = 3;

  explicit ConvertersView(Queue& queue, QWidget* parent = nullptr);
  /// Reads what is asked for; recall() shows what was read of it before.
  void start();
  void recall();
  void cancel() { work_.cancel(); }
  bool is_running() const { return work_.is_running(); }
  void set_rates(int from_hz, int to_hz);
  /// Only converters whose name holds this; empty: all.
  void set_only(const QString& part) { only_ = part; }
  /// Sweep probes that came back from some other program.
  void bring(const QStringList& files);
  /// Writes a probe at the rate that goes in, off the interface thread.
  void write_probe_to(const std::string& kind, const Destination& to);
  ResultTable* table() const { return table_; }
  const std::vector<BoardRow>& rows() const { return rows_; }
  std::vector<FoldPlate*> shown_plates() const;
  QString note() const { return note_->text(); }
  QString sentence() const { return sentence_->text(); }
  QString csv() const;

 signals:
  void rested();
  void recalled();
  void probe_written(bool whole, const QString& words);  ///< what to do with it, or what went wrong

 private:
  QWidget* make_head();
  void make_table(QWidget* parent);
  void run(std::function<void(const Job&, const std::function<void(BoardRow)>&)> work);
  std::vector<Chain> wanted() const;
  bool has_read() const;  ///< a converter
  void take(BoardRow row);
  void fill();
  void draw();
  void choose_returns();
  void write_probe_file();
  int from_hz() const { return from_->currentData().toInt(); }
  int to_hz() const { return to_->currentData().toInt(); }
  LongWork work_, recalling_, writing_;
  QString written_words_;
  double fraction_ = 0;
  QString only_;
  std::vector<BoardRow> rows_;
  QComboBox *from_, *to_;
  QLabel *note_, *sentence_;
  QPushButton* run_;
  ResultTable* table_;
  QSplitter* large_;
  std::vector<FoldPlate*> plates_;
};

}  // namespace heathmist::app
