// The line of a table's cell on which a file stands before an outlet: its loudness and where the player puts it, beside
// the target; one axis for all rows.
#pragma once
#include <QStyledItemDelegate>
#include <QWidget>
#include <optional>

namespace heathmist::app {

/// LUFS; what is not known is not drawn.
struct LevelLine {
  double target = 0;
  std::optional<double> tolerance{};  ///< LU, either way
  std::optional<double> file{}, heard{};
  bool must_change = false;       ///< the file itself has to be at the target
  bool stopped_by_peaks = false;  ///< the player lifts it no further: true peaks stand at its ceiling
};
/// The same in words.
QString words_of(const LevelLine& line);

/// Pixels from the left of a line that is `width` wide; what lies beyond the axis stands at its end.
double place_on_line(double lufs, double width);

class LevelLinePainter : public QStyledItemDelegate {
 public:
  using QStyledItemDelegate::QStyledItemDelegate;
  static constexpr double low_lufs = -36, high_lufs = -6;
  void paint(QPainter* painter, const QStyleOptionViewItem& option, const QModelIndex& index) const override;
};

/// What the signs of the lines mean.
class LevelLineKey : public QWidget {
 public:
  explicit LevelLineKey(QWidget* parent);
  QSize sizeHint() const override;
  QSize minimumSizeHint() const override { return {120, sizeHint().height()}; }

 protected:
  void paintEvent(QPaintEvent*) override;
};

}  // namespace heathmist::app

Q_DECLARE_METATYPE(heathmist::app::LevelLine)
