// The set that should exist of each master: found by sound and format, missing ones told, and those of an older
// version.
#include <QtTest>
#include <fstream>

#include "core/delivery/deliverables.hpp"
#include "core/stages/encoder.hpp"
#include "tests/support/cli.hpp"
#include "tests/support/programmes.hpp"
#include "tests/support/share.hpp"
#include "tests/support/signals.hpp"
#include "tests/support/treatments.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

const char* const plan_text =
    "{\"deliverables\": [{\"name\": \"CD\", \"sample_rate_hz\": 44100, \"container_bits\": 16, \"codec\": \"pcm\"}, "
    "{\"name\": \"video\", \"sample_rate_hz\": 48000, \"container_bits\": 24}, "
    "{\"name\": \"stream\", \"codec\": \"aac\", \"true_peak_dbtp\": {\"max\": 0}}]}";

}  // namespace

class TestDeliverables : public QObject {
  Q_OBJECT

 private slots:
  void initTestCase() {
    qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str()));
    std::ofstream(folder_ / "plan.json") << plan_text;
    plan_ = load_plan(folder_ / "plan.json");
    const auto a = scaled(programme("dense", rate, 10, 4), 0.4), b = scaled(programme("piano", rate, 10, 7), 0.4);
    a_ = save(folder_ / "a.wav", requantised(a, 24, false), rate, WordFormat::pcm24);
    b_ = save(folder_ / "b.wav", requantised(b, 24, false), rate, WordFormat::pcm24);
    old_ = save(folder_ / "a old.wav", requantised(brighter(a), 24, false), rate, WordFormat::pcm24);
  }
  void init() { std::filesystem::remove_all(folder_ / "out"), std::filesystem::create_directory(folder_ / "out"); }

  void what_is_there_is_found_whatever_its_name() {
    const auto files = make_all(a_, "x");
    const auto d = find_deliverables(plan_, {{a_}, {b_}}, files);
    QCOMPARE(d.wanted.size(), size_t(6));
    for (size_t n = 0; n < 3; ++n) {
      QVERIFY2(d.wanted[n].state == Deliverable::State::present, name_of(d.wanted[n].state));
      QCOMPARE(*d.wanted[n].file, files[n]);
    }
    for (size_t n = 3; n < 6; ++n) QVERIFY(d.wanted[n].state == Deliverable::State::missing);
    QCOMPARE(d.missing(), size_t(3));
    QVERIFY(d.aside.empty() && !d.complete());
  }
  /// Converted by something else, dithered and shaped: it is still this one.
  void made_elsewhere() {
    if (QStandardPaths::findExecutable("sox").isEmpty()) QSKIP("sox");
    const QString to = path("out/s.wav");
    QCOMPARE(QProcess::execute("sox", {path("a.wav"), "-b", "16", "-r", "44100", to, "dither", "-s"}), 0);
    const auto d = find_deliverables(plan_, {{a_, {old_}}}, {to.toStdString()});
    QVERIFY2(d.wanted[0].state == Deliverable::State::present, name_of(d.wanted[0].state));
  }
  void an_older_version_is_told() {
    const auto files = make_all(old_, "x");
    const auto d = find_deliverables(plan_, {{a_, {old_}}}, files);
    for (const Deliverable& one : d.wanted) {
      const std::string what = plan_[one.wanted].name + " is " + name_of(one.state);
      QVERIFY2(one.state == Deliverable::State::older, what.c_str());
      QCOMPARE(*one.version, size_t(0));
    }
    // without the earlier version at hand there is nothing to tell it by
    QVERIFY(find_deliverables(plan_, {{a_}}, {files[0]}).wanted[0].state == Deliverable::State::present);
    // where both are there the right one counts, and the other is told aside
    auto both = files;
    for (const auto& file : make_all(a_, "y")) both.push_back(file);
    const auto found = find_deliverables(plan_, {{a_, {old_}}}, both);
    QVERIFY(found.complete());
    QCOMPARE(found.aside.size(), size_t(3));
  }
  /// What was changed between the versions, on which programme and through which coder, by chance: a file of the old
  /// one is told to be that, one of the new one never is.
  void versions_are_told_through_coders_data() {
    QTest::addColumn<QString>("sounds");
    QTest::addColumn<QString>("changed");
    QTest::addColumn<QString>("coder");
    dsp::Noise chance(41);
    const auto one_of = [&](const QStringList& all) { return all[qsizetype(chance.uniform() * double(all.size()))]; };
    for (int n = 0; n < (qEnvironmentVariableIsSet("HEATHMIST_FULL") ? 48 : 6); ++n) {
      const QString sounds = one_of({"dense", "piano", "drums", "choir", "wide"}),
                    changed = one_of({"a bell", "a shelf", "one channel", "squeezed"}),
                    coder = one_of({"libmp3lame", "aac", "libopus", "16 bit"});
      QTest::addRow("%d: %s, %s, %s", n, qPrintable(sounds), qPrintable(changed), qPrintable(coder))
          << sounds << changed << coder;
    }
  }
  void versions_are_told_through_coders() {
    QFETCH(QString, sounds);
    QFETCH(QString, changed);
    QFETCH(QString, coder);
    constexpr int at = 48000;
    const auto now = scaled(programme(sounds.toStdString(), at, 6, 21), 0.5);
    const auto then = requantised(as_before(now, at, changed), 24, false);
    const auto new_file = save(folder_ / "now.wav", now, at, WordFormat::pcm24),
               old_file = save(folder_ / "then.wav", then, at, WordFormat::pcm24);
    DeliveryPlan any(1);
    any[0].name = "any", any[0].channels = {2};
    for (const bool is_old : {true, false}) {
      const auto file = delivered(is_old ? old_file : new_file, coder);
      const auto d = find_deliverables(any, {{new_file, {old_file}}}, {file});
      QVERIFY2((d.wanted[0].state == Deliverable::State::older) == is_old,
               qPrintable(QString("of the %1 one it is %2").arg(is_old ? "old" : "new", name_of(d.wanted[0].state))));
    }
  }
  void what_is_no_format_of_it_is_another() {
    auto limited = all_of(*Clip::at_rate(Clip::open(a_), 48000));
    for (int c = 0; c < 2; ++c)
      for (double& x : limited.channel(c)) x = std::clamp(3 * x, -0.5, 0.5);
    const auto file = save(folder_ / "out" / "l.wav", limited, 48000, WordFormat::pcm24);
    const auto d = find_deliverables(plan_, {{a_, {old_}}}, {file});
    QVERIFY2(d.wanted[1].state == Deliverable::State::another, name_of(d.wanted[1].state));
  }
  void what_breaks_a_rule_is_faulty() {
    const auto loud = save(folder_ / "loud.wav", scaled(programme("dense", rate, 10, 4), 3), rate, WordFormat::pcm24);
    encode(*Clip::at_rate(Clip::open(loud), 48000), {"aac", 64000}, folder_ / "out" / "l.m4a");
    const auto d = find_deliverables(plan_, {{loud}}, {folder_ / "out" / "l.m4a"});
    QVERIFY2(d.wanted[2].state == Deliverable::State::faulty, name_of(d.wanted[2].state));
    QCOMPARE(d.wanted[2].faults[0].code, std::string("true_peak_dbtp"));
  }
  void what_belongs_nowhere_is_told_aside() {
    const auto other = save(folder_ / "out" / "other.wav", programme("speech", rate, 10, 1), rate, WordFormat::pcm24);
    std::ofstream(folder_ / "out" / "broken.wav") << "RIFF";
    const auto wide = save(folder_ / "out" / "wide.wav", programme("piano", rate, 10, 7), rate, WordFormat::float32);
    const auto d = find_deliverables(plan_, {{b_}}, {other, folder_ / "out" / "broken.wav", wide});
    QCOMPARE(d.aside.size(), size_t(3));
    QVERIFY(d.aside[0].sentence.find("broken.wav") != std::string::npos);
    QVERIFY(d.aside[1].sentence.find("no master") != std::string::npos);
    QVERIFY(d.aside[0].is_unread && !d.aside[1].is_unread && !d.aside[2].is_unread);
    QVERIFY2(d.aside[2].sentence.find("32 bit") != std::string::npos, d.aside[2].sentence.c_str());
  }
  void plans_that_cannot_be() {
    for (const char* text : {"{}", "[]", "{\"deliverables\": []}", "{\"deliverables\": [{\"codec\": \"pcm\"}]}",
                             "{\"deliverables\": [{\"name\": \"x\", \"clicks\": {\"max\": 0}}]}",
                             "{\"deliverables\": [{\"name\": \"x\", \"rate\": 1}]}",
                             "{\"deliverables\": [{\"name\": \"x\", \"codec\": \"pcm\"}, {\"name\": \"x\", \"codec\": "
                             "\"aac\"}]}"})
      QVERIFY_EXCEPTION_THROWN(plan_from_json(json_from(text)), RulesError);
  }
  void by_the_command_line() {
    make_all(a_, "x");
    QStringList words{"deliverables", path("a.wav"), path("b.wav"), "--plan", path("plan.json"), "--with"};
    for (const char* file : {"out/x.wav", "out/x48.wav", "out/x.m4a"}) words << path(file);
    auto a = call(words + QStringList{"--json"});
    QVERIFY2(a.status == 3, a.err);
    QCOMPARE(a.json()["missing"].toInt(), 3);
    QCOMPARE(a.json()["deliverables"].toArray()[0].toObject()["state"].toString(), QString("present"));
    words.removeAll(path("b.wav"));
    a = call(words + QStringList{"--json", "--earlier", path("a old.wav")});
    QVERIFY2(a.status == 0, a.err + a.out);
    QVERIFY(a.json()["complete"].toBool());
    std::ofstream(folder_ / "out" / "broken.wav") << "RIFF";  // its entry stands, the others too
    a = call(words + QStringList{path("out/broken.wav"), "--json"});
    QVERIFY2(a.status == 1 && a.err.contains("broken.wav"), a.err);
    QVERIFY(a.json()["complete"].toBool());
    QCOMPARE(call({"deliverables", path("a.wav"), "--plan", path("a.wav")}).status, 1);
    QCOMPARE(call({"deliverables", path("a.wav")}).status, 2);
  }

 private:
  static constexpr int rate = 96000;
  /// A shelf that nobody would take for a conversion.
  static Planar brighter(const Planar& sound) { return filtered(sound, rate, "high shelf", 4000, 0.7, 2); }
  /// A version before, that sounded a little otherwise.
  static Planar as_before(Planar sound, int rate_hz, const QString& changed) {
    if (changed == "a bell") return filtered(sound, rate_hz, "bell", 900, 1, 1.5);
    if (changed == "a shelf") return filtered(sound, rate_hz, "low shelf", 200, 0.7, -2);
    if (changed == "one channel")
      for (double& x : sound.channel(1)) x *= 0.8;
    else
      for (int c = 0; c < sound.channels(); ++c)
        for (double& x : sound.channel(c)) x = std::tanh(2.5 * x) / 2.5;
    return sound;
  }
  std::filesystem::path delivered(const std::filesystem::path& file, const QString& coder) {
    const auto clip = Clip::open(file);
    const auto to = folder_ / "out" /
                    ("d" + std::string(coder == "libmp3lame" ? ".mp3"
                                       : coder == "aac"      ? ".m4a"
                                       : coder == "libopus"  ? ".opus"
                                                             : ".wav"));
    if (coder == "16 bit")
      return save(to, requantised(all_of(*clip), 16, true), clip->format().sample_rate_hz, WordFormat::pcm16);
    encode(*clip, {coder.toStdString(), 160000}, to);
    return to;
  }
  /// The set as it should be, made of a file.
  std::vector<std::filesystem::path> make_all(const std::filesystem::path& master, const std::string& name) {
    const auto clip = Clip::open(master);
    const auto cd = all_of(*Clip::at_rate(clip, 44100)), video = all_of(*Clip::at_rate(clip, 48000));
    const auto out = folder_ / "out";
    save(out / (name + ".wav"), requantised(cd, 16, true), 44100, WordFormat::pcm16);
    save(out / (name + "48.wav"), requantised(video, 24, false), 48000, WordFormat::pcm24);
    encode(*Clip::at_rate(clip, 48000), {"aac", 192000}, out / (name + ".m4a"));
    return {out / (name + ".wav"), out / (name + "48.wav"), out / (name + ".m4a")};
  }
  static Planar all_of(const Clip& clip) {
    Planar all;
    clip.reader()->read(0, clip.format().frames, all);
    return all;
  }
  QString path(const char* name) const { return QString::fromStdString((folder_ / name).string()); }
  Folder folder_;
  DeliveryPlan plan_;
  std::filesystem::path a_, b_, old_;
};

SHARED_MAIN(TestDeliverables)
#include "test_deliverables.moc"
