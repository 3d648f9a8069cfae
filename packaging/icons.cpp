// heathmist-icons ICON.svg SIZE OUT.png: one size of the icon, drawn by Qt.
#include <QImage>
#include <QPainter>
#include <QSvgRenderer>
#include <cstdio>

int main(int argc, char** argv) {
  if (argc != 4) return std::fprintf(stderr, "heathmist-icons ICON.svg SIZE OUT.png\n"), 2;
  QSvgRenderer icon((QString(argv[1])));
  const int size = QString(argv[2]).toInt();
  if (!icon.isValid() || size < 8) return std::fprintf(stderr, "heathmist-icons: %s is no icon\n", argv[1]), 1;
  QImage image(size, size, QImage::Format_ARGB32_Premultiplied);
  image.fill(Qt::transparent);
  QPainter painter(&image);
  icon.render(&painter);
  painter.end();
  return image.save(argv[3], "PNG") ? 0 : 1;
}
