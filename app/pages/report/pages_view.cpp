#include "app/pages/report/pages_view.hpp"

#include <QPaintEvent>
#include <QPainter>
#include <QScrollBar>

#include "app/theme/theme.hpp"

namespace heathmist::app {

namespace {
constexpr double gap = 14, widest_scale = 1.6;
}

PagesView::PagesView(QWidget* parent) : QAbstractScrollArea(parent) {
  setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
  setFrameShape(QFrame::NoFrame);
  setFocusPolicy(Qt::StrongFocus);
  setAccessibleName(tr("Pages of the report"));
  setMinimumSize(240, 200);
}

void PagesView::show_pages(std::vector<QPicture> pages, const QSizeF& size) {
  pages_ = std::move(pages);
  size_ = size;
  set_range();
  viewport()->update();
}

void PagesView::show_words(const QString& words) {
  words_ = words;
  show_pages({}, size_);
}

double PagesView::scale() const { return std::min(widest_scale, (viewport()->width() - 2 * gap) / size_.width()); }

double PagesView::page_step() const { return size_.height() * scale() + gap; }

void PagesView::set_range() {
  const int whole = pages_.empty() ? 0 : int(page_step() * pages() + gap), seen = viewport()->height();
  verticalScrollBar()->setRange(0, std::max(0, whole - seen));
  verticalScrollBar()->setPageStep(seen);
  verticalScrollBar()->setSingleStep(40);
}

void PagesView::resizeEvent(QResizeEvent* event) {
  QAbstractScrollArea::resizeEvent(event);
  const double at =
      verticalScrollBar()->maximum() > 0 ? double(verticalScrollBar()->value()) / verticalScrollBar()->maximum() : 0;
  set_range();
  verticalScrollBar()->setValue(int(at * verticalScrollBar()->maximum()));
}

void PagesView::paintEvent(QPaintEvent* event) {
  QPainter painter(viewport());
  painter.fillRect(event->rect(), colour(Role::ground));
  if (pages_.empty()) {
    painter.setPen(colour(Role::soft));
    painter.drawText(viewport()->rect().adjusted(20, 20, -20, -20), Qt::AlignCenter | Qt::TextWordWrap, words_);
    return;
  }
  const double s = scale(), step = page_step(), top = verticalScrollBar()->value();
  const QSizeF size = size_ * s;
  painter.setRenderHints(QPainter::Antialiasing | QPainter::TextAntialiasing);
  for (int page = std::max(0, int((top - gap) / step)); page < pages(); ++page) {
    const QRectF sheet(QPointF((viewport()->width() - size.width()) / 2, gap + page * step - top), size);
    if (sheet.top() > viewport()->height()) break;
    painter.fillRect(sheet, Qt::white);
    painter.setPen(QPen(colour(Role::rule), 1));
    painter.setBrush(Qt::NoBrush);
    painter.drawRect(sheet);
    painter.save();
    painter.translate(sheet.topLeft());
    painter.scale(s, s);
    painter.drawPicture(0, 0, pages_[size_t(page)]);
    painter.restore();
  }
}

}  // namespace heathmist::app
