// What is seen of a window or dialog, looked at for what is cut off, too small, or without a name.
#pragma once
#include <QStringList>
#include <QWidget>

namespace heathmist::test {

/// What is wrong with what is seen of a window: text that is cut off or too small to read, controls that are too low
/// to be hit or lie on one another, tables that are wider than their place.
QStringList faults_of(const QWidget& window);

/// The faults that still stand after a while: what has just changed its text or size is laid out by the events that
/// follow, and on a busy machine those take their time.
QStringList lasting_faults_of(const QWidget& window, int wait_ms = 5000);

/// What takes the keys, as a reader of screens meets it.
struct ToldToReader {
  int count = 0;
  QStringList nameless{};  ///< that says nothing
};
ToldToReader told_to_a_reader(const QWidget& window);

}  // namespace heathmist::test
