// The good sound put into a video: pictures stay as they were to the last bit, the sound lies on them as the old one
// did; and which of several sounds of a file is meant. Videos are made and looked at with ffmpeg.
#include <QtTest>

#include "core/audio/fingerprint.hpp"
#include "core/audio/sound_name.hpp"
#include "core/audio/video.hpp"
#include "core/bench/document.hpp"
#include "core/compare/null.hpp"
#include "tests/support/cli.hpp"
#include "tests/support/programmes.hpp"
#include "tests/support/share.hpp"
#include "tests/support/signals.hpp"
#include "tests/support/small_disk.hpp"

using namespace heathmist;
using namespace heathmist::test;

class TestVideo : public QObject {
  Q_OBJECT

 private slots:
  void initTestCase() {
    if (QStandardPaths::findExecutable("ffmpeg").isEmpty()) QSKIP("ffmpeg");
    qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str()));
    sound_ = requantised(Programme(8, 5, 18000).render(rate), 24, false);
    save(folder_ / "good.wav", sound_, rate, WordFormat::pcm24);
    Planar late(2, sound_.frames() + rate / 2);  // as the camera heard it
    for (int c = 0; c < 2; ++c)
      for (int64_t n = 0; n < sound_.frames(); ++n)
        late.channel(c)[size_t(n + delay)] = 0.4 * sound_.channel(c)[size_t(n)];
    save(folder_ / "camera.wav", with_noise(late, 3e-5, 4), rate, WordFormat::pcm24);
  }

  void the_picture_stays_and_the_sound_is_good_data() {
    QTest::addColumn<QString>("film");
    QTest::addColumn<QStringList>("coded");
    QTest::addColumn<QString>("out");
    const QStringList mpeg4{"-c:v", "mpeg4", "-bf", "2", "-c:a", "aac"};
    QTest::newRow("MP4 to Matroska") << "a.mp4" << mpeg4 << "a-out.mkv";
    QTest::newRow("MP4 to MOV") << "b.mp4" << mpeg4 << "b-out.mov";
    QTest::newRow("Matroska to Matroska") << "c.mkv" << QStringList{"-c:v", "ffv1", "-c:a", "pcm_s16le"} << "c-out.mkv";
    QTest::newRow("a late sound") << "d.mkv"
                                  << QStringList{"-c:v", "mpeg4", "-c:a", "flac", "-af", "asetpts=PTS+0.4/TB"}
                                  << "d-out.mkv";
    QTest::newRow("start codes") << "e.ts" << QStringList{"-c:v", "mpeg2video", "-c:a", "mp2"} << "e-out.mkv";
  }
  void the_picture_stays_and_the_sound_is_good() {
    QFETCH(QString, film);
    QFETCH(QStringList, coded);
    QFETCH(QString, out);
    const auto video = filmed(film, coded);
    const auto a = call({"align", path("good.wav"), path(film), "-o", path("laid.wav"), "--bits", "24", "--video",
                         path(out), "--json", "--force"});
    QVERIFY2(a.status == 0, a.err);
    const auto told = a.json()["video"].toObject();
    QCOMPARE(told["pictures"].toInt(), 25 * 8);
    QVERIFY2(std::abs(told["off_pictures"].toDouble()) < 0.03, a.out);
    QCOMPARE(pictures(path(out)), pictures(path(film)));
    const auto heard = Clip::open(folder_ / out.toStdString()), laid = Clip::open(folder_ / "laid.wav");
    QCOMPARE(heard->format().codec, std::string("pcm"));
    // the sound is what was aligned, to the bit, after the silence in front
    const auto lead = heard->format().frames - laid->format().frames;
    QVERIFY(lead >= 0);
    Planar x, y;
    heard->reader()->read(lead, laid->format().frames, x), laid->reader()->read(0, laid->format().frames, y);
    for (int c = 0; c < 2; ++c) QVERIFY(std::ranges::equal(x.channel(c), y.channel(c)));
    // and where it lies in the picture's time is where the old one lay
    const double before = seconds_of("a:0", path(film)) - seconds_of("v:0", path(film)),
                 now = seconds_of("a:0", path(out)) + double(lead) / rate - seconds_of("v:0", path(out));
    QVERIFY2(std::abs(now - before) < 0.0016, qPrintable(QString("%1 before, %2 now").arg(before).arg(now)));
  }

  /// Languages: one is replaced, the others go along; each can be asked for by its number.
  void one_of_several_sounds() {
    filmed("two.mkv",
           {"-map", "0:v", "-map", "1:a", "-map", "2:a", "-c:v", "mpeg4", "-c:a", "pcm_s24le", "-metadata:s:a:0",
            "language=eng", "-metadata:s:a:1", "language=fin", "-metadata:s:a:1", "title=Narrator"},
           {"-i", path("good.wav")});
    const auto film = folder_ / "two.mkv";
    const auto sounds = sounds_in(film);
    QCOMPARE(sounds.size(), size_t(2));
    QCOMPARE(sounds[1].language, std::string("fin"));
    QCOMPARE(sounds[1].title, std::string("Narrator"));
    QVERIFY(sounds[0].is_usual && !sounds[1].is_usual);
    QVERIFY(null_of(folder_ / "good.wav", name_of_sound(film, 2)).kind == Kind::identical);
    QVERIFY(null_of(folder_ / "good.wav", name_of_sound(film, 1)).kind != Kind::identical);
    QCOMPARE(Clip::open(film)->format().frames, Clip::open(name_of_sound(film, 1))->format().frames);
    QVERIFY(fingerprint(name_of_sound(film, 1)) != fingerprint(name_of_sound(film, 2)));
    QVERIFY(is_fingerprint(fingerprint(name_of_sound(film, 2))));
    const FileRef ref{name_of_sound(film, 2), fingerprint(name_of_sound(film, 2))};
    QVERIFY(state_of(ref) == FileState::present);

    const auto facts = call({"facts", path("two.mkv#2"), path("two.mkv#3"), "--json"});
    QCOMPARE(facts.status, 1);  // there is no third
    QCOMPARE(facts.json()["files"].toArray()[0].toObject()["container_bits"].toInt(), 24);
    QVERIFY2(facts.err.contains("no sound number 3"), facts.err);

    const auto a = call({"align", path("good.wav"), path("two.mkv#1"), "-o", path("l.wav"), "--bits", "24", "--video",
                         path("two-out.mkv"), "--json"});
    QVERIFY2(a.status == 0, a.err);
    QCOMPARE(sounds_in(folder_ / "two-out.mkv").size(), size_t(2));
    QVERIFY(null_of(folder_ / "good.wav", folder_ / "two-out.mkv#2").kind == Kind::identical);
    QCOMPARE(sounds_in(folder_ / "two-out.mkv")[1].language, std::string("fin"));
    // it is an input by any of its names
    QCOMPARE(call({"align", path("good.wav"), path("two.mkv#1"), "-o", path("two.mkv"), "--force"}).status, 2);
  }
  /// A file may be called so.
  void a_file_with_such_a_name_is_just_a_file() {
    const auto file = folder_ / "take#2";
    std::filesystem::rename(save(folder_ / "take.wav", programme("piano", 44100, 2, 4), 44100), file);
    QCOMPARE(sound_name(file).number, 0);
    QCOMPARE(Clip::open(file)->format().sample_rate_hz, 44100);
    for (const char* name : {"a#", "a#0", "a#x", "#3", "a#12345"}) QCOMPARE(sound_name(name).number, 0);
  }

  void what_is_no_video_is_refused() {
    filmed("f.mp4", {"-c:v", "mpeg4", "-c:a", "aac"});
    const auto refused = [&](const QString& ret, const QString& out, int status, const QByteArray& words) {
      const auto a = call({"align", path("good.wav"), ret, "-o", path("never.wav"), "--video", out});
      QVERIFY2(a.status == status && a.err.contains(words), a.err + " " + words);
      QVERIFY2(!QFile::exists(path("never.wav")) && !QFile::exists(path("never.mkv")), words);
    };
    refused(path("camera.wav"), path("never.mkv"), 1, "no picture");
    refused(path("f.mp4"), path("never.mp4"), 2, ".mkv or .mov");
    refused(path("f.mp4"), path("f.mp4"), 2, "read here");
    refused(path("gone.mp4"), path("never.mkv"), 1, "no such file");
    make({"-f", "lavfi", "-i", "testsrc=size=160x120:rate=25:duration=2", "-c:v", "mpeg4", path("mute.mkv")});
    refused(path("mute.mkv"), path("never.mkv"), 1, "no sound");
    refused(path("mute.mkv"), path("mute.mkv"), 2, "read here");
    make({"-f", "lavfi", "-i", "testsrc=size=160x120:rate=25:duration=8", "-i", path("good.wav"), "-c:v", "theora",
          "-c:a", "flac", path("odd.mkv")});
    refused(path("odd.mkv"), path("never.mov"), 1, "write an .mkv instead");
  }
  /// Every word, mono and many channels, a sound without silence in front: as it was given, to the last bit.
  void every_word_arrives_data() {
    QTest::addColumn<int>("word");
    QTest::addColumn<int>("channels");
    QTest::addColumn<QString>("ending");
    for (const char* ending : {".mkv", ".mov"})
      for (const auto& [name, word] : {std::pair{"16", WordFormat::pcm16},
                                       {"24", WordFormat::pcm24},
                                       {"32", WordFormat::pcm32},
                                       {"float", WordFormat::float32}})
        for (const int channels : {1, 2, 6})
          QTest::addRow("%s, %d channels, %s", name, channels, ending) << int(word) << channels << QString(ending);
  }
  void every_word_arrives() {
    QFETCH(int, word);
    QFETCH(int, channels);
    QFETCH(QString, ending);
    if (!std::filesystem::exists(folder_ / "h.mp4")) filmed("h.mp4", {"-c:v", "mpeg4", "-c:a", "aac"});
    Planar sound(channels, rate);
    dsp::Noise chance(uint64_t(word * 10 + channels));
    for (int c = 0; c < channels; ++c)
      for (double& x : sound.channel(c)) x = chance.between(-1, 1);
    const auto given = Clip::open(save(folder_ / "any.wav", sound, rate, WordFormat(word)));
    const auto out = folder_ / ("any" + ending.toStdString());
    replace_sound(folder_ / "h.mp4", *given, WordFormat(word), Destination(out, true), {});
    const auto written = Clip::open(out);
    QCOMPARE(written->format().channels, channels);
    const int64_t lead = written->format().frames - given->format().frames;
    Planar x, y;
    written->reader()->read(lead, rate, x), given->reader()->read(0, rate, y);
    for (int c = 0; c < channels; ++c) QVERIFY(std::ranges::equal(x.channel(c), y.channel(c)));
  }
  /// Cut off in the middle: what can be read of it is no video.
  void a_damaged_video_is_refused() {
    const auto film = filmed("whole.mkv", {"-c:v", "mpeg4", "-c:a", "pcm_s16le"});
    std::filesystem::copy_file(film, folder_ / "cut.mkv");
    std::filesystem::resize_file(folder_ / "cut.mkv", std::filesystem::file_size(film) / 3);
    const auto a =
        call({"align", path("good.wav"), path("cut.mkv"), "-o", path("damaged.wav"), "--video", path("damaged.mkv")});
    QVERIFY2(a.status == 1 && a.err.contains("cut.mkv"), a.err);
    QVERIFY(!QFile::exists(path("damaged.mkv")) && !QFile::exists(path("damaged.wav")));
  }
  /// A sound that cannot be written as it was asked for is refused by its own name, and no video is made.
  void the_sound_beside_a_video_is_refused_first() {
    filmed("kinds.mp4", {"-c:v", "mpeg4", "-c:a", "aac"});
    const auto made = [&](const char* sound, const QStringList& more = {}) {
      QFile::remove(path("kinds.mkv"));
      return call(
          QStringList{"align", path("good.wav"), path("kinds.mp4"), "-o", path(sound), "--video", path("kinds.mkv")} +
          more);
    };
    for (const auto& [name, bits] : {std::pair{"kinds.mp3", ""}, {"kinds.flac", "32f"}}) {
      const auto a = made(name, *bits ? QStringList{"--bits", bits} : QStringList{});
      QVERIFY2(a.status == 1 && a.err.contains(name) && a.err.count('\n') == 1, a.err);
      QVERIFY(!a.err.contains("heathmist-") || a.err.startsWith("heathmist-cli: " + path(name).toUtf8()));
      QVERIFY(!QFile::exists(path("kinds.mkv")) && !QFile::exists(path(name)));
    }
    const auto a = made("kinds.flac");  // 24 bits where none are asked for
    QVERIFY2(a.status == 0, a.err);
    QCOMPARE(*Clip::open(folder_ / "kinds.flac")->format().container_bits, 24);
    const auto sound = Clip::open(folder_ / "kinds.flac"), in_video = Clip::open(folder_ / "kinds.mkv");
    QVERIFY(std::abs(sound->format().frames - in_video->format().frames) < 2 * rate);
  }
  void a_full_disk_leaves_nothing() {
    const auto film = filmed("g.mp4", {"-c:v", "mpeg4", "-c:a", "aac"});
    const auto sound = Clip::open(folder_ / "good.wav");
    {
      const SmallDisk small(100000);
      QVERIFY_EXCEPTION_THROWN(replace_sound(film, *sound, WordFormat::pcm24, folder_ / "full.mkv", {}), InputError);
    }
    QVERIFY(!std::filesystem::exists(folder_ / "full.mkv"));
  }

 private:
  static constexpr int rate = 48000, delay = 7321;
  QString path(const QString& name) const { return QString::fromStdString((folder_ / name.toStdString()).string()); }
  static void make(const QStringList& words) {
    if (QProcess::execute("ffmpeg", QStringList{"-y", "-loglevel", "error"} + words) != 0)
      throw std::runtime_error(("ffmpeg " + words.join(' ')).toStdString());
  }
  std::filesystem::path filmed(const QString& name, const QStringList& coded, const QStringList& more = {}) {
    make(QStringList{"-f", "lavfi", "-i", "testsrc=size=160x120:rate=25:duration=8", "-i", path("camera.wav")} + more +
         coded + QStringList{path(name)});
    return folder_ / name.toStdString();
  }
  /// A hash of each decoded picture.
  static QByteArray pictures(const QString& file) {
    const auto a = call_program("ffmpeg", {"-loglevel", "error", "-i", file, "-map", "0:v:0", "-fps_mode",
                                           "passthrough", "-f", "framehash", "-"});
    QByteArray hashes;
    for (const QByteArray& line : a.out.split('\n'))
      if (!line.startsWith('#')) hashes += line.mid(line.lastIndexOf(',') + 1) + '\n';
    return hashes;
  }
  /// When a stream's first packet is shown or heard, as ffprobe has it.
  static double seconds_of(const QString& stream, const QString& file) {
    const auto a = call_program("ffprobe", {"-loglevel", "error", "-select_streams", stream, "-show_entries",
                                            "frame=best_effort_timestamp_time", "-of", "csv=p=0", file});
    double first = 1e9;
    for (const QByteArray& line : a.out.split('\n'))
      if (bool is_number = false; true) {
        const double at = QByteArray(line).replace(",", "").trimmed().toDouble(&is_number);
        if (is_number) first = std::min(first, at);
      }
    return first;
  }
  Folder folder_;
  Planar sound_;
};

SHARED_MAIN(TestVideo)
#include "test_video.moc"
