// Two trials beside each other: what either leaves, in numbers, by third octave, and cell by cell on one scale, with
// the difference of their depth maps.
#pragma once
#include <QComboBox>
#include <QLabel>
#include <QPushButton>
#include <array>

#include "app/model/trial_results.hpp"
#include "app/plots/depth_plate.hpp"
#include "app/plots/lines_plate.hpp"
#include "app/widgets/result_table.hpp"
#include "core/bench/document.hpp"
#include "core/compare/two_trials.hpp"

namespace heathmist::app {

class TwoTrialsView : public QWidget {
  Q_OBJECT

 public:
  explicit TwoTrialsView(QWidget* parent = nullptr);
  /// The trials to choose from. As long as none was chosen by hand, `looked_at` and the next one of its master are.
  void show_bench(const Bench& bench, const std::string& looked_at);
  void choose(int side, const std::string& trial_id);
  void choose_anew() { by_hand_ = false; }  ///< nothing is chosen by hand any more
  bool is_chosen_by_hand() const { return by_hand_; }
  /// Trial ids, first and second; empty: there is none.
  std::array<std::string, 2> chosen() const;
  /// As they were measured; nothing: it is on its way.
  void show_results(const std::array<std::shared_ptr<const TrialResult>, 2>& results);
  void show_failure(const QString& sentence);
  void exchange();
  void set_playhead(double at_s);
  void set_selection(const std::optional<std::pair<double, double>>& seconds,
                     const std::optional<std::pair<double, double>>& hz);

  QComboBox* chooser(int side) const { return choosers_[size_t(side)]; }
  ResultTable* table() const { return table_; }
  LinesPlate* lines() const { return lines_; }
  DepthPlate* map(int side) const { return maps_[size_t(side)]; }
  DepthPlate* difference() const { return maps_[2]; }
  QString answer() const { return answer_->text(); }
  QString detail() const { return detail_->text(); }
  QString csv() const;  ///< the table, for other programs

 signals:
  void pair_changed();
  void area_selected(double from_s, double to_s, double low_hz, double high_hz);
  void area_cleared();
  void went_to(double at_s);

 private:
  /// A line of the table: one number, or word, of both.
  struct Fact {
    QString what;
    Cell first, second, apart{};
  };
  QWidget* make_head();
  QWidget* make_maps(QWidget* parent);
  std::vector<Column> columns_shown();
  void fill();
  void fill_table(const NullReport& first, const NullReport& second);
  void draw();
  void show_nothing(const QString& answer, const QString& detail);

  std::array<QComboBox*, 2> choosers_;
  QPushButton* exchange_;
  QLabel *answer_, *detail_;
  QWidget* evidence_;
  ResultTable* table_;
  LinesPlate* lines_;
  std::array<DepthPlate*, 3> maps_;
  std::array<QLabel*, 3> map_names_;
  std::array<std::shared_ptr<const TrialResult>, 2> results_;
  std::array<QString, 2> names_;
  std::vector<Fact> facts_;
  std::vector<std::string> ids_;  // of what can be chosen
  bool by_hand_ = false;
};

}  // namespace heathmist::app
