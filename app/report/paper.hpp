// A report on paper: pages of A4 or US letter with real text and lines, to be looked at or written as PDF.
//
//   Paper paper(report);
//   paper.draw(painter, 0);            // the first page, a point a unit
//   QByteArray pdf = paper.pdf();
#pragma once
#include <QPageSize>
#include <QPicture>
#include <QTextDocument>
#include <memory>
#include <vector>

#include "core/bench/report_content.hpp"

class QPainter;

namespace heathmist::app {

class Paper {
 public:
  explicit Paper(const Report& report, QPageSize::PageSizeId size = QPageSize::A4);
  int pages() const { return document_->pageCount(); }
  QSizeF size() const { return size_; }  ///< points
  /// A page with its foot, from (0, 0) on.
  void draw(QPainter& painter, int page) const;
  /// All pages, with fonts embedded.
  QByteArray pdf() const;
  /// The pages for another thread: a paper stays on the one that made it, as its fonts do.
  std::vector<QPicture> pictures() const;

 private:
  QPageSize::PageSizeId size_id_;
  QSizeF size_;
  QString heading_, foot_;
  std::unique_ptr<QTextDocument> document_;
};

}  // namespace heathmist::app
