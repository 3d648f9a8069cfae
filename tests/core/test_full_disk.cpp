// Every writer on a disk that is really full: a tmpfs of the test's own, where it may be mounted. Each says that the
// disk is full and where, leaves nothing half written, and what was there before stays as it was.
#include <sys/mount.h>
#include <sys/statvfs.h>

#include <fstream>
#include <set>

#include "core/audio/temporary.hpp"
#include "core/bench/armed.hpp"
#include "core/bench/unsaved.hpp"
#include "core/delivery/levelled.hpp"
#include "core/delivery/outlet.hpp"
#include "core/probes/probe.hpp"
#include "tests/support/cli.hpp"
#include "tests/support/stages.hpp"

using namespace heathmist;
using namespace heathmist::test;

class TestFullDisk : public StageTest {
  Q_OBJECT

 private slots:
  void initTestCase() {
    qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str()));
    disk_ = folder_ / "small disk";
    std::filesystem::create_directories(disk_);
    if (::mount("tmpfs", disk_.c_str(), "tmpfs", 0, "size=640k") != 0)
      QSKIP("NO TMPFS CAN BE MOUNTED HERE (not root?): WRITING TO A FULL DISK IS NOT TESTED");
    master_ = clip(requantised(with_noise(scaled(Programme(10, 1).render(48000), 0.5), 0.05, 3), 24, true));
  }
  void cleanupTestCase() {
    if (!disk_.empty()) ::umount2(disk_.c_str(), MNT_DETACH);
    qunsetenv("TMPDIR");
  }
  void cleanup() {
    qunsetenv("TMPDIR");
    qputenv("XDG_CONFIG_HOME", QByteArray((folder_ / "config").c_str()));
    for (const auto& entry : std::filesystem::directory_iterator(disk_)) std::filesystem::remove_all(entry.path());
  }

  void audio_of_every_container_data() {
    QTest::addColumn<QString>("ending");
    QTest::addColumn<int>("word");
    for (const char* ending : {".wav", ".w64", ".aiff", ".caf"})
      for (const auto& [name, word] :
           {std::pair{"16", WordFormat::pcm16}, {"24", WordFormat::pcm24}, {"float", WordFormat::float32}})
        QTest::newRow(qPrintable(QString(ending) + " " + name)) << QString(ending) << int(word);
    QTest::addRow("flac 16") << ".flac" << int(WordFormat::pcm16);
    QTest::addRow("flac 24") << ".flac" << int(WordFormat::pcm24);
  }
  void audio_of_every_container() {
    QFETCH(QString, ending);
    QFETCH(int, word);
    const auto file = disk_ / ("out" + ending.toStdString());
    refuses(file, [&] {
      ClipWriter out({file, true}, 48000, 2, WordFormat(word));
      write_clip(out, *master_, {});
      out.finish();
    });
  }

  void documents() {
    Bench bench;
    bench.name = std::string(4 << 20, 'x');
    refuses(disk_ / "x.heathmist", [&] { save_bench(bench, disk_ / "x.heathmist"); });
    refuses(
        disk_ / "unsaved", [&] { UnsavedCopy(disk_ / "unsaved").keep(bench, {}); }, false);
    qputenv("XDG_CONFIG_HOME", QByteArray(disk_.c_str()));
    Outlet outlet;
    outlet.key = "mine", outlet.name = "Mine", outlet.what = bench.name;
    refuses(disk_ / "heathmist/outlets/mine.json", [&] { save_outlet(outlet); });
    const Stage runs{"external", {{"command", "cp {in} {out} " + bench.name}}};
    refuses(
        disk_ / "heathmist/armed.json", [&] { arm(runs); }, false);
    QVERIFY(!grant_here()(runs));
  }

  void probes_returns_and_copies() {
    refuses(disk_ / "probe.wav", [&] {
      write_probe(probe_score("levels", 192000), {disk_ / "probe.wav", true}, ProbeWord::float32);
    });
    const Chain chain = chain_of({{{"type", "gain"}, {"gain_db", -1}}});
    const Passed passed = pass(master_, chain);
    for (const char* name : {"return.wav", "return.flac"})
      refuses(disk_ / name, [&] { write_return(passed, chain, {disk_ / name, true}); });
    const Loudness loud = measure_loudness(*master_);
    for (const char* name : {"copy.wav", "copy.flac"}) {
      LevelPlan plan;
      plan.flac = std::string(name).ends_with("flac");
      refuses(disk_ / name, [&] { write_levelled(master_, loud, plan, {disk_ / name, true}); });
    }
    const Chain keeps = chain_of({{{"type", "codec"}, {"codec", "flac"}, {"keep", (disk_ / "kept.flac").string()}}});
    auto options = everything();
    options.replace_kept = true;
    refuses(disk_ / "kept.flac", [&] { pass(master_, keeps, {}, options); });
  }

  /// Room for the audio, but not for the pictures that go with it.
  void tags_that_do_not_fit() {
    const auto file = save(folder_ / "tagged.flac", Programme(1, 2, 8000).render(48000), 48000, WordFormat::pcm16);
    Tags tags;
    tags.pictures = {{"image/png", "cover", std::string(600 << 10, 'x'), 3}};
    write_tags(file, true, tags);
    const auto master = Clip::open(file);
    for (const bool flac : {true, false}) {
      LevelPlan plan;
      plan.flac = flac, plan.bits = 16, plan.target_lufs = -40;
      const auto to = disk_ / (flac ? "tagged.flac" : "tagged.wav");
      std::string sentence;
      std::string fault;
      try {
        fault = write_levelled(master, measure_loudness(*master), plan, to).fault;
      } catch (const InputError& error) {
        sentence = error.what();
      }
      QVERIFY2(!sentence.empty() || !fault.empty(), "a copy without its picture passed for whole");
      cleanup();
    }
  }

  /// Encodes and decodes pass through the temporary folder: an encode that is cut short is never a return.
  void codecs_on_a_full_scratch_disk_data() {
    QTest::addColumn<QString>("codec");
    QTest::addColumn<double>("room_kb");
    for (const char* codec : {"aac", "mp3", "vorbis", "opus", "mp2", "ac3", "eac3", "adpcm_ima", "adpcm_ms", "mulaw",
                              "flac", "alac", "wavpack", "sbc"})
      for (const double room : {0.0, 40.0, 300.0})
        QTest::newRow(qPrintable(QString("%1, %2 kB").arg(codec).arg(room))) << QString(codec) << room;
  }
  void codecs_on_a_full_scratch_disk() {
    QFETCH(QString, codec);
    QFETCH(double, room_kb);
    qputenv("TMPDIR", QByteArray(disk_.c_str()));
    fill_all_but(int64_t(1024 * room_kb));
    const auto before = names();
    try {
      pass(master_, chain_of({{{"type", "codec"}, {"codec", codec.toStdString()}}}));
      QFAIL("an encode that cannot be whole passed for one");
    } catch (const std::exception& error) {
      const QString sentence = QString::fromUtf8(error.what());
      QVERIFY2(sentence.contains("the disk is full") && sentence.contains("small disk") && sentence.contains("needed"),
               error.what());
    }
    QVERIFY(names() == before);
  }

  void decoding_and_converting_on_a_full_scratch_disk() {
    const auto mp3 = folder_ / "m.mp3";
    pass(master_, chain_of({{{"type", "codec"}, {"codec", "mp3"}, {"keep", mp3.string()}}}), {}, everything());
    qputenv("TMPDIR", QByteArray(disk_.c_str()));
    for (const auto& work :
         {std::function<void()>([&] { Clip::open(mp3); }),
          std::function<void()>([&] { Clip::at_rate(master_, 96000); }), std::function<void()>([&] {
            pass(master_, chain_of({{{"type", "delay"}, {"delay_samples", 0.5}}}));
          }),
          std::function<void()>([&] {
            pass(master_, chain_of({{{"type", "external"}, {"command", "cp {in} {out}"}}}), {}, everything());
          })}) {
      try {
        work();
        QFAIL("it went through");
      } catch (const std::exception& error) {
        QVERIFY2(QString(error.what()).contains("the disk is full"), error.what());
      }
    }
    QVERIFY(names().empty());
  }

  void the_command_line_says_so_and_leaves_nothing() {
    const auto master = QString::fromStdString(master_->path().string()), disk = QString::fromStdString(disk_.string());
    std::ofstream(folder_ / "wv.json") << R"({"stages":[{"type":"codec","codec":"wavpack"}]})";
    const auto chain = QString::fromStdString((folder_ / "wv.json").string());
    for (const auto& [words, variables] :
         {std::pair{QStringList{"pass", master, "--chain", chain, "-o", disk + "/out.wav"}, QStringList{}},
          {{"pass", master, "--chain", chain, "-o", QString::fromStdString((folder_ / "out.wav").string())},
           {"TMPDIR=" + disk}},
          {{"null", master, master, "--residual", disk + "/e.wav"}, {}},
          {{"probe", "levels", "-o", disk + "/p.wav"}, {}},
          {{"measure", "-"}, {"TMPDIR=" + disk}}}) {
      QFile file(master);
      QVERIFY(file.open(QFile::ReadOnly));
      const auto answer = call(words, words.contains("-") ? file.readAll() : QByteArray(), variables);
      QCOMPARE(answer.status, 1);
      QVERIFY2(answer.err.contains("the disk is full") && answer.err.count('\n') == 1, answer.err);
      QVERIFY(names().empty() && !std::filesystem::exists(folder_ / "out.wav"));
    }
  }

 private:
  std::set<std::string> names() const {
    std::set<std::string> found;
    for (const auto& entry : std::filesystem::recursive_directory_iterator(disk_))
      if (entry.is_regular_file()) found.insert(entry.path().string());
    return found;
  }
  void fill_all_but(int64_t bytes) const {
    struct ::statvfs facts {};
    ::statvfs(disk_.c_str(), &facts);
    const int64_t left = int64_t(facts.f_bavail) * int64_t(facts.f_frsize) - bytes;
    std::ofstream(disk_ / "ballast") << std::string(size_t(std::max<int64_t>(0, left)), '\0');
  }
  /// The work says that the disk is full; an old file there stays as it was, and nothing is left beside it.
  void refuses(const std::filesystem::path& file, const std::function<void()>& work, bool old = true) {
    std::filesystem::create_directories(file.parent_path());
    if (old) std::ofstream(file) << "old";
    const auto before = names();
    try {
      work();
      QFAIL(qPrintable("it went through: " + QString::fromStdString(file.string())));
    } catch (const std::exception& error) {
      const QString sentence = QString::fromUtf8(error.what());
      QVERIFY2(sentence.contains("the disk is full") && sentence.contains("small disk"), error.what());
    }
    std::erase_if(const_cast<std::set<std::string>&>(before), [](const auto& name) { return name.ends_with(".lock"); });
    auto after = names();
    std::erase_if(after, [](const auto& name) { return name.ends_with(".lock"); });
    QVERIFY2(after == before, qPrintable(QString::fromStdString(file.string())));
    if (!old) return;
    std::ifstream in(file);
    QCOMPARE((std::string(std::istreambuf_iterator<char>(in), {})), std::string("old"));
  }
  std::filesystem::path disk_;
  std::shared_ptr<const Clip> master_;
};

QTEST_GUILESS_MAIN(TestFullDisk)
#include "test_full_disk.moc"
