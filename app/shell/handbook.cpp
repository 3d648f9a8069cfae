#include "app/shell/handbook.hpp"

#include <QAbstractTextDocumentLayout>
#include <QFile>
#include <QHBoxLayout>
#include <QRegularExpression>
#include <QResizeEvent>
#include <QScrollBar>
#include <QTextBlock>

#include "app/theme/theme.hpp"
#include "app/widgets/terms.hpp"

namespace heathmist::app {

namespace {

constexpr const char* chapters_folder = "qrc:/heathmist/handbook/";
constexpr const char* first_chapter = "start";

/// Shows chapters; a picture is as wide as its text.
class ChapterText : public QTextBrowser {
 public:
  using QTextBrowser::QTextBrowser;

 protected:
  QVariant loadResource(int type, const QUrl& name) override {
    const QVariant loaded = QTextBrowser::loadResource(type, name);
    if (type != QTextDocument::ImageResource) return loaded;
    QImage picture =
        loaded.userType() == QMetaType::QByteArray ? QImage::fromData(loaded.toByteArray()) : loaded.value<QImage>();
    if (picture.isNull()) return loaded;
    const double wide = viewport()->width() - 2 * document()->documentMargin() - 4, scale = devicePixelRatioF();
    picture = picture.scaledToWidth(int(wide * scale), Qt::SmoothTransformation);
    picture.setDevicePixelRatio(scale);
    return picture;
  }
  /// Pictures are made anew for another width; the place in the text stays.
  void resizeEvent(QResizeEvent* event) override {
    QTextBrowser::resizeEvent(event);
    if (event->size().width() == event->oldSize().width() || source().isEmpty()) return;
    const int at = verticalScrollBar()->value();
    reload();
    verticalScrollBar()->setValue(at);
  }
};

/// Keys and code, which Markdown sets in a face of their own and of another size, in the text's own, bold.
void write_keys(QTextDocument& document) {
  QTextCharFormat key;
  key.setFontFixedPitch(false);
  key.setFontFamilies({face(Type::value).family()});
  key.setFontWeight(QFont::Bold);
  for (QTextBlock block = document.begin(); block.isValid(); block = block.next())
    for (auto at = block.begin(); !at.atEnd(); ++at) {
      if (!at.fragment().charFormat().fontFixedPitch()) continue;
      QTextCursor cursor(&document);
      cursor.setPosition(at.fragment().position());
      cursor.setPosition(at.fragment().position() + at.fragment().length(), QTextCursor::KeepAnchor);
      cursor.mergeCharFormat(key);
      at = block.begin();  // what was walked over is another list now
    }
}

}  // namespace

std::vector<Chapter> Handbook::chapters() {
  open_handbook_files();
  QFile file(":/heathmist/handbook/README.md");
  if (!file.open(QIODevice::ReadOnly)) return {};
  static const QRegularExpression entry(R"(^- \[([^\]]+)\]\((\w+)\.md\))", QRegularExpression::MultilineOption);
  std::vector<Chapter> all;
  for (auto it = entry.globalMatch(QString::fromUtf8(file.readAll())); it.hasNext();) {
    const auto found = it.next();
    all.push_back({found.captured(1), found.captured(2)});
  }
  return all;
}

Handbook::Handbook(QWidget* parent) : QDialog(parent) {
  open_handbook_files();
  setWindowTitle(tr("Handbook"));
  resize(860, 620);
  auto* columns = new QHBoxLayout(this);
  columns->setContentsMargins(12, 12, 12, 12);
  list_ = new QListWidget(this);
  list_->setAccessibleName(tr("Chapters"));
  list_->setFixedWidth(190);
  list_->setSpacing(3);
  for (const auto& [title, key] : chapters()) {
    auto* item = new QListWidgetItem(title, list_);
    item->setData(Qt::UserRole, key);
  }
  columns->addWidget(list_);
  text_ = new ChapterText(this);
  text_->setAccessibleName(tr("Chapter"));
  text_->setOpenExternalLinks(false);
  text_->document()->setDocumentMargin(18);
  text_->setFont(face(Type::value));
  text_->setVerticalScrollBarPolicy(Qt::ScrollBarAlwaysOn);  // a picture is as wide as what is beside it
  columns->addWidget(text_, 1);
  connect(list_, &QListWidget::currentItemChanged, this, [this](QListWidgetItem* item) {
    if (item) open_chapter(item->data(Qt::UserRole).toString());
  });
  connect(text_, &QTextBrowser::sourceChanged, this, &Handbook::follow);  // source() is yet the one before
}

void Handbook::open_chapter(const QString& key) {
  const bool is_there = QFile::exists(QString(":/heathmist/handbook/%1.md").arg(key));
  const QUrl url(chapters_folder + (is_there ? key : QString(first_chapter)) + ".md");
  if (text_->source() != url) text_->setSource(url, QTextDocument::MarkdownResource);
}

void Handbook::go_to_term(const QString& key) {
  open_chapter("terms");
  const Term* term = term_of(key);
  if (!term) return;
  for (QTextBlock block = text_->document()->begin(); block.isValid(); block = block.next())
    if (block.blockFormat().headingLevel() > 0 && block.text() == term->name) {
      text_->verticalScrollBar()->setValue(int(text_->document()->documentLayout()->blockBoundingRect(block).top()));
      return text_->setTextCursor(QTextCursor(block));
    }
}

QString Handbook::chapter() const { return text_->source().fileName().section('.', 0, 0); }

/// Another chapter is shown, by whatever led there: the list says which.
void Handbook::follow(const QUrl& to) {
  write_keys(*text_->document());
  const QSignalBlocker quiet(list_);
  const QString shown = to.fileName().section('.', 0, 0);
  for (int n = 0; n < list_->count(); ++n)
    if (list_->item(n)->data(Qt::UserRole).toString() == shown) list_->setCurrentRow(n);
}

}  // namespace heathmist::app
