// Where a line of text may break.
#pragma once
#include <QString>

namespace heathmist::app {

/// The same text, in which no number stands at the end of a line and its unit at the start of the next one.
QString unbroken(QString text);

/// Its words on lines of at most so many characters, but for a word that is longer.
QString in_lines(const QString& text, int most);

}  // namespace heathmist::app
