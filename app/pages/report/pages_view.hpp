// The pages of a report one below the other, as wide as there is room.
#pragma once
#include <QAbstractScrollArea>
#include <QPicture>
#include <vector>

namespace heathmist::app {

class PagesView : public QAbstractScrollArea {
  Q_OBJECT

 public:
  explicit PagesView(QWidget* parent = nullptr);
  /// Pages of a size in points. None: `words` stand in their place.
  void show_pages(std::vector<QPicture> pages, const QSizeF& size);
  void show_words(const QString& words);
  int pages() const { return int(pages_.size()); }

 protected:
  void paintEvent(QPaintEvent* event) override;
  void resizeEvent(QResizeEvent* event) override;

 private:
  double scale() const;  ///< of a point
  double page_step() const;
  void set_range();
  std::vector<QPicture> pages_;
  QSizeF size_{1, 1};
  QString words_;
};

}  // namespace heathmist::app
