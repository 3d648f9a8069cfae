// Which return belongs to which master, by the sound alone: proposals, then trials in one step.
#pragma once
#include <QLabel>
#include <QPushButton>

#include "app/model/file_watch.hpp"
#include "app/model/long_work.hpp"
#include "app/pages/file_row.hpp"
#include "app/widgets/result_table.hpp"
#include "core/delivery/pairing.hpp"

namespace heathmist::app {

class PairsView : public QWidget {
  Q_OBJECT

 public:
  /// What is shown in a row: a pair, or a file that has none.
  struct Line {
    QString master, ret;  ///< empty: there is none
    Pairing::Pair pair{};
    QString as_well{}, sentence{};
    bool is_pair() const { return !master.isEmpty() && !ret.isEmpty(); }
  };
  enum Column { master_column, return_column, agreement_column, delay_column, note_column };

  explicit PairsView(Queue& queue, QWidget* parent = nullptr);
  FileRow* masters() const { return masters_; }
  FileRow* returns() const { return returns_; }
  ResultTable* table() const { return table_; }
  const std::vector<Line>& lines() const { return lines_; }
  QString headline() const { return headline_->text(); }
  void find();
  bool is_running() const { return work_.is_running(); }
  /// Those that are chosen; all where none is.
  void take();
  /// The bench's masters are the first proposal of what is a master.
  void follow_bench(const QStringList& masters);

 signals:
  void pairs_taken(const std::vector<std::pair<QString, QString>>& pairs);  ///< master and return
  void rested();

 private:
  QWidget* make_head();
  bool is_listing() const;
  void make_table();
  void forget(const QString& why);
  void fill();
  QString csv() const;
  std::vector<Line> lines_;
  bool is_found_ = false, is_of_bench_ = true;
  LongWork work_;
  FileWatch watch_;
  FileRow *masters_, *returns_;
  QLabel *headline_, *note_;
  QPushButton *find_, *take_;
  ResultTable* table_;
};

}  // namespace heathmist::app
