// Choosing audio files to read.
#pragma once
#include <QDropEvent>
#include <QStringList>
#include <QWidget>

namespace heathmist::app {

/// The endings of files with sound, small, without their dot.
const QStringList& audio_endings();

/// Empty: cancelled. The folder of the last choice is remembered.
QStringList choose_audio_files(QWidget* parent);
QString choose_audio_file(QWidget* parent, const QString& title);
/// What was dropped of this machine, files and folders.
QStringList dropped_files(QDropEvent& event);
/// Empty: cancelled.
QString choose_folder(QWidget* parent, const QString& title);

}  // namespace heathmist::app
