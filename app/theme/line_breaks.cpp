#include "app/theme/line_breaks.hpp"

#include <QRegularExpression>

namespace heathmist::app {

QString unbroken(QString text) {
  static const QRegularExpression before_unit(
      "(?<=\\d) (?=(?:dB[A-Za-z]*|k?Hz|m?s|%|ppm|LU|LUFS|LRA|bits?|kbit/s|samples?|frames?|channels?)(?![A-Za-z]))"),
      between("(?<=\\bQ) (?=\\d)|(?<=\\d) (?=: \\d)|(?<=\\d :) (?=\\d)");
  constexpr QChar no_break(0x00a0);
  return text.replace(before_unit, no_break).replace(between, no_break);
}

QString in_lines(const QString& text, int most) {
  QString out;
  for (const QString& line : unbroken(text).split('\n')) {
    int width = 0;
    for (const QString& word : line.split(' ')) {
      const bool fits = width + int(word.size()) + 1 <= most || width == 0;
      out += width == 0 ? word : fits ? ' ' + word : '\n' + word;
      width = (fits ? width : 0) + int(word.size()) + 1;
    }
    out += '\n';
  }
  return out.chopped(1);
}

}  // namespace heathmist::app
