// Ways of one master to an outlet's loudness, what each of them costs, and the least harmful that gets there.
#pragma once
#include <QComboBox>
#include <QLabel>
#include <QPushButton>

#include "app/model/long_work.hpp"
#include "app/plots/graph_plate.hpp"
#include "app/widgets/result_table.hpp"
#include "core/delivery/reach.hpp"

namespace heathmist::app {

class WaysView : public QWidget {
  Q_OBJECT

 public:
  enum Column {
    way_column,
    reaches_column,
    residual_column,
    loudness_column,
    peak_column,
    plr_column,
    range_column,
    moves_column
  };

  explicit WaysView(Queue& queue, QWidget* parent = nullptr);
  void set_subject(const QString& name, const std::filesystem::path& file);
  /// The outlets as they are now; what was found for one that is another now is forgotten.
  void reload();
  void forget(const std::filesystem::path& file);  ///< where it is the subject's
  void start();
  bool is_running() const { return work_.is_running(); }
  void take();  ///< the chosen way becomes a trial
  const std::vector<Way>& ways() const { return ways_; }
  QComboBox* outlet() const { return outlet_; }
  ResultTable* table() const { return table_; }
  GraphPlate* plate() const { return plate_; }
  QString headline() const { return headline_->text(); }

 signals:
  void taken(const heathmist::Chain& chain);
  void rested();

 private:
  QWidget* make_head();
  void make_table(QWidget* parent);
  void forget();
  void fill();
  QString words() const;
  std::vector<Series> series() const;
  const Outlet* chosen_outlet() const;
  std::optional<size_t> least_harmful() const;
  QString csv() const;
  QString name_;
  std::filesystem::path file_;
  std::vector<Outlet> outlets_;
  std::optional<Outlet> found_for_;
  std::vector<Way> ways_;
  std::optional<size_t> best_;
  LongWork work_;
  QComboBox* outlet_;
  QLabel *headline_, *note_;
  QPushButton *run_, *take_;
  ResultTable* table_;
  GraphPlate* plate_;
};

}  // namespace heathmist::app
