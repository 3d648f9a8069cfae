// Named lines over frequency on one level axis: the stack of a residual's parts, or the depth of several trials.
#pragma once
#include "app/plots/frequency_plate.hpp"

namespace heathmist::app {

struct NamedLine {
  QString name;
  std::vector<double> hz, db;  ///< the same frequencies in all lines
  QColor ink;
  Qt::PenStyle style = Qt::SolidLine;
  bool filled = false;  ///< down to the bottom of the plate
  double width = 1.5;
};

/// A line of the spectrum that is marked where it stands.
struct LineMark {
  double hz = 0, db = 0;
  QString word;
  QColor ink;
  bool ring = true;  ///< else the word alone
};

class LinesPlate : public FrequencyPlate {
  Q_OBJECT

 public:
  explicit LinesPlate(const QString& title, const QString& words, QWidget* parent = nullptr);
  ~LinesPlate() override;
  /// Colours come with the lines: `lines` is asked for them again when the theme changes.
  void show_lines(const std::function<std::vector<NamedLine>()>& lines,
                  const std::function<std::vector<LineMark>()>& marks = {});
  /// Without a legend words beside the lines name them.
  void set_legend(bool shown) { legend_ = shown; }
  /// The read-out names the note of the frequency too.
  void set_notes(bool notes) { notes_ = notes; }
  const std::vector<QCPItemText*>& mark_words() const { return words_; }
  void set_logarithmic(bool logarithmic) { logarithmic_ = logarithmic; }
  /// How far below the top the axis reaches at most, and the level at and below which there is nothing.
  void set_depth(double db, double nothing_db) { depth_db_ = db, nothing_db_ = nothing_db; }
  QString csv() const override;
  QString read_out(double hz) const override;

 protected:
  void recolour() override;
  void fit_levels() override;
  void resizeEvent(QResizeEvent* event) override;

 private:
  void draw();
  void draw_marks();
  void lay_out_names();
  std::function<std::vector<LineMark>()> marks_;
  std::vector<QCPItemText*> words_;
  bool notes_ = false, legend_ = true;
  std::function<std::vector<NamedLine>()> source_;
  std::vector<NamedLine> lines_;
  std::vector<QCPGraph*> graphs_;
  QCPGraph* bottom_;
  QCPLegend* names_;
  bool logarithmic_ = true;
  double depth_db_ = 150, nothing_db_ = -200;
};

}  // namespace heathmist::app
