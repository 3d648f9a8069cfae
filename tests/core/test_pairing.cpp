// Pairs by sound: the right master whatever was done to the return, no pair where there is none, and the delay.
#include <QtTest>
#include <numbers>

#include "core/delivery/pairing.hpp"
#include "core/stages/encoder.hpp"
#include "tests/support/cli.hpp"
#include "tests/support/programmes.hpp"
#include "tests/support/share.hpp"
#include "tests/support/signals.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

Planar all_of(const Clip& clip) {
  Planar all;
  clip.reader()->read(0, clip.format().frames, all);
  return all;
}

Planar late_by(const Planar& sound, int64_t frames) {  // negative: its start is missing
  Planar out(sound.channels(), sound.frames() + frames);
  for (int c = 0; c < sound.channels(); ++c)
    for (int64_t n = 0; n < out.frames(); ++n)
      out.channel(c)[size_t(n)] = n >= frames ? sound.channel(c)[size_t(n - frames)] : 0;
  return out;
}

AcousticPrint print_of(const Planar& sound, int rate_hz) {
  const Folder folder;
  return acoustic_print(*Clip::open(save(folder / "a.wav", sound, rate_hz, WordFormat::pcm24)));
}

double errors_of(const Planar& a, int rate_a, const Planar& b, int rate_b, int64_t lag = 0) {
  return distance(print_of(a, rate_a), print_of(b, rate_b), lag).errors;
}

}  // namespace

class TestPairing : public QObject {
  Q_OBJECT

 private slots:
  void initTestCase() { qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str())); }

  // ---- the print ----------------------------------------------------------------------------------------------------
  void level_polarity_and_channels_change_nothing_of_it() {
    const auto sound = programme("dense", 44100, 6, 3);
    QVERIFY(errors_of(sound, 44100, scaled(sound, 0.1), 44100) < 0.03);
    QVERIFY(errors_of(sound, 44100, scaled(sound, -1), 44100) < 0.001);
    Planar swapped = sound, half = sound;
    for (int64_t n = 0; n < sound.frames(); ++n) {
      std::swap(swapped.channel(0)[size_t(n)], swapped.channel(1)[size_t(n)]);
      half.channel(1)[size_t(n)] *= -1;  // in a mono mix there would be nothing of its middle
    }
    QVERIFY(errors_of(sound, 44100, swapped, 44100) < 0.001);
    QVERIFY(errors_of(sound, 44100, half, 44100) < 0.001);
  }
  void no_rate_changes_it() {
    const Folder folder;
    const auto sound = programme("piano", 96000, 6, 3);
    const auto clip = Clip::open(save(folder / "a.wav", sound, 96000));
    for (const int rate : {8000, 32000, 44100, 48000, 192000}) {
      const double errors = errors_of(sound, 96000, all_of(*Clip::at_rate(clip, rate)), rate);
      QVERIFY2(errors < 0.08, qPrintable(QString("%1 Hz: %2").arg(rate).arg(errors)));
    }
  }
  void another_take_has_nothing_in_common() {
    for (const auto& name : programme_names()) {
      if (name == "from_silence" || name == "loop") continue;
      const double errors = errors_of(programme(name, 44100, 6, 3), 44100, programme(name, 44100, 6, 4), 44100);
      QVERIFY2(errors > 0.38, qPrintable(QString("%1: %2").arg(name.c_str()).arg(errors)));
    }
    QVERIFY(print_of(Planar(2, 44100 * 3), 44100).words == std::vector<uint32_t>(113, 0));
    QVERIFY(print_of(Planar(2, 100), 44100).words.empty());
  }

  // ---- pairs --------------------------------------------------------------------------------------------------------
  void what_was_done_to_it_does_not_matter_data() {
    QTest::addColumn<QString>("how");
    for (const char* how : {"late", "its start is missing", "soft", "mp3 64", "aac 48", "96 kHz", "16 bits at -40 dB",
                            "noise", "an excerpt", "one channel"})
      QTest::newRow(how) << how;
  }
  void what_was_done_to_it_does_not_matter() {
    QFETCH(QString, how);
    const int rate = 44100;
    if (sounds_.empty())
      for (const char* name : {"dense", "piano", "speech", "choir", "swells", "drums"}) {
        sounds_.push_back(programme(name, rate, 8, 21));
        masters_.push_back(print_of(sounds_.back(), rate));
      }
    std::vector<AcousticPrint> returns;
    double late_s = 0;
    for (const Planar& sound : sounds_) {
      Planar ret = sound;
      int at = rate;
      if (how == "late") ret = late_by(sound, 123457), late_s = 123457.0 / rate;
      if (how == "its start is missing") ret = late_by(sound, -100000), late_s = -100000.0 / rate;
      if (how == "soft") ret = scaled(sound, 0.02);
      if (how == "16 bits at -40 dB") ret = requantised(scaled(sound, 0.01), 16, true);
      if (how == "noise") ret = with_noise(sound, 0.01, 3);
      if (how == "an excerpt") {
        ret = late_by(sound, -3 * rate), late_s = -3;
        Planar part(2, 4 * rate);
        for (int c = 0; c < 2; ++c) std::copy_n(ret.channel(c).begin(), part.frames(), part.channel(c).begin());
        ret = part;
      }
      if (how == "one channel") {
        ret = Planar(1, sound.frames());
        for (size_t n = 0; n < size_t(sound.frames()); ++n)
          ret.channel(0)[n] = 0.5 * (sound.channel(0)[n] + sound.channel(1)[n]);
      }
      if (how == "96 kHz") ret = all_of(*Clip::at_rate(Clip::open(save(folder_ / "r.wav", sound, rate)), at = 96000));
      if (how.startsWith("mp3") || how.startsWith("aac")) {
        const bool mp3 = how.startsWith("mp3");
        encode(*Clip::open(save(folder_ / "r.wav", sound, rate)), {mp3 ? "libmp3lame" : "aac", mp3 ? 64000 : 48000},
               folder_ / "r.mka");
        const auto coded = Clip::open(folder_ / "r.mka");
        ret = all_of(*coded), at = coded->format().sample_rate_hz;
      }
      returns.push_back(print_of(ret, at));
    }
    returns.push_back(print_of(programme("dense", rate, 8, 99), rate));  // another take
    returns.push_back(print_of(programme("speech", rate, 8, 99), rate));
    const auto p = pair_by_sound(masters_, returns);
    for (const auto& pair : p.pairs) {
      QVERIFY2(pair.master == pair.ret, qPrintable(QString("%1 for %2").arg(pair.ret).arg(pair.master)));
      QVERIFY2(std::abs(pair.delay_s - late_s) < 0.08, qPrintable(QString("%1 s").arg(pair.delay_s)));
      QVERIFY(!pair.as_well);
    }
    QCOMPARE(p.pairs.size(), masters_.size());
    QCOMPARE(p.returns_left, (std::vector<size_t>{6, 7}));
    QVERIFY(p.masters_left.empty());
  }
  /// The same notes by the same instrument, played again: a few thousandths of a second apart, and another breath.
  void another_take_of_the_same_notes() {
    const int rate = 44100;
    const auto first = save(folder_ / "take 1.wav", take(1, rate), rate, WordFormat::pcm24),
               second = save(folder_ / "take 2.wav", take(2, rate), rate, WordFormat::pcm24);
    encode(*Clip::open(first), {"libmp3lame", 48000}, folder_ / "take 1.mp3");
    const std::vector<std::filesystem::path> masters{first}, returns{second, folder_ / "take 1.mp3"};
    std::vector<AcousticPrint> of_returns;
    for (const auto& file : returns) of_returns.push_back(acoustic_print(*Clip::open(file)));
    Pairing p = pair_by_sound({acoustic_print(*Clip::open(first))}, of_returns);
    leave_other_takes(p, masters, returns);
    QCOMPARE(p.pairs.size(), size_t(1));
    QCOMPARE(p.pairs[0].ret, size_t(1));
    QCOMPARE(p.returns_left, std::vector<size_t>{0});
    QVERIFY(p.masters_left.empty());
    // a poor copy with silence in the middle is still a copy
    auto poor = take(1, rate);
    for (int c = 0; c < 2; ++c) std::fill_n(poor.channel(c).begin() + 4 * rate, rate, 0.0);
    const auto broken = save(folder_ / "poor.wav", with_noise(poor, 0.02, 8), rate, WordFormat::pcm24);
    Pairing copy = pair_by_sound({acoustic_print(*Clip::open(first))}, {acoustic_print(*Clip::open(broken))});
    leave_other_takes(copy, masters, {broken});
    QCOMPARE(copy.pairs.size(), size_t(1));
    // and where nothing else is there
    Pairing alone = pair_by_sound({acoustic_print(*Clip::open(first))}, {acoustic_print(*Clip::open(second))});
    leave_other_takes(alone, masters, {second});
    QVERIFY(alone.pairs.empty());
    QCOMPARE(alone.masters_left, std::vector<size_t>{0});
  }
  /// Of every ten masters two have no return; of their returns one is another take. All of it where there is time.
  void many_by_many() {
    const bool full = qEnvironmentVariableIsSet("HEATHMIST_FULL");
    const int rate = 22050, count = full ? 200 : 20;
    std::vector<std::filesystem::path> masters, returns;
    std::vector<AcousticPrint> master_prints, return_prints;
    const auto keep = [&](const Planar& sound, auto& files, auto& prints) {
      const auto name = std::to_string(files.size()) + (&files == &masters ? " m.wav" : " r.wav");
      files.push_back(save(folder_ / name, sound, rate, WordFormat::pcm16));
      prints.push_back(print_of(sound, rate));
    };
    std::vector<int> of;  // the master of each return; -1: none
    dsp::Noise chance(17);
    for (int n = 0; n < count; ++n) {
      const auto& name = programme_names()[size_t(n) % programme_names().size()];
      const auto sound = programme(name, rate, full ? 20 : 6, uint64_t(1000 + n));
      keep(sound, masters, master_prints);
      if (n % 10 == 3) of.push_back(-1), keep(programme(name, rate, 6, uint64_t(5000 + n)), returns, return_prints);
      if (n % 10 < 2) continue;
      const auto late = int64_t(chance.between(-1, 2) * rate);
      of.push_back(n);
      keep(with_noise(scaled(late_by(sound, late), chance.between(0.05, 1)), 1e-3, uint64_t(n)), returns,
           return_prints);
    }
    auto p = pair_by_sound(master_prints, return_prints);
    const auto before = p.pairs;
    leave_other_takes(p, masters, returns);
    for (const auto& b : before)
      if (std::ranges::none_of(p.pairs, [&](const auto& q) { return q.ret == b.ret; }))
        qInfo("second look leaves %zu (%s) with %zu, of %d, agreement %.3f", b.master,
              programme_names()[b.master % programme_names().size()].c_str(), b.ret, of[b.ret], b.agreement);
    for (const auto& pair : p.pairs)
      QVERIFY2(of[pair.ret] == int(pair.master), qPrintable(QString("%1 for %2").arg(pair.master).arg(of[pair.ret])));
    QCOMPARE(int(p.pairs.size()), count * 8 / 10);
    QCOMPARE(int(p.masters_left.size()), count * 2 / 10);
    QCOMPARE(int(p.returns_left.size()), count / 10);
  }
  void what_sounds_alike_is_said_to() {
    const auto sound = programme("piano", 44100, 10, 5);
    const std::vector<AcousticPrint> masters{print_of(sound, 44100), print_of(programme("choir", 44100, 10, 5), 44100),
                                             print_of(scaled(sound, 0.5), 44100)};
    const auto p = pair_by_sound(masters, {print_of(late_by(sound, 5000), 44100)});
    QCOMPARE(p.pairs.size(), size_t(1));
    QVERIFY(p.pairs[0].as_well && p.pairs[0].master + *p.pairs[0].as_well == 2);
    QVERIFY(pair_by_sound({}, {masters[0]}).returns_left.size() == 1);
    QVERIFY(pair_by_sound(masters, {}).masters_left.size() == 3);
    QVERIFY(pair_by_sound({AcousticPrint{}}, {AcousticPrint{}}).pairs.empty());
  }
  void the_delay_is_exact() {
    const int rate = 48000;
    const Programme music(32, 8);
    const auto master = Clip::open(save(folder_ / "m.wav", music.render(rate), rate));
    const auto exact = [&](const Planar& ret, int at, double about_s) {
      return exact_delay_samples(master, Clip::open(save(folder_ / "r.wav", ret, at)), about_s);
    };
    QVERIFY(std::abs(*exact(music.render(rate, 4321.25), rate, 0.085) - 4321.25) < 0.01);
    QVERIFY(std::abs(*exact(music.render(44100, 1000), 44100, 0.03) - 1000 * 48000 / 44100.0) < 0.05);
    // 40 ppm longer: read at the master's first frame
    const auto drifting = exact(music.render(rate, 500, 1 + 40e-6), rate, 0.01);
    QVERIFY2(std::abs(*drifting - 500) < 0.5, qPrintable(QString::number(*drifting)));
    QVERIFY(!exact(with_noise(Planar(2, rate * 30), 0.1, 7), rate, 0.0));
  }

  // ---- the command line ---------------------------------------------------------------------------------------------
  void the_command_line_pairs_two_folders() {
    const int rate = 44100;
    QStringList words{"pair"}, returns;
    for (int n = 0; n < 4; ++n) {
      const auto sound = programme(programme_names()[size_t(n)], rate, 8, uint64_t(50 + n));
      words << path(save(folder_ / QString("master %1.wav").arg(n).toStdString(), sound, rate));
      if (n != 2)
        returns.prepend(path(
            save(folder_ / QString("%1 came back.wav").arg("xyzw"[n]).toStdString(), late_by(sound, 3000 + n), rate)));
    }
    returns << path(save(folder_ / "stranger.wav", programme("choir", rate, 8, 1), rate));
    auto a = call(words + QStringList{"--json", "--with"} + returns);
    QVERIFY2(a.status == 0, a.err);
    const auto pairs = a.json()["pairs"].toArray();
    QCOMPARE(pairs.size(), 3);
    for (const auto& one : pairs) {
      const auto pair = one.toObject();
      const int n = QFileInfo(pair["master"].toString()).baseName().right(1).toInt();
      QVERIFY(QFileInfo(pair["return"].toString()).fileName().startsWith("xyzw"[n]));
      QVERIFY2(std::abs(pair["delay_samples"].toDouble() - (3000 + n)) < 0.01,
               qPrintable(QString::number(pair["delay_samples"].toDouble())));
      QVERIFY(pair["agreement"].toDouble() > 0.8);
    }
    QVERIFY(a.json()["masters_left"].toArray()[0].toString().endsWith("master 2.wav"));
    QVERIFY(a.json()["returns_left"].toArray()[0].toString().endsWith("stranger.wav"));
    a = call(words + QStringList{"--json", "--with", path(folder_ / "gone.wav")} + returns);
    QCOMPARE(a.status, 1);
    QCOMPARE(a.json()["pairs"].toArray().size(), 3);
    QVERIFY(a.json()["unread"].toArray()[0].toObject()["error"].toString().contains("gone.wav"));
    QCOMPARE(call(words).status, 2);
    QCOMPARE(call(words + QStringList{"--csv", words[1], "--force", "--with"} + returns).status, 2);
  }

 private:
  /// Long notes that are the same in every take, each begun a little earlier or later, and noise of its own.
  static Planar take(uint64_t seed, int rate) {
    dsp::Noise notes(77), hand(seed);
    Planar out(2, 10 * rate);
    for (int note = 0; note < 40; ++note) {
      const double hz = 110 * std::pow(2, std::floor(notes.between(0, 36)) / 12), at_s = notes.between(0, 9),
                   level = notes.between(0.03, 0.08), late_s = hand.between(-0.03, 0.03);
      for (int64_t n = int64_t((at_s + late_s + 0.01) * rate); n < out.frames(); ++n) {
        const double t = double(n) / rate - at_s - late_s, x = level * std::exp(-1.5 * t) * std::min(1.0, 50 * t);
        for (int k = 1; k <= 5; ++k)
          for (int c = 0; c < 2; ++c)
            out.channel(c)[size_t(n)] += x / k * std::sin(2 * std::numbers::pi * hz * k * t + c * 0.3);
      }
    }
    return with_noise(out, 1e-4, seed);
  }
  static QString path(const std::filesystem::path& file) { return QString::fromStdString(file.string()); }
  Folder folder_;
  std::vector<Planar> sounds_;
  std::vector<AcousticPrint> masters_;
};

SHARED_MAIN(TestPairing)
#include "test_pairing.moc"
