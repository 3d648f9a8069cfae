// Clips: every format read exactly, any place of a file, and one clear sentence for every bad one.
#include <QtTest>
#include <cmath>
#include <fstream>

#include "core/measure/survey.hpp"
#include "core/stages/encoder.hpp"
#include "tests/support/signals.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

Planar ramp_noise(int channels, int64_t frames, int bits) {
  dsp::Noise chance(5);
  Planar sound(channels, frames);
  const double levels = std::ldexp(1.0, bits - 1);
  for (int c = 0; c < channels; ++c)
    for (double& x : sound.channel(c)) x = std::floor(chance.between(-levels, levels)) / levels;
  return sound;
}

bool equal(const Clip& clip, const Planar& sound) {
  Planar block;
  clip.reader()->read(0, sound.frames(), block);
  if (clip.format().frames != sound.frames() || block.channels() != sound.channels()) return false;
  for (int c = 0; c < sound.channels(); ++c)
    if (!std::equal(block.channel(c).begin(), block.channel(c).end(), sound.channel(c).begin())) return false;
  return true;
}

}  // namespace

class TestClips : public QObject {
  Q_OBJECT

 private slots:
  void initTestCase() { qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str())); }

  void integers_and_floats_arrive_exact_data() {
    QTest::addColumn<QString>("ending");
    QTest::addColumn<int>("bits");
    QTest::addColumn<int>("word");
    for (const char* ending : {"wav", "w64", "aiff", "caf"}) {
      for (const auto& [bits, word] : {std::pair{16, WordFormat::pcm16},
                                       {24, WordFormat::pcm24},
                                       {32, WordFormat::pcm32},
                                       {24, WordFormat::float32},
                                       {50, WordFormat::float64}})
        QTest::addRow("%s %d %d", ending, bits, int(word)) << ending << bits << int(word);
    }
    QTest::addRow("flac 16") << "flac" << 16 << int(WordFormat::pcm16);
    QTest::addRow("flac 24") << "flac" << 24 << int(WordFormat::pcm24);
  }
  void integers_and_floats_arrive_exact() {
    QFETCH(QString, ending);
    QFETCH(int, bits);
    QFETCH(int, word);
    for (const int channels : {1, 2, 8}) {
      const auto sound = ramp_noise(channels, 30011, bits);
      const auto clip = Clip::open(save(folder_ / ("exact." + ending.toStdString()), sound, 44100, WordFormat(word)));
      QVERIFY(equal(*clip, sound));
      const bool integer =
          word == int(WordFormat::pcm16) || word == int(WordFormat::pcm24) || word == int(WordFormat::pcm32);
      QCOMPARE(clip->format().sample_format, integer ? SampleFormat::integer : SampleFormat::real);
      const auto used = survey(*clip).levels.bits_used;
      QCOMPARE(used.value_or(0), integer ? bits : 0);
    }
  }

  void lossless_codecs_through_ffmpeg_are_exact() {
    for (const int bits : {16, 24}) {
      const auto sound = ramp_noise(2, 40000, bits);
      const auto clip =
          Clip::open(save(folder_ / "l.wav", sound, 48000, bits == 16 ? WordFormat::pcm16 : WordFormat::pcm24));
      for (const auto& [codec, name] :
           {std::pair{"alac", "l.m4a"}, {"wavpack", "l.wv"}, {"flac", "l.mkv"}, {"alac", "l.mov"}}) {
        encode(*clip, {codec, 0}, folder_ / name);
        const auto back = Clip::open(folder_ / name);
        QVERIFY2(equal(*back, sound), name);
        QCOMPARE(back->format().container_bits.value_or(0), bits);
        QVERIFY(!back->format().lossy);
      }
    }
  }

  void lossy_codecs_say_what_they_are() {
    const auto clip = Clip::open(save(folder_ / "s.wav", Programme(4, 2).render(48000), 48000, WordFormat::pcm24));
    for (const auto& [encoder, codec, name] : {std::tuple{"libmp3lame", "mp3", "s.mp3"},
                                               {"aac", "aac", "s.m4a"},
                                               {"aac", "aac", "s.mp4"},
                                               {"libvorbis", "vorbis", "s.ogg"},
                                               {"libopus", "opus", "s.opus"},
                                               {"libopus", "opus", "s.webm"},
                                               {"ac3", "ac3", "s.ac3"}}) {
      encode(*clip, {encoder, 128000}, folder_ / name);
      const auto back = Clip::open(folder_ / name);
      QCOMPARE(QString::fromStdString(back->format().codec), QString(codec));
      QVERIFY(back->format().lossy && !back->format().container_bits);
      QVERIFY2(std::abs(back->format().duration_s() - 4) < 0.1, name);
    }
  }

  void any_place_reads_the_same() {
    const auto sound = ramp_noise(2, 100000, 24);
    const auto clip = Clip::open(save(folder_ / "p.flac", sound, 96000, WordFormat::pcm24));
    const auto reader = clip->reader();
    dsp::Noise chance(3);
    Planar block;
    for (int round = 0; round < 60; ++round) {
      const auto first = int64_t(chance.between(-3000, 102000)), frames = int64_t(chance.between(1, 5000));
      reader->read(first, frames, block);
      for (int64_t n = 0; n < frames; n += 7)
        for (int c = 0; c < 2; ++c) {
          const int64_t place = first + n;
          QCOMPARE(block.channel(c)[size_t(n)], place >= 0 && place < 100000 ? sound.channel(c)[size_t(place)] : 0.0);
        }
    }
  }

  void overviews_hold_every_peak() {
    auto sound = ramp_noise(1, 300000, 16);
    for (double& x : sound.channel(0)) x *= 0.1;
    sound.channel(0)[123457] = 0.75;
    const auto clip = Clip::open(save(folder_ / "o.wav", sound, 48000));
    const auto fresh = cached_survey(*clip), kept = cached_survey(*clip);
    for (const auto* s : {&fresh, &kept}) {
      const auto columns = s->overview.columns(0, 300000, 300);
      for (int n = 0; n < 300; ++n) QCOMPARE(columns[size_t(n)].high > 0.7f, n == 123);
      QCOMPARE(s->levels.sample_peak, 0.75);
    }
    Planar block;
    clip->reader()->read(123450, 22, block);
    const auto fine = outline_columns(block, 123450, 123450, 20, 20);
    QCOMPARE(fine[7].high, 0.75f);
  }

  void clipped_runs_are_counted_across_blocks() {
    Planar sound(2, 1 << 20);
    for (const int64_t at : {100, (1 << 14) - 1, (1 << 19) - 2, 900000})
      for (int k = 0; k < 4; ++k) sound.channel(1)[size_t(at + k)] = 1;
    sound.channel(0)[50] = sound.channel(0)[51] = 1;  // two are no run
    const auto levels = survey(*Clip::open(save(folder_ / "c.wav", sound, 48000, WordFormat::pcm16))).levels;
    QCOMPARE(levels.clipped_runs, int64_t(4));
    QVERIFY(std::abs(levels.first_run_s.value() - 100.0 / 48000) < 1e-9);
  }

  void bad_files_get_one_sentence_data() {
    QTest::addColumn<QString>("file");
    QTest::addColumn<QString>("says");
    auto row = [](const char* what, const std::filesystem::path& file, const char* says) {
      QTest::newRow(what) << QString::fromStdString(file.string()) << says;
    };
    const auto good = save(folder_ / "good.wav", ramp_noise(2, 20000, 16), 44100, WordFormat::pcm16);
    const auto flac = save(folder_ / "good.flac", ramp_noise(2, 20000, 16), 44100, WordFormat::pcm16);
    auto put = [&](const char* name, const QByteArray& bytes) {
      std::ofstream(folder_ / name, std::ios::binary).write(bytes.data(), bytes.size());
      return folder_ / name;
    };
    auto bytes_of = [](const std::filesystem::path& file) {
      QFile in(QString::fromStdString(file.string()));
      return in.open(QIODevice::ReadOnly) ? in.readAll() : QByteArray();
    };
    const QByteArray wav = bytes_of(good);
    row("missing", folder_ / "nowhere.wav", "no such file");
    row("folder", folder_ / "", "folder");
    row("empty", put("empty.wav", {}), "empty");
    row("not audio", put("text.wav", "this is a letter, not a sound, and it goes on for a while"), "not an audio file");
    row("noise bytes", put("noise.mp3", QByteArray(4000, '\x5a')), "");
    row("cut short", put("cut.wav", wav.left(30000)), "cut short");
    row("cut flac", put("cut.flac", bytes_of(flac).left(9000)), "breaks off");
    row("only a header", put("header.wav", wav.left(44)), "");
    Planar broken = ramp_noise(2, 9000, 16);
    broken.channel(1)[4410] = NAN;
    row("NaN", save(folder_ / "nan.wav", broken, 44100, WordFormat::float32), "NaN");
    broken.channel(1)[4410] = INFINITY;
    row("infinite", save(folder_ / "inf.wav", broken, 44100, WordFormat::float64), "infinite");
    QByteArray lying = wav;
    lying[lying.indexOf("fmt ") + 10] = '\x40';  // 64 channels, it says, in frames of two
    row("header that lies", put("lies.wav", lying), "");
  }
  void bad_files_get_one_sentence() {
    QFETCH(QString, file);
    QFETCH(QString, says);
    QString sentence;
    try {
      survey(*Clip::open(file.toStdString()));
    } catch (const InputError& error) {
      sentence = error.what();
    }
    QVERIFY(!sentence.isEmpty());
    QVERIFY2(sentence.startsWith(file) && sentence.contains(says) && !sentence.contains('\n'), qPrintable(sentence));
  }

  void a_file_cut_while_open_is_said() {
    const auto file = save(folder_ / "v.wav", ramp_noise(1, 500000, 16), 48000, WordFormat::pcm16);
    const auto clip = Clip::open(file);
    const auto reader = clip->reader();
    std::filesystem::resize_file(file, 100000);
    Planar block;
    QVERIFY_EXCEPTION_THROWN(reader->read(400000, 1000, block), InputError);
    std::filesystem::remove(file);
    QVERIFY_EXCEPTION_THROWN(clip->reader(), InputError);
  }

  void long_work_stops_when_asked() {
    const auto clip = Clip::open(save(folder_ / "j.wav", ramp_noise(2, 2000000, 16), 48000, WordFormat::pcm16));
    std::stop_source stop;
    Job job{stop.get_token(), [&](double) { stop.request_stop(); }, 2};
    QVERIFY_EXCEPTION_THROWN(survey(*clip, job), Cancelled);
  }

  void writing_is_whole_or_not_at_all() {
    const auto file = folder_ / "w.wav";
    save(file, ramp_noise(1, 100, 16), 48000);
    const auto before = std::filesystem::file_size(file);
    {
      ClipWriter unfinished({file, true}, 48000, 1, WordFormat::pcm16);
      unfinished.write(ramp_noise(1, 50000, 16));
    }
    QCOMPARE(std::filesystem::file_size(file), before);
    QVERIFY_EXCEPTION_THROWN(write_whole("/dev/null/x.json", "x"), InputError);
    int left = 0;
    for (const auto& entry : std::filesystem::directory_iterator(folder_ / ""))
      left += entry.path().string().ends_with(".part");
    QCOMPARE(left, 0);
  }

 private:
  Folder folder_;
};

QTEST_GUILESS_MAIN(TestClips)
#include "test_clips.moc"
