// The Null view: lanes, fit strip, spectra and depth map of one trial.
#pragma once
#include <QLabel>
#include <QProgressBar>
#include <QPushButton>
#include <QStackedWidget>
#include <QTimer>

#include "app/listen/player.hpp"
#include "app/pages/null/chain_strip.hpp"
#include "app/pages/null/fit_strip.hpp"
#include "app/pages/null/lane_feed.hpp"
#include "app/pages/null/plate_panel.hpp"

namespace heathmist::app {

class NullView : public QWidget {
  Q_OBJECT

 public:
  NullView(TrialResults& results, Queue& queue, QWidget* parent = nullptr);

  void show_trial(std::shared_ptr<const TrialResult> trial, const FitHold& hold);
  void show_empty(const QString& headline, const QString& advice, bool offer_files = true);
  void show_failure(const QString& sentence);
  void show_progress(const QString& what, double fraction);
  void hide_progress();
  /// The chain that makes the return; none: it is a file.
  void show_chain(const std::optional<Chain>& chain);
  ChainStrip* chain_strip() const { return chain_strip_; }
  void show_spot(double at_s);
  /// Jumps to where a finding can be seen.
  void show_evidence(const Finding& finding);
  void set_playhead(double at_s);
  void set_heard(std::optional<Heard> heard);  ///< none: something that is in no lane
  void set_selection(std::optional<std::pair<double, double>> seconds);
  void set_band(std::optional<std::pair<double, double>> hz);
  std::optional<std::pair<double, double>> band() const { return band_; }
  /// Moves the delay to the best null near it, over the selection or what is in view.
  void snap();
  void hold_delay(double delay_samples);
  std::optional<std::pair<double, double>> selection() const { return lanes_->selection(); }

  LanesPlate* lanes() const { return lanes_; }
  PlatePanel* plates() const { return plates_; }
  FitStrip* strip() const { return strip_; }
  const std::vector<QAction*>& view_actions() const { return plates_->actions_of_view(); }
  /// How the spectra are drawn, as the bench keeps it.
  nlohmann::ordered_json settings() const { return plates_->settings(); }
  void restore(const nlohmann::ordered_json& settings) { plates_->restore(settings); }

 signals:
  void hold_changed(const heathmist::FitHold& hold, const QString& what);
  void seek(double at_s);
  void loop_changed(std::optional<std::pair<double, double>> seconds);
  void band_changed(std::optional<std::pair<double, double>> hz);
  void cell_heard();  ///< a cell was chosen to be heard
  /// A cause is to be heard by itself, or what is left without it; no clip: the residual and the return as they are.
  void cause_heard(std::shared_ptr<const heathmist::Clip> clip, const QString& name, heathmist::app::Heard heard);
  void cancel();
  void choose_files();

 private:
  QWidget* make_evidence();
  QWidget* make_empty();
  QWidget* make_progress();
  void refresh_lanes();
  void refresh_numbers();
  void take_hold(const FitHold& hold, const QString& what);
  void take_look(const RegionRequest& look, const std::shared_ptr<const ResidualSums>& sums);
  void ask_for_look();
  const ResidualSums& sums() const { return narrowed_ ? *narrowed_ : trial_->report->sums; }

  TrialResults& results_;
  Queue& queue_;
  std::shared_ptr<const TrialResult> trial_;
  std::shared_ptr<const ResidualSums> narrowed_;  // of the selection or another resolution
  FitHold hold_;
  LaneFeed feed_;
  QTimer settle_;  // a nudge becomes the trial's when the hand rests
  QString pending_what_;
  bool pending_ = false;
  std::optional<std::pair<double, double>> band_;
  double residual_zoom_ = 1;

  QStackedWidget* pages_;
  LanesPlate* lanes_;
  FitStrip* strip_;
  PlatePanel* plates_;
  ChainStrip* chain_strip_;
  QLabel *empty_headline_, *empty_advice_, *progress_what_;
  QWidget* progress_;
  QProgressBar* progress_bar_;
  QPushButton* choose_;
};

}  // namespace heathmist::app
