#include "app/pages/file_row.hpp"

#include <QDragEnterEvent>
#include <QFileInfo>
#include <QKeyEvent>
#include <QMenu>
#include <QMimeData>
#include <QToolButton>
#include <QVBoxLayout>

#include "app/model/folders.hpp"
#include "app/theme/theme.hpp"
#include "app/widgets/audio_files.hpp"
#include "app/widgets/labels.hpp"

namespace heathmist::app {

FileRow::FileRow(Queue& queue, const QString& name, const QString& empty, QWidget* parent)
    : QWidget(parent), listing_(queue), empty_(empty) {
  setAcceptDrops(true);
  auto* rows = new QVBoxLayout(this);
  rows->setContentsMargins(0, 0, 0, 0);
  rows->setSpacing(3);
  auto* head = new QHBoxLayout;
  head->addWidget(title_label(name, this));
  head->addWidget(count_ = soft_label("", this), 1);
  auto* more = new QToolButton(this);
  more->setText(tr("Add"));
  more->setAccessibleName(tr("Add %1").arg(name));
  more->setPopupMode(QToolButton::InstantPopup);
  auto* menu = new QMenu(more);
  menu->addAction(tr("Files…"), this, [this] { add(choose_audio_files(this)); });
  menu->addAction(tr("A folder and all below it…"), this, [this, name] {
    if (const QString folder = choose_folder(this, name); !folder.isEmpty()) add({folder});
  });
  menu->addSeparator();
  menu->addAction(tr("Take all away"), this, [this] { set_files({}), emit changed(); });
  more->setMenu(menu);
  head->addWidget(more);
  rows->addLayout(head);
  list_ = new QListWidget(this);
  list_->setObjectName("files");
  list_->setAccessibleName(name);
  list_->setSelectionMode(QAbstractItemView::ExtendedSelection);
  list_->setUniformItemSizes(true);
  rows->addWidget(list_, 1);
  set_files({});
  connect(&listing_, &FolderListing::begun, this, [this] { show_count(), emit listing_changed(); });
  connect(&listing_, &FolderListing::listed, this, &FileRow::take);
  connect(&listing_, &FolderListing::ended, this, [this] { show_count(), emit listing_changed(); });
}

void FileRow::set_files(const QStringList& files) {
  files_ = files;
  list_->clear();
  for (const QString& file : files_) {
    auto* item = new QListWidgetItem(QFileInfo(file).fileName(), list_);
    item->setToolTip(file);
    item->setData(Qt::UserRole, file);
  }
  if (files_.isEmpty()) {
    auto* item = new QListWidgetItem(empty_, list_);
    item->setFlags(Qt::NoItemFlags);
  }
  show_count();
}

void FileRow::show_count() {
  count_->setText(is_listing()         ? tr("reading the folder…")
                  : files_.isEmpty()   ? QString()
                  : files_.size() == 1 ? tr("one file")
                                       : tr("%1 files").arg(files_.size()));
}

void FileRow::add(const QStringList& files_and_folders) {
  if (!files_and_folders.isEmpty()) listing_.list(files_and_folders);
}

void FileRow::take(const QStringList& fresh, const QStringList& sentences) {
  QStringList files = files_;
  for (const QString& file : fresh) files << QFileInfo(file).absoluteFilePath();
  files.removeDuplicates();
  if (files != files_) set_files(files), emit changed();
  if (!sentences.isEmpty()) emit refused(sentences.front());
}

void FileRow::dragEnterEvent(QDragEnterEvent* event) {
  if (event->mimeData()->hasUrls()) event->acceptProposedAction();
}

void FileRow::dropEvent(QDropEvent* event) { add(dropped_files(*event)); }

void FileRow::keyPressEvent(QKeyEvent* event) {
  if (event->key() != Qt::Key_Delete) return QWidget::keyPressEvent(event);
  QStringList files = files_;
  for (const QListWidgetItem* item : list_->selectedItems()) files.removeAll(item->data(Qt::UserRole).toString());
  if (files != files_) set_files(files), emit changed();
}

}  // namespace heathmist::app
