// The ribbon of a table's cell: how short-term loudness spreads, integrated on it, beside a faint outline; one axis for
// all rows.
#pragma once
#include <QStyledItemDelegate>

#include "core/measure/meter.hpp"

namespace heathmist::app {

/// What a ribbon shows; made once for each row.
struct Ribbon {
  uint64_t id = 0;  ///< no two ribbons have the same
  LoudnessHistogram spread;
  std::optional<double> integrated_lufs;
  std::vector<float> outline;  ///< greatest sample of equal parts of the clip
  bool is_master = true;
};
Ribbon ribbon_of(const Loudness& loudness, bool is_master);

class RibbonPainter : public QStyledItemDelegate {
 public:
  using QStyledItemDelegate::QStyledItemDelegate;
  static constexpr double low_lufs = -50, high_lufs = 0;
  void paint(QPainter* painter, const QStyleOptionViewItem& option, const QModelIndex& index) const override;
};

}  // namespace heathmist::app

Q_DECLARE_METATYPE(std::shared_ptr<const heathmist::app::Ribbon>)
