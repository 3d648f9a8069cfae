// Engines: which there are and what is known of each, what was asked over what was rendered, and what is to be done.
#pragma once
#include <QComboBox>
#include <QLabel>
#include <QPushButton>
#include <QSplitter>

#include "app/pages/engines/engine_cards.hpp"
#include "app/pages/engines/engine_plots.hpp"
#include "app/widgets/chooser.hpp"
#include "app/widgets/findings_panel.hpp"
#include "app/widgets/result_table.hpp"

namespace heathmist::app {

class EnginesView : public QWidget {
  Q_OBJECT

 public:
  explicit EnginesView(Queue& queue, QWidget* parent = nullptr);
  void show_bench(const Bench& bench);
  /// An engine and a kind; no kind: as it is.
  void choose(const std::string& engine_id, const std::string& kind);
  const TestedEngine* engine() const;  ///< the chosen one; nullptr: there is none
  const std::string& kind() const { return kind_; }
  int rate_hz() const { return rate_->currentData().toInt(); }
  EngineReadings& readings() { return readings_; }
  QString csv() const;  ///< of all engines side by side

  EngineCards* cards() const { return cards_; }
  ResultTable* table() const { return table_; }
  EnginePlots* plots() const { return plots_; }
  QString answer() const { return answer_->text(); }
  QString detail() const { return detail_->text(); }
  QStringList steps() const;

 signals:
  void add_wanted(const QPoint& at);  ///< of the screen
  void menu_wanted(const std::string& engine_id, const QPoint& at);
  void probe_wanted();
  void score_wanted();
  void render_wanted();
  void asking_wanted();  ///< of the stand-in that is chosen

 private:
  QWidget* make_middle();
  QWidget* make_side();
  void draw();
  void draw_reading(const RenderState* state);
  void draw_score();
  void look_at_chosen();
  std::vector<NamedReading> others() const;
  const RenderState* clip_gain() const;
  QString answer_of(const RenderState* state) const;

  static constexpr const char* all_engines = "all";  // in place of a kind: side by side
  Bench bench_;
  bool taken_up_ = false;
  std::string engine_id_, kind_ = "gain";
  EngineReadings readings_;
  EngineCards* cards_;
  Chooser* kinds_;
  QLabel *answer_, *detail_, *steps_, *empty_;
  EnginePlots* plots_;
  ResultTable* table_;
  QSplitter* split_;
  QWidget* side_;
  FindingsPanel* findings_;
  QComboBox* rate_;
  QPushButton *ask_, *bring_, *with_others_;
};

}  // namespace heathmist::app
