// The confusion table: what happened to a programme against what is told of it. Programmes are not the demo's; causes
// stand alone, in pairs, and as programs from elsewhere make them. A tenth, drawn by seed, runs always; all of it where
// HEATHMIST_FULL is set. HEATHMIST_SEED draws others, HEATHMIST_SHOW prints every line; HEATHMIST_SECONDS makes
// programmes longer than 8 s; HEATHMIST_ALONE runs the single causes whose "name on programme" holds it, HEATHMIST_CASE
// one pair; HEATHMIST_KEEP puts the files of the last case into a folder.
#include <QProcess>
#include <QStandardPaths>
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

bool full() { return qEnvironmentVariableIsSet("HEATHMIST_FULL"); }
bool shown() { return qEnvironmentVariableIsSet("HEATHMIST_SHOW"); }
/// Of a programme.
double seconds() {
  return qEnvironmentVariableIsSet("HEATHMIST_SECONDS") ? qEnvironmentVariableIntValue("HEATHMIST_SECONDS") : 8;
}
int seed_of_day() { return qEnvironmentVariableIntValue("HEATHMIST_SEED"); }

/// Rows are truths, columns the kinds that were told.
struct Table {
  std::map<std::string, std::map<std::string, int>> told_as;
  QStringList wrong, missing;
  int cases = 0;

  void enter(const std::string& truth, const NullReport& report, const std::vector<std::string>& kinds,
             const std::vector<std::string>& codes, const QString& line) {
    ++cases;
    const std::string kind(name_of(report.kind));
    ++told_as[truth][kind];
    if (const auto twisted = contradiction_in(report); !twisted.empty())
      wrong << line + " contradicts itself: " + QString::fromStdString(twisted);
    const auto missed = std::count_if(codes.begin(), codes.end(), [&](const auto& c) { return !tells(report, c); });
    if (std::find(kinds.begin(), kinds.end(), kind) == kinds.end() || (missed == std::ssize(codes) && missed))
      wrong << line;
    else if (missed)
      missing << line;
    if (shown()) qInfo().noquote() << (wrong.contains(line) ? "WRONG" : missing.contains(line) ? "MISS" : "ok") << line;
  }

  void print() const {
    for (const auto& [truth, kinds] : told_as) {
      QString line = QString::fromStdString(truth).leftJustified(20);
      for (const auto& [kind, count] : kinds) line += QString(" %1 %2").arg(kind.c_str()).arg(count);
      qInfo().noquote() << line;
    }
    qInfo().noquote() << cases << "cases," << wrong.size() << "wrong," << missing.size() << "with a cause missing";
  }
};

}  // namespace

class TestConfusion : public QObject {
  Q_OBJECT

 private slots:
  void initTestCase() { qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str())); }

  void each_cause_alone() {
    Table table;
    dsp::Noise draw(uint64_t(41 + seed_of_day()));
    const auto& names = programme_names();
    for (size_t row = 0; row < treatment_names().size(); ++row) {
      const auto& name = treatment_names()[row];
      const Treatment& t = treatment(name);
      for (size_t n = 0; n < names.size(); ++n) {
        if (t.not_on.contains(names[n])) continue;
        const auto only = qEnvironmentVariable("HEATHMIST_ALONE");
        if (only.isEmpty() ? !full() && draw.uniform() > 0.06
                           : !QString("%1 on %2").arg(name.c_str(), names[n].c_str()).contains(only))
          continue;
        const int rate = n % 2 ? 48000 : 44100;
        const Planar sound = programme(names[n], rate, seconds(), n + 1);
        dsp::Noise chance(row * 31 + n + 1000 * uint64_t(seed_of_day()));
        const auto master = save(folder_ / "m.wav", sound, rate, WordFormat::pcm24);
        const auto report =
            explained_null_of(master, save(folder_ / "r.wav", t.run(sound, rate, chance), rate, t.word));
        keep();
        table.enter(name, report, {t.kind}, {t.code},
                    QString("%1 on %2: %3").arg(name.c_str(), names[n].c_str(), told(report)));
      }
    }
    table.print();
    QVERIFY2(table.wrong.isEmpty(), qPrintable(table.wrong.join('\n')));
  }

  /// The second is done to what the first made. Of two kinds either may be the word, or `changed`.
  void two_causes_at_once() {
    const std::vector<std::string> first{"delay",      "between samples", "gain", "inverted", "swapped", "one louder",
                                         "fade out",   "fade in",         "step", "width",    "bell",    "low shelf",
                                         "high shelf", "high pass",       "echo", "clip",     "limiter", "compressor"},
        second{"gain",  "inverted",  "truncated", "dithered", "dithered in float",
               "noise", "hum",       "tone",      "dc",       "clicks",
               "delay", "clip",      "bell",      "mute",     "splice",
               "step",  "crosstalk", "dropout"};
    Table table;
    const uint64_t seed = uint64_t(7 + seed_of_day());
    dsp::Noise draw(seed);
    const auto& names = programme_names();
    const auto any = [&](const auto& list) { return list[draw.bits() % list.size()]; };
    for (int k = 0; k < (full() ? 200 : 14); ++k) {
      const auto a = any(first), b = any(second), on = any(names);
      const Treatment &one = treatment(a), &two = treatment(b);
      const std::set<std::string> level{"clip", "limiter", "compressor"};
      if (one.code == two.code || one.not_on.contains(on) || two.not_on.contains(on) ||
          (level.contains(a) && level.contains(b)))
        continue;
      const int rate = k % 2 ? 48000 : 44100;
      if (qEnvironmentVariableIsSet("HEATHMIST_CASE") && k != qEnvironmentVariableIntValue("HEATHMIST_CASE")) continue;
      dsp::Noise chance(seed * 1000 + uint64_t(k));
      const Planar sound = programme(on, rate, seconds(), uint64_t(k) + 100);
      const auto master = save(folder_ / "m.wav", sound, rate, WordFormat::pcm24);
      const auto report = explained_null_of(
          master, save(folder_ / "r.wav", two.run(one.run(sound, rate, chance), rate, chance), rate, two.word));
      keep();
      std::vector<std::string> kinds{one.kind, two.kind, "changed"};
      table.enter(a + " + " + b, report, kinds, {one.code, two.code},
                  QString("%1 + %2 on %3 (%4): %5").arg(a.c_str(), b.c_str(), on.c_str()).arg(k).arg(told(report)));
    }
    table.print();
    QVERIFY2(table.wrong.isEmpty(), qPrintable(table.wrong.join('\n')));
    QVERIFY2(table.missing.size() <= std::max(1, table.cases / 50), qPrintable(table.missing.join('\n')));
  }

  /// Programs that Debian carries, none of them linked: their files, and what their own decoders make of them.
  void programs_from_elsewhere() {
    struct Way {
      const char* name;
      const char* kind;
      std::vector<QString> commands;  // M: the master, R: the return that is compared, T: a file between
      const char* suffix;
    };
    const std::vector<Way> ways{
        {"lame 128", "lossy", {"lame --quiet -b 128 M R"}, ".mp3"},
        {"lame V2 decoded", "lossy", {"lame --quiet -V 2 M T.mp3", "lame --quiet --decode T.mp3 R"}, ".wav"},
        {"oggenc q4", "lossy", {"oggenc -Q -q 4 M -o R"}, ".ogg"},
        {"oggenc q6 decoded", "lossy", {"oggenc -Q -q 6 M -o T.ogg", "oggdec -Q T.ogg -o R"}, ".wav"},
        {"opusenc 128", "lossy", {"opusenc --quiet --bitrate 128 M R"}, ".opus"},
        {"twolame 192", "lossy", {"twolame --quiet -b 192 M R"}, ".mp2"},
        {"aac 160", "lossy", {"ffmpeg -v quiet -y -i M -c:a aac -b:a 160k R"}, ".m4a"},
        {"flac", "identical", {"ffmpeg -v quiet -y -i M R"}, ".flac"},
        {"16 bits with dither", "word_length", {"sox M -b 16 R dither"}, ".wav"},
        {"16 bits shaped", "word_length", {"sox M -b 16 R dither -s"}, ".wav"},
        {"88.2 kHz", "converted", {"sox M -r 88200 R rate -v"}, ".wav"},
        {"32 kHz", "converted", {"sox M -r 32000 R rate -h"}, ".wav"},
        {"ffmpeg 96 kHz", "converted", {"ffmpeg -v quiet -y -i M -ar 96000 -c:a pcm_s24le R"}, ".wav"},
        {"turned down", "level", {"sox M R gain -6"}, ".wav"},
        {"trimmed", "shifted", {"sox M R trim 0.5"}, ".wav"},
        {"equalised", "linear", {"sox M R gain -6 equalizer 2500 1q 4"}, ".wav"},
        {"faded", "changed", {"sox M R fade t 0 8 3"}, ".wav"},
        {"mono", "linear", {"sox M R remix 1,2 1,2"}, ".wav"},
    };
    for (const char* tool : {"lame", "oggenc", "oggdec", "opusenc", "twolame", "ffmpeg", "sox"})
      if (QStandardPaths::findExecutable(tool).isEmpty()) QSKIP(tool);
    Table table;
    dsp::Noise draw(uint64_t(29 + seed_of_day()));
    const auto& names = programme_names();
    for (const Way& way : ways)
      for (size_t n = 0; n < names.size(); ++n) {
        if (!full() && draw.uniform() > 0.06) continue;
        const int rate = n % 2 ? 48000 : 44100;
        const auto master =
            save(folder_ / "m.wav", programme(names[n], rate, seconds(), n + 40), rate, WordFormat::pcm24);
        const auto ret = folder_ / ("r" + std::string(way.suffix));
        std::filesystem::remove(ret);
        for (const QString& command : way.commands) {
          QStringList words = command.split(' ');
          for (QString& word : words) {
            if (word == "M") word = QString::fromStdString(master.string());
            if (word == "R") word = QString::fromStdString(ret.string());
            if (word.startsWith("T.")) word = QString::fromStdString((folder_ / word.toStdString()).string());
          }
          const QString program = words.takeFirst();
          QVERIFY2(QProcess::execute(program, words) == 0, qPrintable(command));
        }
        const auto report = explained_null_of(master, ret);
        std::vector<std::string> codes;
        if (std::string(way.kind) == "lossy") codes = {"lossy"};
        table.enter(way.name, report, {way.kind}, codes,
                    QString("%1 on %2: %3").arg(way.name, names[n].c_str(), told(report)));
      }
    table.print();
    QVERIFY2(table.wrong.isEmpty(), qPrintable(table.wrong.join('\n')));
  }

 private:
  /// The files of the last case, for a look from outside.
  void keep() const {
    if (const auto to = qEnvironmentVariable("HEATHMIST_KEEP"); !to.isEmpty())
      for (const char* name : {"m.wav", "r.wav"})
        std::filesystem::copy_file(folder_ / name, std::filesystem::path(to.toStdString()) / name,
                                   std::filesystem::copy_options::overwrite_existing);
  }

  Folder folder_;
};

QTEST_GUILESS_MAIN(TestConfusion)
#include "test_confusion.moc"
