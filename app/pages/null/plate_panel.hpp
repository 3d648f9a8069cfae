// The two places for plates under the fit strip: causes, spectra, path, stack, words and course at the left; depth,
// mask, moments and third octaves at the right.
#pragma once
#include <QLabel>

#include "app/model/trial_results.hpp"
#include "app/plots/budget_plate.hpp"
#include "app/plots/course_plate.hpp"
#include "app/plots/depth_plate.hpp"
#include "app/plots/lines_plate.hpp"
#include "app/plots/path_plate.hpp"
#include "app/plots/spectrum_plate.hpp"
#include "app/plots/words_plate.hpp"
#include "app/widgets/chooser.hpp"
#include "app/widgets/result_table.hpp"

namespace heathmist::app {

class PlatePanel : public QWidget {
  Q_OBJECT

 public:
  enum Left { causes_page, spectra_page, path_page, stack_page, words_page, course_page };
  enum Right { depth_page, mask_page, moments_page, thirds_page };

  explicit PlatePanel(QWidget* parent = nullptr);
  /// `sums` are those of the trial or of a narrower look at it.
  void show_sums(const TrialResult& trial, std::shared_ptr<const ResidualSums> sums, bool narrowed);
  void show_trial(const TrialResult& trial);  ///< what no selection narrows
  void reveal(Evidence evidence);
  void set_range(double from_s, double to_s, bool anew = false);  ///< that the lanes show; anew: of another length
  /// Whether the maps show the time that the lanes show, or what they are zoomed to.
  void tie_maps(bool tied);
  QAction* tied() const { return tied_; }
  bool maps_are_tied() const { return tied_->isChecked(); }
  void set_playhead(double at_s);
  void set_selection(std::optional<std::pair<double, double>> seconds, std::optional<std::pair<double, double>> hz);

  BudgetPlate* causes() const { return causes_; }
  SpectrumPlate* spectra() const { return spectra_; }
  PathPlate* path() const { return path_; }
  LinesPlate* stack() const { return stack_; }
  WordsPlate* words() const { return words_; }
  CoursePlate* course() const { return course_; }
  DepthPlate* depth() const { return depth_; }
  DepthPlate* mask() const { return mask_; }
  ResultTable* moments() const { return moments_; }
  ResultTable* thirds() const { return thirds_; }
  Chooser* left() const { return left_; }
  Chooser* right() const { return right_; }
  size_t fft_size() const { return fft_size_; }
  const std::vector<QAction*>& actions_of_view() const { return actions_; }
  nlohmann::ordered_json settings() const;
  void restore(const nlohmann::ordered_json& settings);

 signals:
  void resolution_changed();
  void jump(double at_s);
  /// A step of the budget was chosen to be heard: alone, or what is left without it; nothing: as it was.
  void part_chosen(const heathmist::BudgetStep* step, bool without);
  void cell_chosen(double at_s, double low_hz, double high_hz);
  void area_selected(double from_s, double to_s, double low_hz, double high_hz);
  void area_cleared();
  void range_wanted(double from_s, double to_s);  ///< by hand, of a map that is tied to the lanes
  void band_selected(double low_hz, double high_hz);
  void band_cleared();

 protected:
  void resizeEvent(QResizeEvent* event) override;

 private:
  QWidget* make_left();
  QWidget* make_right();
  QWidget* make_map(DepthPlate* map);
  void range_maps(double from_s, double to_s);
  void make_menus(QHBoxLayout* head);
  void make_tables();
  void tell_unit(int page);
  void draw_spectra();
  void draw_stack();
  void show_cause(int step, bool without);
  void fill_moments(const TrialResult& trial);
  void fill_thirds(const ResidualSums& sums);

  std::shared_ptr<const Explanation> why_;
  std::shared_ptr<const ResidualSums> sums_;  // of what is shown; outlives the trial in the view
  size_t fft_size_ = 16384;
  int smoothing_ = 12;
  bool logarithmic_ = true, relative_ = false;
  bool without_is_heard_ = false;  // of the cause that is heard: the return, not the cause alone
  std::vector<QAction*> actions_;
  std::vector<QWidget*> causes_tools_, spectra_tools_, path_tools_;

  std::pair<double, double> lanes_range_{0, 1};
  QAction* tied_;
  Chooser *left_, *right_;
  QLabel* legend_;
  BudgetPlate* causes_;
  SpectrumPlate* spectra_;
  PathPlate* path_;
  LinesPlate* stack_;
  WordsPlate* words_;
  CoursePlate* course_;
  DepthPlate *depth_, *mask_;
  /// A place to jump to.
  struct Moment {
    std::optional<double> at_s;
    QString what;
    std::optional<double> db{};
    QString around{};
  };
  std::vector<Moment> told_moments_;
  std::vector<DepthBand> told_thirds_;
  ResultTable *moments_, *thirds_;
};

}  // namespace heathmist::app
