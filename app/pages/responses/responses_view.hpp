// Impulse responses of the bench side by side: how long they ring, how much of each is enough for a master, and how far
// two are apart.
#pragma once
#include <QComboBox>
#include <QLabel>
#include <QPushButton>

#include "app/model/long_work.hpp"
#include "app/plots/graph_plate.hpp"
#include "app/plots/lines_plate.hpp"
#include "app/widgets/result_table.hpp"
#include "core/bench/document.hpp"
#include "core/delivery/responses.hpp"

namespace heathmist::app {

struct ResponseRow {
  std::filesystem::path file;
  std::optional<ResponseStudy> study{};  ///< for the programme that is chosen
  QString failure{};
};

class ResponsesView : public QWidget {
  Q_OBJECT

 public:
  explicit ResponsesView(Queue& queue, QWidget* parent = nullptr);
  /// Takes up the bench's responses and masters; what was read stays.
  void show_bench(const Bench& bench);
  void forget(const std::filesystem::path& file);
  std::vector<std::filesystem::path> chosen() const;
  const std::vector<ResponseRow>& rows() const { return rows_; }
  ResultTable* table() const { return table_; }
  GraphPlate* decays() const { return decays_; }
  LinesPlate* gains() const { return gains_; }
  QString answer() const { return answer_->text(); }
  QString detail() const { return detail_->text(); }
  QString csv() const;
  bool is_reading() const { return work_.is_running() || nulling_.is_running(); }
  QComboBox* programme() const { return programme_; }
  QComboBox* taken_for() const { return taken_for_; }

 signals:
  void rested();
  void files_dropped(const QStringList& files);
  void adding_wanted();
  void taking_out_wanted();

 protected:
  void dragEnterEvent(QDragEnterEvent* event) override;
  void dropEvent(QDropEvent* event) override;

 private:
  QWidget* make_head();
  void make_table(QWidget* parent);
  void fill_programmes(const Bench& bench);
  void run();
  void take(const ResponseRow& row);
  void null_chosen();
  void draw();
  QString answer_for(const std::vector<size_t>& chosen) const;
  QString detail_for(const std::vector<size_t>& chosen) const;
  struct Stroke {
    QColor ink;
    Qt::PenStyle style;
  };
  Stroke stroke_of(size_t row) const;
  std::vector<Series> decay_series() const;
  std::vector<NamedLine> gain_lines() const;
  std::filesystem::path programme_file() const;
  std::shared_ptr<const Spectrum> programme(const Job& job, const Tell& tell, const std::filesystem::path& file,
                                            std::shared_ptr<const Spectrum> known);
  std::vector<ResponseRow> rows_;
  QComboBox *programme_, *taken_for_;
  QLabel *answer_, *detail_, *note_;
  GraphPlate* decays_;
  LinesPlate* gains_;
  ResultTable* table_;
  LongWork work_, nulling_;
  std::shared_ptr<const Spectrum> spectrum_;  // of the programme, once it was worked out
  std::optional<ResponseNull> null_;          // of the two that are chosen
};

}  // namespace heathmist::app
