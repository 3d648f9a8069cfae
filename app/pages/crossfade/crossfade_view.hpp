// Crossfades between any two clips of the bench: how alike they are at a spot, and what each law does there.
#pragma once
#include <QCheckBox>
#include <QComboBox>
#include <QLabel>
#include <QPushButton>

#include "app/model/long_work.hpp"
#include "app/plots/graph_plate.hpp"
#include "app/widgets/number_field.hpp"
#include "app/widgets/result_table.hpp"
#include "core/bench/document.hpp"
#include "core/delivery/crossfades.hpp"

namespace heathmist::app {

/// Two clips at one rate of length; heard as master and return.
struct CrossfadeChoice {
  std::filesystem::path a, b;
  CrossfadeSpot spot;
  FadeLaw law = FadeLaw::linear;
  CrossfadeOptions options{};
  /// What is studied does not hang on the law, nor on how it is heard.
  bool same_sources(const CrossfadeChoice& other) const { return a == other.a && b == other.b && spot == other.spot; }
};

class CrossfadeView : public QWidget {
  Q_OBJECT

 public:
  explicit CrossfadeView(Queue& queue, QWidget* parent = nullptr);
  void show_bench(const Bench& bench);
  void choose(const std::filesystem::path& a, const std::filesystem::path& b, const CrossfadeSpot& spot);
  void forget(const std::filesystem::path& file);
  /// Nothing: two clips are not chosen yet.
  std::optional<CrossfadeChoice> chosen() const;
  QString answer() const { return answer_->text(); }
  ResultTable* table() const { return table_; }
  GraphPlate* levels() const { return levels_; }
  bool is_working() const { return work_.is_running(); }
  const std::optional<CrossfadeStudy>& study() const { return study_; }

 signals:
  void hearing_wanted();
  void rested();

 private:
  QWidget* make_head();
  QWidget* make_listening();
  void make_table(QWidget* parent);
  void ask();
  void draw();
  std::vector<Series> level_series() const;
  QComboBox *a_, *b_;
  NumberField *a_from_, *b_from_, *length_, *grain_;
  QCheckBox *itself_, *grains_;
  QLabel *answer_, *note_;
  GraphPlate *levels_, *alike_;
  ResultTable* table_;
  QPushButton* hear_;
  LongWork work_;
  std::optional<CrossfadeStudy> study_;
  std::optional<CrossfadeChoice> studied_;  // what it is of, or is to be
  std::vector<std::pair<QString, QString>> clips_;
  bool quiet_ = false;
};

}  // namespace heathmist::app
