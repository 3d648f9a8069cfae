#include "app/widgets/audio_files.hpp"

#include <QFileDialog>
#include <QFileInfo>
#include <QMimeData>
#include <QSettings>

namespace heathmist::app {

namespace {

QString audio_filter() {
  QStringList patterns;
  for (const QString& ending : audio_endings()) patterns << "*." + ending;
  return QObject::tr("Audio (%1);;All files (*)").arg(patterns.join(' '));
}

QString last_folder() { return QSettings().value("files/folder").toString(); }
void remember_folder_of(const QString& file) { QSettings().setValue("files/folder", QFileInfo(file).path()); }

}  // namespace

const QStringList& audio_endings() {
  static const QStringList endings{"wav", "w64",  "rf64", "bwf", "aif",  "aiff", "caf", "flac", "mp3", "mp2",
                                   "aac", "m4a",  "ogg",  "oga", "opus", "wv",   "ac3", "eac3", "mp4", "mkv",
                                   "mka", "webm", "mov",  "mxf", "ts",   "avi",  "au",  "dsf",  "tta", "ape"};
  return endings;
}

QStringList choose_audio_files(QWidget* parent) {
  const QStringList files = QFileDialog::getOpenFileNames(parent, QObject::tr("Choose a master and what came back"),
                                                          last_folder(), audio_filter());
  if (!files.isEmpty()) remember_folder_of(files.front());
  return files;
}

QString choose_audio_file(QWidget* parent, const QString& title) {
  const QString file = QFileDialog::getOpenFileName(parent, title, last_folder(), audio_filter());
  if (!file.isEmpty()) remember_folder_of(file);
  return file;
}

QStringList dropped_files(QDropEvent& event) {
  QStringList files;
  for (const QUrl& url : event.mimeData()->urls())
    if (url.isLocalFile()) files << url.toLocalFile();
  event.acceptProposedAction();
  return files;
}

QString choose_folder(QWidget* parent, const QString& title) {
  const QString folder = QFileDialog::getExistingDirectory(parent, title, last_folder());
  if (!folder.isEmpty()) remember_folder_of(folder + "/");
  return folder;
}

}  // namespace heathmist::app
