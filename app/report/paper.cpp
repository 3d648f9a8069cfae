#include "app/report/paper.hpp"

#include <QAbstractTextDocumentLayout>
#include <QBuffer>
#include <QImage>
#include <QPainter>
#include <QPdfWriter>
#include <QTextBlock>
#include <QTextCursor>
#include <QTextFrame>
#include <QTextTable>
#include <cmath>
#include <utility>
#include <variant>

#include "app/report/chart_drawing.hpp"

namespace heathmist::app {

namespace {

constexpr double margin = 48;  // points, all around
constexpr double body_size = 10, foot_size = 8;
constexpr int drawing_object = QTextFormat::UserObject + 1, drawing_number = QTextFormat::UserProperty + 1;

QString text_of(const std::string& text) { return QString::fromStdString(text); }
QColor ink_of(const std::string& name) { return QColor(QString::fromStdString(name)); }

/// Metrics that are the same at any scale, so that what is laid out once fits the screen and the page.
QFont print_font(double points, bool is_strong = false) {
  QFont font("Lato");
  font.setPixelSize(std::max(1, int(std::lround(points))));  // a point is a unit, whatever is drawn on
  font.setLetterSpacing(QFont::AbsoluteSpacing, 0.02);  // no ligatures: their letters are lost to who copies the text
  font.setWeight(is_strong ? QFont::DemiBold : QFont::Normal);
  font.setHintingPreference(QFont::PreferNoHinting);
  font.setStyleStrategy(QFont::ForceOutline);
  return font;
}

class PainterCanvas : public Canvas {
 public:
  explicit PainterCanvas(QPainter& painter) : painter_(painter) {}
  void line(const std::vector<Spot>& spots, const Ink& ink) override {
    QPen pen(ink_of(ink.colour), ink.width, ink.is_dashed ? Qt::CustomDashLine : Qt::SolidLine, Qt::FlatCap,
             Qt::RoundJoin);
    if (ink.is_dashed) pen.setDashPattern({5 / ink.width, 3 / ink.width});
    painter_.setPen(pen);
    painter_.setBrush(Qt::NoBrush);
    painter_.drawPolyline(polygon(spots));
  }
  void area(const std::vector<Spot>& spots, const std::string& colour, double opacity) override {
    QColor fill = ink_of(colour);
    fill.setAlphaF(float(opacity));
    painter_.setPen(Qt::NoPen);
    painter_.setBrush(fill);
    painter_.drawPolygon(polygon(spots));
  }
  void words(Spot at, const std::string& text, double size, Anchor anchor, const std::string& colour,
             bool is_strong) override {
    painter_.setFont(print_font(size, is_strong));
    painter_.setPen(ink_of(colour));
    const QString words = text_of(text);
    const double width = QFontMetricsF(painter_.font()).horizontalAdvance(words);
    const double left = anchor == Anchor::start ? 0 : anchor == Anchor::middle ? width / 2 : width;
    painter_.drawText(QPointF(at.x - left, at.y), words);
  }

 private:
  static QPolygonF polygon(const std::vector<Spot>& spots) {
    QPolygonF all;
    for (const Spot& s : spots) all << QPointF(s.x, s.y);
    return all;
  }
  QPainter& painter_;
};

/// What is drawn between lines of text: charts, and gauges of trials.
using Drawn = std::variant<Chart, std::optional<double>>;

class Drawings : public QObject, public QTextObjectInterface {
  Q_OBJECT
  Q_INTERFACES(QTextObjectInterface)

 public:
  Drawings(double width, QObject* parent) : QObject(parent), width_(width) {}
  int keep(Drawn drawn) { return all_.push_back(std::move(drawn)), int(all_.size()) - 1; }
  QSizeF intrinsicSize(QTextDocument*, int, const QTextFormat& format) override {
    const Drawn& one = all_[size_t(format.intProperty(drawing_number))];
    if (const Chart* chart = std::get_if<Chart>(&one)) return {width_, chart_height(*chart)};
    return {gauge_width(), gauge_height};
  }
  void drawObject(QPainter* painter, const QRectF& rect, QTextDocument*, int, const QTextFormat& format) override {
    const Drawn& one = all_[size_t(format.intProperty(drawing_number))];
    painter->save();
    painter->translate(rect.topLeft());
    painter->setRenderHint(QPainter::Antialiasing);
    PainterCanvas canvas(*painter);
    if (const Chart* chart = std::get_if<Chart>(&one))
      draw_chart(*chart, width_, canvas);
    else
      draw_gauge(std::get<1>(one), gauge_width(), canvas);
    painter->restore();
  }

 private:
  double gauge_width() const { return width_ * 0.62; }
  double width_;
  std::vector<Drawn> all_;
};

/// Puts blocks into a document.
class PaperWriter {
 public:
  PaperWriter(QTextDocument& document, double width) : cursor_(&document), width_(width) {
    drawings_ = new Drawings(width, &document);
    document.documentLayout()->registerHandler(drawing_object, drawings_);
  }

  void head(const Report& report) {
    if (report.logo) {
      const QImage logo = QImage::fromData(QByteArray::fromStdString(report.logo->bytes));
      if (!logo.isNull()) {
        cursor_.document()->addResource(QTextDocument::ImageResource, QUrl("logo"), logo);
        QTextImageFormat image;
        image.setName("logo");
        const double scale = std::min({1.0, 160.0 / logo.width(), 64.0 / logo.height()});
        image.setWidth(logo.width() * scale), image.setHeight(logo.height() * scale);
        paragraph(0, 6);
        cursor_.insertImage(image);
      }
    }
    paragraph(0, 2);
    write(text_of(report.heading), print_font(20, true), print_inks().ink);
    paragraph(0, 14);
    write(text_of(report.about + " · " + report.date + " · " + report.program), print_font(body_size),
          print_inks().soft);
  }

  void put(const ReportPageBreak&) { breaks_ = true; }
  void put(const ReportHeading& h) {
    static constexpr double sizes[] = {16, 13, 11};
    const int n = std::clamp(h.level, 1, 3) - 1;
    if (is_fresh_ && !breaks_) {  // behind a table: a paragraph's own space does not count there
      QTextCharFormat hair;
      hair.setFont(print_font(1));
      cursor_.setBlockCharFormat(hair);
      is_fresh_ = false;
    }
    paragraph(n == 0 ? 4 : 14, 4);
    write(text_of(h.text), print_font(sizes[n], true), print_inks().ink);
    if (!headed_by_.isValid()) headed_by_ = cursor_.block();
  }
  void put(const ReportText& t) {
    at_once([&] {
      paragraph(2, 6);
      write(text_of(t.text), print_font(body_size), t.is_soft ? print_inks().soft : print_inks().ink);
    });
    settle(cursor_.block());
  }
  void put(const Chart& chart) {
    at_once([&] {
      paragraph(6, 8);
      draw(chart);
    });
    settle(cursor_.block());
  }
  void put(const ReportAnswer& a) {
    in_frame(print_inks().of(a.severity), [&] {
      if (!a.done.empty()) write(text_of(a.done), print_font(body_size, true), print_inks().ink), paragraph(1, 0);
      if (!a.of.empty()) write(text_of(a.of), print_font(9), print_inks().soft), paragraph(2, 0);
      write(text_of(a.changed), print_font(body_size), print_inks().ink);
      if (a.is_measured) {
        paragraph(3, 0);
        draw(a.depth_db);
      }
      if (a.matters.empty()) return;
      paragraph(2, 0);
      write(text_of(a.matters), print_font(body_size), print_inks().ink);
    });
  }
  void put(const ReportFinding& f) {
    in_frame(print_inks().of(f.severity), [&] {
      write(text_of(f.text), print_font(body_size), print_inks().ink);
      if (f.detail.empty()) return;
      paragraph(1, 0);
      write(text_of(f.detail), print_font(9), print_inks().soft);
    });
  }
  void put(const ReportTable& table) {
    if (table.rows.empty() || table.columns.empty()) return;
    bool has_heads = false;
    for (const ReportColumn& c : table.columns) has_heads |= !c.head.empty();
    QTextTable* made = nullptr;
    at_once([&] {
      if (!table.title.empty()) {
        paragraph(8, 2);
        write(text_of(table.title), print_font(body_size, true), print_inks().ink);
        if (!headed_by_.isValid()) headed_by_ = cursor_.block();
      }
      made = put_cells(table, has_heads ? 1 : 0);
    });
    settle(*made, has_heads ? 1 : 0);
    leave();
  }

 private:
  /// What changes together is laid out once.
  template <class Change>
  void at_once(Change change) {
    QTextCursor whole(cursor_.document());
    whole.beginEditBlock();
    change();
    whole.endEditBlock();
  }

  QTextTable* put_cells(const ReportTable& table, int heads) {
    const int rows = heads + int(table.rows.size());
    QTextTableFormat format;
    format.setBorder(0), format.setCellPadding(2.5), format.setCellSpacing(0), format.setHeaderRowCount(heads);
    format.setWidth(QTextLength(QTextLength::PercentageLength, 100));
    format.setColumnWidthConstraints(widths_of(table));
    format.setTopMargin(2), format.setBottomMargin(8);
    QTextTable* made = cursor_.insertTable(rows, int(table.columns.size()), format);
    for (int row = 0; row < rows; ++row)
      for (size_t column = 0; column < table.columns.size(); ++column) fill(*made, table, row, heads, column);
    return made;
  }

  int page_of(double y) const { return int(y / cursor_.document()->pageSize().height()); }

  /// What was put last stays with the heading above it: where a page ends between them, the heading goes over too.
  void settle(const QTextBlock& block) {
    auto* layout = cursor_.document()->documentLayout();
    if (headed_by_.isValid() &&
        page_of(layout->blockBoundingRect(headed_by_).top()) != page_of(layout->blockBoundingRect(block).bottom() - 1))
      break_before(headed_by_);
    headed_by_ = {};
  }
  /// The same of a table, down to a row of it.
  void settle(QTextTable& table, int row) {
    auto* layout = cursor_.document()->documentLayout();
    const QTextTableCell last = table.cellAt(row, table.columns() - 1);
    const double bottom = layout->blockBoundingRect(last.lastCursorPosition().block()).bottom() - 1;
    const double top = headed_by_.isValid()
                           ? layout->blockBoundingRect(headed_by_).top()
                           : layout->blockBoundingRect(table.cellAt(0, 0).firstCursorPosition().block()).top();
    if (page_of(top) != page_of(bottom)) {
      if (headed_by_.isValid()) {
        break_before(headed_by_);
      } else {
        QTextTableFormat format = table.format();
        format.setPageBreakPolicy(QTextFormat::PageBreak_AlwaysBefore);
        table.setFormat(format);
      }
    }
    headed_by_ = {};
  }
  static void break_before(const QTextBlock& block) {
    QTextCursor at(block);
    QTextBlockFormat format = block.blockFormat();
    format.setPageBreakPolicy(QTextFormat::PageBreak_AlwaysBefore);
    at.setBlockFormat(format);
  }
  void leave() {
    cursor_.movePosition(QTextCursor::End);
    is_fresh_ = true;
  }

  /// A new paragraph, or the one that is there yet and empty.
  void paragraph(double space_above, double space_below) {
    QTextBlockFormat format;
    format.setTopMargin(space_above), format.setBottomMargin(space_below);
    if (std::exchange(breaks_, false)) format.setPageBreakPolicy(QTextFormat::PageBreak_AlwaysBefore);

    if (std::exchange(is_fresh_, false))
      cursor_.setBlockFormat(format);
    else
      cursor_.insertBlock(format);
  }

  void write(const QString& text, const QFont& font, const std::string& colour) {
    QTextCharFormat format;
    format.setFont(font);
    format.setForeground(ink_of(colour));
    cursor_.insertText(text, format);
  }

  void draw(Drawn drawn) {
    QTextCharFormat format;
    format.setObjectType(drawing_object);
    format.setProperty(drawing_number, drawings_->keep(std::move(drawn)));
    cursor_.insertText(QString(QChar::ObjectReplacementCharacter), format);
  }

  /// With a bar of a colour at its left; not torn by the end of a page.
  template <class Inside>
  void in_frame(const std::string& colour, Inside inside) {
    QTextTableFormat format;
    format.setBorder(0), format.setCellPadding(0), format.setCellSpacing(0);
    format.setTopMargin(5), format.setBottomMargin(5);
    format.setColumnWidthConstraints({QTextLength(QTextLength::FixedLength, 3),
                                      QTextLength(QTextLength::FixedLength, 9),
                                      QTextLength(QTextLength::FixedLength, width_ - 12)});
    QTextTable* table = nullptr;
    at_once([&] {
      table = cursor_.insertTable(1, 3, format);
      QTextTableCellFormat bar;
      bar.setBackground(ink_of(colour));
      table->cellAt(0, 0).setFormat(bar);
      const QTextCursor outside = std::exchange(cursor_, table->cellAt(0, 2).firstCursorPosition());
      is_fresh_ = false;  // the cell's own paragraph is written into
      inside();
      cursor_ = outside;
    });
    settle(*table, 0);
    leave();
  }

  /// Numbers have a narrow column each; the rest is shared by how long the words are.
  QVector<QTextLength> widths_of(const ReportTable& table) const {
    constexpr double number_width = 54, least = 13, most = 48;  // points; letters
    std::vector<double> letters;
    double left = width_, sum = 0;
    for (size_t n = 0; n < table.columns.size(); ++n) {
      letters.push_back(0);
      if (table.columns[n].is_number) {
        left -= number_width;
        continue;
      }
      size_t longest = table.columns[n].head.size();
      for (const auto& row : table.rows)
        if (n < row.size()) longest = std::max(longest, row[n].text.size());
      sum += letters.back() = std::clamp(double(longest), least, most);
    }
    QVector<QTextLength> widths;
    for (const double share : letters)
      widths << QTextLength(QTextLength::FixedLength, share > 0 ? left * share / sum : number_width);
    return widths;
  }

  void fill(QTextTable& made, const ReportTable& table, int row, int heads, size_t column) {
    const bool is_head = row < heads;
    const ReportColumn& c = table.columns[column];
    ReportCell cell{c.head, {}};
    if (!is_head) {
      const auto& cells = table.rows[size_t(row - heads)];
      cell = column < cells.size() ? cells[column] : ReportCell{};
    }
    QTextTableCell place = made.cellAt(row, int(column));
    QTextTableCellFormat edge;
    edge.setBottomBorder(0.6), edge.setBottomBorderStyle(QTextFrameFormat::BorderStyle_Solid);
    edge.setBottomBorderBrush(ink_of(print_inks().rule));
    edge.setLeftPadding(0), edge.setRightPadding(6), edge.setTopPadding(2), edge.setBottomPadding(2);
    place.setFormat(edge);
    QTextCursor at = place.firstCursorPosition();
    QTextBlockFormat line;
    if (c.is_number) line.setAlignment(Qt::AlignRight);
    at.setBlockFormat(line);
    QTextCharFormat format;
    format.setFont(print_font(9, is_head || cell.severity == Severity::fault));
    const bool is_told = cell.severity == Severity::fault || cell.severity == Severity::clean;
    format.setForeground(ink_of(is_head   ? print_inks().soft
                                : is_told ? print_inks().of(*cell.severity)
                                          : print_inks().ink));
    at.insertText(text_of(cell.text), format);
  }

  QTextCursor cursor_;
  double width_;
  Drawings* drawings_;
  QTextBlock headed_by_;  // the first heading since something else was put
  bool is_fresh_ = true, breaks_ = false;
};

}  // namespace

Paper::Paper(const Report& report, QPageSize::PageSizeId size)
    : size_id_(size),
      size_(QPageSize::size(size, QPageSize::Point)),
      heading_(text_of(report.heading)),
      foot_(text_of(report.date + " · " + report.program)),
      document_(std::make_unique<QTextDocument>()) {
  document_->setUndoRedoEnabled(false);
  document_->setUseDesignMetrics(true);
  document_->setDefaultFont(print_font(body_size));
  document_->setDocumentMargin(margin);
  document_->setPageSize(size_);
  PaperWriter writer(*document_, size_.width() - 2 * margin);
  writer.head(report);
  for (const ReportBlock& block : report.blocks) std::visit([&](const auto& b) { writer.put(b); }, block);
}

void Paper::draw(QPainter& painter, int page) const {
  painter.save();
  painter.save();
  painter.setClipRect(QRectF(QPointF(0, 0), size_));
  painter.translate(0, -page * size_.height());
  QAbstractTextDocumentLayout::PaintContext context;
  context.clip = QRectF(QPointF(0, page * size_.height()), size_);
  context.palette.setColor(QPalette::Text, ink_of(print_inks().ink));
  document_->documentLayout()->draw(&painter, context);
  painter.restore();
  painter.setFont(print_font(foot_size));
  painter.setPen(ink_of(print_inks().soft));
  const QRectF foot(margin, size_.height() - margin * 0.75, size_.width() - 2 * margin, 12);
  painter.drawText(foot, Qt::AlignLeft | Qt::AlignVCenter, heading_);
  painter.drawText(foot, Qt::AlignHCenter | Qt::AlignVCenter, foot_);
  painter.drawText(foot, Qt::AlignRight | Qt::AlignVCenter, QString("%1 of %2").arg(page + 1).arg(pages()));
  painter.restore();
}

std::vector<QPicture> Paper::pictures() const {
  std::vector<QPicture> all(static_cast<size_t>(pages()));
  for (int page = 0; page < pages(); ++page) {
    QPainter painter(&all[size_t(page)]);
    draw(painter, page);
  }
  return all;
}

QByteArray Paper::pdf() const {
  QByteArray bytes;
  QBuffer buffer(&bytes);
  buffer.open(QIODevice::WriteOnly);
  QPdfWriter writer(&buffer);
  writer.setPageSize(QPageSize(size_id_));
  writer.setPageMargins({});
  writer.setResolution(1200);
  writer.setTitle(heading_);
  writer.setCreator(QString("Heathmist %1").arg(HEATHMIST_VERSION));
  QPainter painter(&writer);
  for (int page = 0; page < pages(); ++page) {
    if (page > 0) writer.newPage();
    painter.save();
    painter.scale(writer.logicalDpiX() / 72.0, writer.logicalDpiY() / 72.0);
    draw(painter, page);
    painter.restore();
  }
  painter.end();
  return bytes;
}

}  // namespace heathmist::app

#include "paper.moc"
