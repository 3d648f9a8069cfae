// Causes told over programmes that are not the demo's: each alone, and in pairs.
#include <QtTest>
#include <cmath>
#include <map>

#include "core/compare/explain.hpp"
#include "tests/support/programmes.hpp"
#include "tests/support/signals.hpp"
#include "tests/support/treatments.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

NullReport explained(const std::filesystem::path& master, const std::filesystem::path& ret) {
  const auto m = Clip::open(master), r = Clip::open(ret);
  const auto pair = comparable(m, r);
  NullReport report = null_test(*m, *r, pair);
  explain(*m, *r, pair, report);
  return report;
}

bool tells(const NullReport& report, const std::string& code) {
  return std::any_of(report.causes.begin(), report.causes.end(), [&](const Cause& c) { return c.code == code; });
}

QString told(const NullReport& report) {
  QString text = QString::fromStdString(std::string(name_of(report.kind)));
  for (const Cause& c : report.causes)
    text += QString(" | %1 %2>%3")
                .arg(QString::fromStdString(c.text))
                .arg(c.before_db.value_or(-999), 0, 'f', 1)
                .arg(c.after_db.value_or(-999), 0, 'f', 1);
  return text;
}

}  // namespace

class TestCauses : public QObject {
  Q_OBJECT

 private slots:
  void initTestCase() { qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str())); }

  /// Two programmes for each, other ones for every row; all of them where HEATHMIST_ALL_CAUSES is set.
  void causes_alone_data() {
    QTest::addColumn<QString>("name");
    for (const char* name :
         {"between samples", "crosstalk", "delay", "dropout", "fade out", "gain", "inverted", "mono", "mute",
          "one louder", "repeat", "ride", "silent channel", "splice", "step", "swapped", "width", "bell", "high shelf"})
      QTest::newRow(name) << QString(name);
    if (qEnvironmentVariableIsSet("HEATHMIST_ALL_CAUSES"))
      for (const auto& name : treatment_names())
        QTest::newRow(("all: " + name).c_str()) << QString::fromStdString(name);
  }
  void causes_alone() {
    QFETCH(QString, name);
    const Treatment& t = treatment(name.toStdString());
    const auto& names = programme_names();
    const auto row = size_t(std::find(treatment_names().begin(), treatment_names().end(), name.toStdString()) -
                            treatment_names().begin());
    const bool every = QString(QTest::currentDataTag()).startsWith("all");
    QStringList wrong;
    for (size_t k = 0; k < (every ? names.size() : 2); ++k) {
      const size_t n = (row * 5 + k * 7) % names.size();
      if (t.not_on.contains(names[n])) continue;
      const int rate = n % 2 ? 48000 : 44100;
      const Planar sound = programme(names[n], rate, 8, n + 1);
      dsp::Noise chance(row * 31 + n);
      const auto master = save(folder_ / "m.wav", sound, rate, WordFormat::pcm24);
      const auto report = explained(master, save(folder_ / "r.wav", t.run(sound, rate, chance), rate, t.word));
      const auto line = QString("%1 on %2: %3").arg(name, QString::fromStdString(names[n]), told(report));
      if (qEnvironmentVariableIsSet("HEATHMIST_SHOW")) qInfo().noquote() << line;
      if (!tells(report, t.code) || name_of(report.kind) != t.kind) wrong << line;
    }
    QVERIFY2(wrong.isEmpty(), qPrintable(wrong.join('\n')));
  }

 private:
  Folder folder_;
};

QTEST_GUILESS_MAIN(TestCauses)
#include "test_causes.moc"
