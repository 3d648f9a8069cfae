// Spectra of any clips of the bench on one plate, and what the lines of one of them are.
#pragma once
#include <QComboBox>
#include <QLabel>
#include <QMenu>
#include <QStackedWidget>
#include <QTimer>
#include <QToolButton>
#include <set>

#include "app/model/long_work.hpp"
#include "app/model/trial_results.hpp"
#include "app/plots/lines_plate.hpp"
#include "app/plots/spectrogram_plate.hpp"
#include "app/widgets/result_table.hpp"
#include "core/bench/document.hpp"
#include "core/probes/readings.hpp"

namespace heathmist::app {

class SpectrumView : public QWidget {
  Q_OBJECT

 public:
  explicit SpectrumView(Queue& queue, QWidget* parent = nullptr);
  void show_bench(const Bench& bench);
  /// The trial that is looked at: its master, return and residual.
  void show_trial(std::shared_ptr<const TrialResult> trial);
  void show_master(const std::string& id);  ///< the one that is looked at: what is seen where there is no trial
  /// A file of the bench changed: what is shown is read again.
  void look_again();
  void set_playhead(double at_s);
  void set_selection(std::optional<std::pair<double, double>> seconds);
  /// Which clips are in, by key: "master", "return", "residual", or the id of a master or a trial.
  void choose(const std::string& key, bool in);
  QComboBox* kind() const { return kind_; }
  QComboBox* listen() const { return listen_; }
  QComboBox* size() const { return size_; }
  QComboBox* window_kind() const { return window_; }
  QComboBox* unit() const { return unit_; }
  QComboBox* overlap() const { return overlap_; }
  QComboBox* blocks() const { return blocks_; }  ///< that are averaged
  QComboBox* layout_choice() const { return layout_; }
  LinesPlate* plate() const { return plate_; }
  SpectrogramPlate* over_time() const { return over_time_; }
  ResultTable* table() const { return table_; }
  QString headline() const { return headline_->text(); }
  bool is_running() const { return work_.is_running(); }
  QString csv() const;

  static constexpr int most_blocks = 600;  ///< evenly spread over a long clip, unless more are asked for
  static constexpr int every_block = 1'000'000'000;
  enum Kind { average, hold, moment, over_time_plain, over_time_sharp };

 signals:
  void rested();
  void drawn();                                     ///< what was asked for last is on the plate
  void seek(double at_s);                           ///< a place in a spectrogram was clicked
  void band_chosen(double low_hz, double high_hz);  ///< in any plate: to be heard alone

 protected:
  void showEvent(QShowEvent* event) override;

 private:
  struct Subject {
    std::string key;
    QString name;
    std::shared_ptr<const Clip> clip;  ///< of the trial; else it is opened
    std::filesystem::path file{};
    std::optional<Chain> chain{};
  };
  struct Seen {
    std::string key;
    QString name;
    int sample_rate_hz = 0;
    Spectra spectra;
    LineReading lines;
    QString failure;
  };
  /// Clips that were opened, for every run of the task.
  struct Opened;
  QWidget* make_head();
  QToolButton* make_transform(QWidget* head);
  void make_table(QWidget* parent);
  QComboBox* choice(QWidget* head, const QString& hint, const std::vector<std::pair<QString, QVariant>>& items,
                    int initial);
  std::vector<Subject> subjects() const;
  SpectraOptions options() const;
  void fill_menu();
  void ask();
  void run();
  void draw();
  // spectrum_over_time.cpp
  bool is_over_time() const { return kind_->currentIndex() >= over_time_plain; }
  void connect_over_time();
  void show_kind();
  void run_over_time(const std::vector<Subject>& wanted);
  void show_lines();
  void point_at_line();
  std::vector<Detour> detours() const;
  std::vector<NamedLine> lines() const;
  std::vector<LineMark> marks() const;
  const Seen* answered() const;  ///< the clip that the answer and the marks are of
  QString say(const Seen& seen) const;
  std::string master_id_;
  Bench bench_;
  std::shared_ptr<const TrialResult> trial_;
  std::shared_ptr<const Clip> residual_;  ///< of the trial
  std::set<std::string> in_{"master", "return"};
  std::optional<std::pair<double, double>> selection_;
  double playhead_s_ = 0;
  bool stale_ = true;
  std::vector<Seen> seen_;
  std::vector<std::pair<QString, SpectralLine>> told_;  // clip and line, as the table shows them
  mutable SpectrumLine answer_;                         ///< the curve that the marks stand on
  double answer_at(double hz) const;
  std::shared_ptr<Opened> opened_;
  LongWork work_;
  QTimer settle_;
  QMenu* clips_;
  QToolButton* transform_;
  QComboBox *kind_, *listen_, *size_, *window_, *unit_, *slope_, *scale_, *overlap_, *blocks_, *layout_;
  QLabel *headline_, *note_;
  QComboBox* levels_;
  QStackedWidget* plates_;
  SpectrogramPlate* over_time_;
  std::string length_of_;  ///< whose length the time axis has
  LinesPlate* plate_;
  ResultTable* table_;
};

}  // namespace heathmist::app
