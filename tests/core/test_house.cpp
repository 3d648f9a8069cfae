// The rooms of the house, read from the includes of its sources: arrows run one way, and none runs in a circle.
#include <QDirIterator>
#include <QRegularExpression>
#include <QTest>
#include <map>
#include <set>

namespace {

using Graph = std::map<QString, std::set<QString>>;  // of each file or room: what it includes

/// Rooms from below to above. A room includes itself and what stands before it.
const QStringList core_rooms{"dsp",     "audio",   "measure",  "compare", "probes",  "stages",
                             "devices", "engines", "delivery", "boards",  "hearing", "bench"};
const QStringList app_rooms{"theme", "widgets", "plots", "model", "listen", "report", "pages", "shell"};

QString text_of(const QString& path) {
  QFile file(path);
  return file.open(QIODevice::ReadOnly) ? QString::fromUtf8(file.readAll()) : QString();
}

/// Every source under a folder of the project, with what it includes of the project, as "core/dsp/fft.hpp".
Graph includes_under(const QString& folder) {
  static const QRegularExpression include("^#include \"((?:core|app|cli|tests)/[^\"]+)\"",
                                          QRegularExpression::MultilineOption);
  Graph graph;
  QDirIterator files(QString(HEATHMIST_SOURCE) + "/" + folder, {"*.hpp", "*.cpp"}, QDir::Files,
                     QDirIterator::Subdirectories);
  while (files.hasNext()) {
    const QString file = files.next();
    auto& of = graph[QDir(HEATHMIST_SOURCE).relativeFilePath(file)];
    for (auto found = include.globalMatch(text_of(file)); found.hasNext();) of.insert(found.next().captured(1));
  }
  return graph;
}

QString room_of(const QString& file) { return file.section('/', 1, 1); }

QStringList wrong_ways(const Graph& graph, const QString& half, const QStringList& rooms) {
  QStringList wrong;
  for (const auto& [file, includes] : graph)
    for (const QString& other : includes) {
      if (!other.startsWith(half + "/") || !rooms.contains(room_of(file)) || !rooms.contains(room_of(other))) continue;
      if (rooms.indexOf(room_of(other)) > rooms.indexOf(room_of(file))) wrong << file + " -> " + other;
    }
  return wrong;
}

/// A way from a header back to itself; empty: there is none.
QStringList circle_in(const Graph& graph) {
  std::set<QString> done;
  QStringList way;
  std::function<bool(const QString&)> visit = [&](const QString& file) {
    if (const int at = int(way.indexOf(file)); at >= 0) return way = way.mid(at) << file, true;
    if (done.count(file)) return false;
    way << file;
    if (const auto found = graph.find(file); found != graph.end())
      for (const QString& other : found->second)
        if (visit(other)) return true;
    way.removeLast();
    done.insert(file);
    return false;
  };
  for (const auto& [file, includes] : graph)
    if (visit(file)) return way;
  return {};
}

}  // namespace

class TestHouse : public QObject {
  Q_OBJECT

 private slots:
  void initTestCase() {
    core_ = includes_under("core"), app_ = includes_under("app"), cli_ = includes_under("cli");
    QVERIFY(core_.size() > 150 && app_.size() > 80 && cli_.size() > 10);
  }

  void every_room_stands_in_the_order() {
    for (const auto& [graph, rooms] : {std::pair{&core_, &core_rooms}, {&app_, &app_rooms}})
      for (const auto& [file, includes] : *graph)
        if (file.count('/') > 1) QVERIFY2(rooms->contains(room_of(file)), qPrintable(file));
  }
  void arrows_run_one_way() {
    const QStringList wrong = wrong_ways(core_, "core", core_rooms) + wrong_ways(app_, "app", app_rooms);
    QVERIFY2(wrong.isEmpty(), qPrintable(wrong.join('\n')));
  }
  void no_header_includes_itself_by_others() {
    for (const Graph* graph : {&core_, &app_, &cli_})
      QVERIFY2(circle_in(*graph).isEmpty(), qPrintable(circle_in(*graph).join(" -> ")));
  }
  void core_has_no_interface_and_the_command_line_no_window() {
    for (const Graph* graph : {&core_, &cli_})
      for (const auto& [file, includes] : *graph) {
        for (const QString& other : includes)
          QVERIFY2(!other.startsWith("app/") && (!file.startsWith("core/") || !other.startsWith("cli/")),
                   qPrintable(file + " -> " + other));
        QVERIFY2(!text_of(QString(HEATHMIST_SOURCE) + "/" + file).contains("#include <Q"), qPrintable(file));
      }
  }
  /// Pages are known to each other and to the window by their key alone.
  void a_page_is_a_folder_and_a_line() {
    for (const auto& [file, includes] : app_) {
      const bool page = file.startsWith("app/pages/") && file.count('/') == 3;
      for (const QString& other : includes) {
        if (!other.startsWith("app/pages/") || other.count('/') != 3) continue;
        const bool own = page && other.section('/', 2, 2) == file.section('/', 2, 2);
        QVERIFY2(own || file == "app/main.cpp", qPrintable(file + " -> " + other));
      }
    }
  }
  void files_are_short() {
    for (const Graph* graph : {&core_, &app_, &cli_})
      for (const auto& [file, includes] : *graph) {
        const auto lines = text_of(QString(HEATHMIST_SOURCE) + "/" + file).count('\n');
        QVERIFY2(lines <= 510, qPrintable(QString("%1: %2 lines").arg(file).arg(lines)));
      }
    QVERIFY(text_of(QString(HEATHMIST_SOURCE) + "/app/shell/main_window.cpp").count('\n') < 300);
  }
  /// A circle and a wrong way are found where there are some.
  void the_check_can_fail() {
    QCOMPARE(circle_in({{"a", {"b"}}, {"b", {"c"}}, {"c", {"b"}}}), QStringList({"b", "c", "b"}));
    QVERIFY(circle_in({{"a", {"b", "c"}}, {"b", {"c"}}, {"c", {}}}).isEmpty());
    QCOMPARE(wrong_ways({{"core/dsp/fft.hpp", {"core/audio/clip.hpp"}}}, "core", core_rooms).size(), 1);
    QVERIFY(wrong_ways({{"core/audio/clip.hpp", {"core/dsp/fft.hpp"}}}, "core", core_rooms).isEmpty());
  }

 private:
  Graph core_, app_, cli_;
};

QTEST_GUILESS_MAIN(TestHouse)
#include "test_house.moc"
