#include "app/theme/theme.hpp"

#include <QFile>
#include <QFontDatabase>
#include <QJsonArray>
#include <QJsonDocument>
#include <QJsonObject>
#include <QPainter>
#include <QStyleFactory>
#include <QSvgRenderer>
#include <cmath>

static void open_resources() { Q_INIT_RESOURCE(theme); }  // they lie in a static library

namespace heathmist::app {

namespace {

constexpr const char* role_names[] = {"ground", "sheet",  "ink",      "soft", "rule",  "faint", "selection",
                                      "master", "return", "residual", "moss", "straw", "gorse", "rust"};

std::vector<QColor> colours_in(const QJsonObject& set) {
  std::vector<QColor> colours;
  for (const char* name : role_names) colours.emplace_back(set[name].toString());
  return colours;
}

/// The edge of what can be pressed: 3:1 on its ground (WCAG 2.2, 1.4.11).
QColor between(const QColor& a, const QColor& b, double share) {
  const auto part = [share](int from, int to) { return int(std::lround(from + share * (to - from))); };
  return {part(a.red(), b.red()), part(a.green(), b.green()), part(a.blue(), b.blue())};
}

QString sheet_text(bool night) {
  QFile file(":/heathmist/style.qss");
  file.open(QIODevice::ReadOnly);
  QString text = file.readAll();
  text.replace("$variant", night ? "night" : "day");
  text.replace("$edge", colour(Role::edge).name());
  for (int role = int(std::size(role_names)) - 1; role >= 0; --role)
    text.replace(QString("$") + role_names[role], colour(Role(role)).name());
  return text;
}

}  // namespace

Theme& Theme::instance() {
  static Theme theme;
  return theme;
}

Theme::Theme() {
  open_resources();
  QFile file(":/heathmist/palette.json");
  file.open(QIODevice::ReadOnly);
  const QJsonObject all = QJsonDocument::fromJson(file.readAll()).object();
  light_ = colours_in(all["light"].toObject());
  dark_ = colours_in(all["night"].toObject());
  for (const auto& stop : all["heat"].toArray())
    heat_.emplace_back(stop.toArray()[0].toDouble(), QColor(stop.toArray()[1].toString()));
  for (size_t night = 0; night < 2; ++night)
    for (size_t more = 0; more < 2; ++more)
      less_more_[night][more] =
          QColor(all["difference"].toObject()[night ? "night" : "light"].toArray()[qsizetype(more)].toString());
  for (const char* face : {"Regular", "Semibold", "Bold"})
    QFontDatabase::addApplicationFont(QString(":/heathmist/Lato-%1.ttf").arg(face));
}

QColor Theme::colour(Role role) const {
  const auto& set = night_ ? dark_ : light_;
  if (role == Role::edge) return between(set[size_t(Role::rule)], set[size_t(Role::soft)], 0.72);
  return set[size_t(role)];
}

QColor Theme::severity(Severity severity) const {
  static constexpr Role roles[] = {Role::moss, Role::straw, Role::gorse, Role::rust};
  return colour(roles[int(severity)]);
}

QColor Theme::heat(double level) const {
  for (size_t n = 1; n < heat_.size(); ++n) {
    const auto& [from, low] = heat_[n - 1];
    const auto& [to, high] = heat_[n];
    if (level > to && n + 1 < heat_.size()) continue;
    const double t = std::clamp((level - from) / (to - from), 0.0, 1.0);
    return QColor::fromRgbF(float(low.redF() + t * (high.redF() - low.redF())),
                            float(low.greenF() + t * (high.greenF() - low.greenF())),
                            float(low.blueF() + t * (high.blueF() - low.blueF())));
  }
  return {};
}

std::vector<std::pair<double, QColor>> Theme::difference_stops() const {
  const auto& [less, more] = less_more_[night_];
  return {{0, less}, {0.5, colour(Role::sheet)}, {1, more}};
}

void Theme::apply(bool night) {
  night_ = night;
  QPalette palette;
  palette.setColor(QPalette::Window, colour(Role::ground));
  palette.setColor(QPalette::Base, colour(Role::sheet));
  palette.setColor(QPalette::AlternateBase, colour(Role::ground));
  for (const auto role : {QPalette::WindowText, QPalette::Text, QPalette::ButtonText, QPalette::ToolTipText})
    palette.setColor(role, colour(Role::ink));
  palette.setColor(QPalette::Button, colour(Role::sheet));
  palette.setColor(QPalette::ToolTipBase, colour(Role::sheet));
  palette.setColor(QPalette::PlaceholderText, colour(Role::soft));
  palette.setColor(QPalette::Highlight, colour(Role::selection));
  palette.setColor(QPalette::HighlightedText, colour(Role::ink));
  qApp->setStyle(QStyleFactory::create("Fusion"));
  qApp->setPalette(palette);
  qApp->setFont(face(Type::body));
  qApp->setStyleSheet(sheet_text(night));
  emit changed();
}

QFont face(Type type, bool strong) {
  static constexpr double points[] = {9.5, 8.5, 11.5, 14.5};
  QFont lato("Lato");
  lato.setPointSizeF(points[int(type)]);
  lato.setWeight(strong ? QFont::DemiBold : QFont::Normal);
  return lato;
}

QIcon icon(const QString& name, Role role) {
  QFile file(":/heathmist/" + name + ".svg");
  file.open(QIODevice::ReadOnly);
  const QByteArray text = file.readAll().replace("\"ink\"", "\"" + colour(role).name().toUtf8() + "\"");
  QSvgRenderer renderer(text);
  QIcon result;
  for (const int size : {16, 24, 32, 64}) {
    QPixmap picture(size, size);
    picture.fill(Qt::transparent);
    QPainter painter(&picture);
    renderer.render(&painter);
    result.addPixmap(picture);
  }
  return result;
}

QString number(double value, int decimals) {
  QString text = QString::number(value, 'f', decimals);
  if (text.startsWith('-')) text = text.mid(1).toDouble() == 0 ? text.mid(1) : QString(QChar(0x2212)) + text.mid(1);
  return text;
}

QString khz(int hz) { return number(hz / 1000.0, hz % 1000 ? 1 : 0); }

QString in_other_units(double db) {
  return QString("%1 dB is %2 of the amplitude, %3 of the power, %4 bits %5")
      .arg(number(db, 2), QString::number(std::pow(10, db / 20), 'g', 3),
           QString::number(std::pow(10, db / 10), 'g', 3), number(std::abs(db) / 6.0206, 1),
           db <= 0 ? "under" : "over");
}

QString clock(double seconds, int decimals) {
  const QString sign = seconds < 0 ? QString(QChar(0x2212)) : QString();
  seconds = std::abs(seconds);
  const auto minutes = int(seconds / 60);
  const double rest = seconds - 60.0 * minutes;
  return QString("%1%2:%3").arg(sign).arg(minutes).arg(rest, decimals > 0 ? 3 + decimals : 2, 'f', decimals,
                                                       QLatin1Char('0'));
}

}  // namespace heathmist::app
