// The loudness of all masters and returns of the bench in one table, and over time below it.
#pragma once
#include <QComboBox>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>

#include "app/model/loudness_readings.hpp"
#include "app/pages/loudness/ribbon.hpp"
#include "app/plots/loudness_plate.hpp"
#include "app/widgets/number_field.hpp"
#include "app/widgets/result_table.hpp"

namespace heathmist::app {

class LoudnessView : public QWidget {
  Q_OBJECT

 public:
  enum Column {
    name_column,
    ribbon_column,
    integrated_column,
    range_column,
    short_column,
    momentary_column,
    peak_column,
    plr_column,
    clipped_column,
    match_column,
    columns
  };

  LoudnessView(Queue& queue, LoudnessReadings& measured, QWidget* parent = nullptr);
  ResultTable* table() const { return table_; }
  LoudnessPlate* plate() const { return plate_; }
  QLineEdit* filter() const { return filter_; }
  NumberField* target() const { return target_; }
  NumberField* tolerance() const { return tolerance_; }
  NumberField* peak_limit() const { return peak_limit_; }
  QComboBox* unit() const { return unit_; }
  QString note() const { return note_->text(); }
  QString within() const { return within_->text(); }  ///< numbers of the selection, or of the channels asked for
  QPushButton* dialogue() const { return dialogue_; }
  QComboBox* listen() const { return listen_; }
  QComboBox* rms_window() const { return rms_window_; }
  QString csv() const;
  /// Chooses the rows of the trial that is looked at and of its master, once for each trial.
  void follow(const std::string& master_id, const std::string& trial_id);
  /// Ids of the chosen rows, in the table's order.
  std::vector<std::string> chosen() const;

 signals:
  void opened(const QString& id);  ///< Enter or double click: to its null
  void copies_wanted();            ///< of the chosen masters, or of all

 private:
  QWidget* make_head();
  void make_table(QWidget* parent);
  void set_unit();
  void refill();
  void refresh();
  std::vector<app::Column> columns_shown();
  Cell ribbon_cell(const LoudnessRow& row);
  Cell match_cell(const Loudness& loudness) const;
  bool is_off_target(const Loudness& loudness) const;
  void apply_filter();
  void draw();
  QWidget* make_foot();
  MeterOptions asked() const;  ///< what the foot asks for
  void measure_selection();
  void show_within(const QString& text, const std::optional<std::pair<std::string, Dialogue>>& stretch);
  void name_dialogue();
  void save_csv();
  LoudnessReadings& measured_;
  std::pair<std::string, std::string> followed_;
  std::optional<std::pair<double, double>> selection_;
  LongWork narrow_;
  QLineEdit* filter_;
  QComboBox *unit_, *listen_, *rms_window_;
  NumberField *target_, *tolerance_, *peak_limit_;
  QLabel *note_, *within_;
  QPushButton *run_, *dialogue_;
  std::optional<std::pair<std::string, Dialogue>> stretch_;  // a master and what of it is selected, measured
  ResultTable* table_;
  std::map<std::string, std::pair<std::shared_ptr<const Measured>, std::shared_ptr<const Ribbon>>> ribbons_;  // by row
  LoudnessPlate* plate_;
};

}  // namespace heathmist::app
