// The listening path sample by sample, and the transport on the simulated device.
#include <QSignalSpy>
#include <QtTest>
#include <cmath>
#include <semaphore>
#include <thread>

#include "app/listen/player.hpp"
#include "app/listen/rate_bridge.hpp"
#include "app/listen/seam.hpp"
#include "tests/support/signals.hpp"

using namespace heathmist;
using namespace heathmist::app;
using namespace heathmist::test;

namespace {

std::vector<MixFrame> frames(size_t count, uint64_t seed) {
  dsp::Noise chance(seed);
  std::vector<MixFrame> result(count);
  for (auto& f : result)
    for (size_t c = 0; c < 2; ++c) {
      f.master[c] = chance.between(-0.9, 0.9);
      f.ret[c] = chance.between(-0.9, 0.9);
      f.residual[c] = 0.001 * chance.between(-1, 1);
    }
  return result;
}

/// A device that is asked for sound by the test.
struct HandDevice : OutputDevice {
  RenderCallback render;
  bool start(int, RenderCallback callback) override { return render = std::move(callback), true; }
  void stop() override { render = nullptr; }
  std::string name() const override { return "by hand"; }
  bool is_simulated() const override { return true; }
  int device_rate_hz() const override { return 48000; }
};

/// A clip whose reader comes to the gate and waits there until it is opened.
struct GatedClip : Clip {
  struct Gate {
    std::binary_semaphore came{0}, open{0};
  };
  struct GatedReader : Reader {
    GatedReader(const ClipFormat& format, Gate& gate) : Reader(format), gate_(gate) {}
    void fetch(int64_t, int64_t, Planar&, int64_t) override {
      if (std::exchange(waited_, true)) return;
      gate_.came.release();
      gate_.open.acquire();
    }
    Gate& gate_;
    bool waited_ = false;
  };
  GatedClip(const Clip& like, Gate& gate) : Clip(like.path(), like.format()), gate_(gate) {}
  std::unique_ptr<Reader> reader() const override { return std::make_unique<GatedReader>(format(), gate_); }
  Gate& gate_;
};

/// The next frames that a player gives out, left and right in turn.
std::vector<double> pull(const Player& player, HandDevice& device, int64_t frames) {
  std::vector<double> out, some(2 * 128);
  while (std::ssize(out) < 2 * frames) {
    const double before = player.place_s();
    device.render(some);
    if (player.place_s() > before)
      out.insert(out.end(), some.begin(), some.end());
    else
      QThread::msleep(1);
  }
  return out;
}

/// The same from a place on, without a gap: where the feeder could not keep up, as it may on a busy machine, once more.
std::vector<double> pull_from(Player& player, HandDevice& device, double at_s, int64_t frames) {
  for (int pause_ms = 1;; pause_ms *= 2) {
    player.pause();
    player.seek(at_s);
    player.play();
    std::vector<double> out, some(2 * 128);
    for (bool gap = false; !gap && std::ssize(out) < 2 * frames; QThread::msleep(unsigned(pause_ms))) {
      const double before = player.place_s();
      device.render(some);
      if (player.place_s() > before)
        out.insert(out.end(), some.begin(), some.end());
      else
        gap = !out.empty();
    }
    if (std::ssize(out) >= 2 * frames || pause_ms > 100) return out;
  }
}

}  // namespace

class TestListen : public QObject {
  Q_OBJECT

 private:
  static Fit whole_fit(int64_t frames) {
    Fit fit;
    fit.pairs = plain_pairs(2, 2);
    set_overlap(fit, frames, frames);
    return fit;
  }

 private slots:
  void initTestCase() { qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str())); }

  void the_master_passes_bit_for_bit() {
    Mixer mixer(48000);
    const auto in = frames(3000, 1);
    std::vector<double> out(6000);
    mixer.process(in, out);
    for (size_t n = 0; n < 3000; ++n)
      for (size_t c = 0; c < 2; ++c) QCOMPARE(out[2 * n + c], in[n].master[c]);
  }

  void a_switch_is_one_straight_ramp() {
    Mixer mixer(48000);
    const auto in = frames(1000, 2);
    std::vector<double> out(2000);
    mixer.set({Heard::ret, 0.5, 0});
    mixer.process(in, out);
    for (size_t n = 0; n < 1000; ++n) {
      const double t = std::min(1.0, double(n + 1) / 480);
      for (size_t c = 0; c < 2; ++c)
        QVERIFY(std::abs(out[2 * n + c] - ((1 - t) * in[n].master[c] + t * 0.5 * in[n].ret[c])) < 1e-12);
    }
  }

  void switching_back_half_way_does_not_jump() {
    Mixer mixer(48000);
    std::vector<MixFrame> in(2000);
    for (auto& f : in) f.master = {1, 1}, f.ret = {-1, -1};
    std::vector<double> out(4000);
    mixer.set({Heard::ret, 1, 0});
    mixer.process(std::span(in).first(240), std::span(out).first(480));
    mixer.set({Heard::master, 1, 0});
    mixer.process(std::span(in).subspan(240), std::span(out).subspan(480));
    for (size_t n = 1; n < 2000; ++n) QVERIFY(std::abs(out[2 * n] - out[2 * n - 2]) < 2.2 / 480);
    QCOMPARE(out.back(), 1.0);
  }

  void lift_raises_and_the_limiter_holds() {
    for (const double lift : {0.0, 20.0, 60.0, 90.0}) {
      Mixer mixer(48000);
      mixer.set({Heard::residual, 1, lift});
      mixer.finish_fade();
      auto in = frames(20000, 3);
      in[15000].residual = {0.9, -0.9};  // a blow
      std::vector<double> out(40000);
      mixer.process(in, out);
      for (const double x : out) QVERIFY(std::abs(x) <= (lift > 0 ? Mixer::ceiling + 1e-12 : 1.0));
      if (lift == 0) QCOMPARE(out[200], in[100].residual[0]);
      if (lift == 20) QVERIFY(std::abs(out[200] - 10 * in[100].residual[0]) < 1e-12);
    }
  }

  void the_clock_device_keeps_time() {
    auto device = simulated_output();
    QVERIFY(device->is_simulated());
    std::atomic<int64_t> taken{0};
    QElapsedTimer timer;
    timer.start();
    QVERIFY(device->start(48000, [&](std::span<double> out) { taken += int64_t(out.size() / 2); }));
    QTest::qWait(400);
    device->stop();
    const double seconds = double(timer.nsecsElapsed()) * 1e-9;
    QVERIFY2(double(taken) / 48000 <= seconds && double(taken) / 48000 > 0.5 * seconds,
             qPrintable(QString::number(double(taken) / 48000 / seconds)));
  }

  void play_seek_loop_and_switch() {
    const auto sound = Programme(6, 4).render(48000);
    const auto master = Clip::open(save(folder_ / "m.wav", sound, 48000)),
               ret = Clip::open(save(folder_ / "r.wav", scaled(sound, 0.5), 48000));
    const auto report = null_test(master, ret);
    Player player(simulated_output());
    player.play();
    QVERIFY(!player.is_playing());  // nothing to play yet
    player.set_source({master, ret}, report.fit);
    player.seek(2);
    player.play();
    QTRY_VERIFY_WITH_TIMEOUT(player.place_s() > 2.2, 5000);
    QVERIFY(player.meters().true_peak_dbtp.value_or(-200) > -60);
    QVERIFY(player.meters().momentary_lufs.value_or(-200) > -60);
    player.set_mix({Heard::residual, 1, 30});
    player.set_loop(std::pair{1.0, 1.2});
    player.seek(1.1);
    for (int n = 0; n < 12; ++n) {
      QTest::qWait(40);
      QVERIFY2(player.place_s() < 1.25 && player.place_s() > 0.99, qPrintable(QString::number(player.place_s())));
    }
    player.set_loop({});
    player.seek(5.9);
    QTRY_VERIFY_WITH_TIMEOUT(!player.is_playing(), 5000);  // it ends by itself and goes back
    QTRY_VERIFY(player.place_s() < 0.1);
  }

  void a_file_that_vanished_is_silence_and_no_crash() {
    const auto sound = Programme(2, 5).render(48000);
    const auto file = save(folder_ / "gone.wav", sound, 48000);
    const auto clip = Clip::open(file);
    Fit fit;
    fit.pairs = plain_pairs(2, 2);
    set_overlap(fit, sound.frames(), sound.frames());
    Player player(simulated_output());
    player.set_source({clip, clip}, fit);
    QVERIFY(player.has_source());
    std::filesystem::remove(file);
    fit.gain_db = -1;
    QSignalSpy told(&player, &Player::failed);
    player.set_source({clip, clip}, fit);
    QVERIFY(!player.has_source());
    QVERIFY(told.count() == 1 && told[0][0].toString().contains("gone.wav"));
    player.play();
    QVERIFY(!player.is_playing());
  }

  void a_file_that_goes_or_breaks_off_while_it_is_heard_is_told() {
    for (const bool deleted : {true, false}) {
      const auto sound = Programme(4, 5).render(48000);
      const auto file = save(folder_ / (deleted ? "deleted.wav" : "cut.wav"), sound, 48000),
                 other = save(folder_ / "other.wav", sound, 48000);
      Player player(simulated_output());
      QSignalSpy told(&player, &Player::failed);
      player.set_source({Clip::open(other), Clip::open(file)}, whole_fit(sound.frames()));
      player.play();
      QTRY_VERIFY_WITH_TIMEOUT(player.place_s() > 0.05, 5000);
      if (deleted)
        std::filesystem::remove(file);
      else
        std::filesystem::resize_file(file, 100000);
      QTRY_COMPARE_WITH_TIMEOUT(told.count(), 1, 8000);
      QVERIFY2(told[0][0].toString().contains(QString::fromStdString(file.filename().string())),
               qPrintable(told[0][0].toString()));
      QVERIFY(!player.is_playing() && !player.has_source());
    }
  }

  /// A loop that was made on a longer trial: what lies behind the end of a shorter one is no loop there.
  void a_loop_behind_the_end_is_none() {
    const auto sound = Programme(1, 5).render(48000);
    const auto clip = Clip::open(save(folder_ / "short.wav", sound, 48000));
    Player player(simulated_output());
    player.set_loop(std::pair{10.0, 15.0});
    player.set_source({clip, clip}, whole_fit(sound.frames()));
    player.seek(0.8);
    player.play();
    QTRY_VERIFY_WITH_TIMEOUT(!player.is_playing(), 5000);  // to its end, and back
    player.set_loop(std::pair{0.5, 15.0});                 // begins inside: cut to what is there
    player.seek(0.9);
    player.play();
    QTRY_VERIFY_WITH_TIMEOUT(player.place_s() < 0.8 && player.place_s() >= 0.5, 5000);
    QVERIFY(player.is_playing());
  }

  /// Random sound, random jumps: nothing steps further than the fade is steep, and away from jumps every sample is as
  /// it was.
  void a_seam_has_no_step() {
    dsp::Noise chance(21);
    for (const double rate : {44100.0, 48000.0, 192000.0}) {
      Seam seam(rate);
      const int fade = int(std::lround(Seam::fade_s * rate));
      std::vector<double> in, out;
      int since = fade;  // frames since the last jump
      double level = 0.3, worst = 0;
      for (int block = 0; block < 400; ++block) {
        std::vector<double> some(2 * size_t(chance.between(1, 400)), level);
        if (chance.uniform() < 0.1) seam.jump(), since = 0, level = chance.between(-1, 1);
        std::fill(some.begin(), some.end(), level);
        const auto before = some;
        seam.process(some);
        for (size_t n = 0; n < some.size(); n += 2, ++since)
          if (since >= fade) QCOMPARE(some[n], before[n]);
        out.insert(out.end(), some.begin(), some.end());
      }
      for (size_t n = 2; n < out.size(); n += 2) worst = std::max(worst, std::abs(out[n] - out[n - 2]));
      QVERIFY2(worst < 2 * 1.6 / fade,
               qPrintable(QString::number(worst)));  // of 2 from end to end, pi / 2 / fade a frame
      QVERIFY(worst > 0.1 / fade);
    }
  }

  /// Start, seek, loop ends and stop of the real player: a slow sine at -6 dBFS never steps like a click.
  void start_stop_seek_and_loop_do_not_click() {
    Planar sine(2, 3 * 48000);
    for (int64_t n = 0; n < sine.frames(); ++n)
      sine.channel(0)[n] = sine.channel(1)[n] = 0.5 * std::sin(2 * std::numbers::pi * 50 * double(n) / 48000 + 1);
    const auto file = Clip::open(save(folder_ / "slow.wav", sine, 48000));
    auto* device = new HandDevice;
    Player player{std::unique_ptr<OutputDevice>(device)};
    Fit fit;
    fit.pairs = plain_pairs(2, 2), fit.trusted = true;
    set_overlap(fit, sine.frames(), sine.frames());
    player.set_source({file, file}, fit);
    player.set_loop(std::pair{0.5, 0.5537});  // its ends do not meet
    player.seek(0.5);
    player.play();
    std::vector<double> heard{0, 0};
    const auto hear = [&](int blocks) {  // all that comes, silence too where nothing was read yet
      std::vector<double> some(2 * 128);
      for (int n = 0; n < blocks;) {
        const double before = player.place_s();
        device->render(some);
        heard.insert(heard.end(), some.begin(), some.end());
        player.place_s() == before ? QThread::msleep(1) : void(++n);
      }
    };
    hear(100);
    player.set_loop({});
    player.seek(2.123);
    hear(50);
    player.pause();
    std::vector<double> tail(2 * 1024);
    QVERIFY(device->render);  // it fades out
    device->render(tail);
    heard.insert(heard.end(), tail.begin(), tail.end());
    double worst = 0, loud = 0;
    for (size_t n = 2; n < heard.size(); n += 2) {
      worst = std::max(worst, std::abs(heard[n] - heard[n - 2]));
      loud = std::max(loud, std::abs(heard[n]));
    }
    const double of_the_sine = 0.5 * 2 * std::numbers::pi * 50 / 48000, of_a_fade = 1.0 * std::numbers::pi / 2 / 240;
    QVERIFY(loud > 0.45);
    QVERIFY2(worst < of_the_sine + of_a_fade, qPrintable(QString::number(worst)));  // a click would be 0.5 and more
    QCOMPARE(tail.back(), 0.0);
    QTRY_VERIFY(!device->render);  // and the device is let go
  }

  void a_band_is_heard_alone() {
    const int rate = 48000;
    dsp::BandPass pass(rate, 1000, 2000);
    auto level = [&](double hz) {
      dsp::BandPass fresh(rate, 1000, 2000);
      double sum = 0;
      for (int n = 0; n < rate; ++n) {
        const double y = fresh.run(std::sin(2 * std::numbers::pi * hz * n / rate));
        if (n > rate / 2) sum += 2 * y * y;
      }
      return 10 * std::log10(sum / (rate / 2));
    };
    QVERIFY(std::abs(level(1414)) < 0.6);                                         // inside
    QVERIFY(std::abs(level(1000) + 3) < 0.6 && std::abs(level(2000) + 3) < 0.6);  // Butterworth edges
    QVERIFY(std::abs(level(250) + 48) < 1.5 && level(8000) < -48);                // 24 dB an octave
    QVERIFY(pass.run(0) == 0);
    dsp::BandPass narrow(8000, 3990, 20000);  // beyond the rate: still stable
    for (int n = 0; n < 100000; ++n) QVERIFY(std::abs(narrow.run(n == 0)) < 10);
  }

  void a_cause_is_heard_alone_and_the_return_without_it() {
    const int rate = 48000;
    const Planar sound = Programme(2, 4).render(rate), part = scaled(Programme(2, 5).render(rate), 0.1);
    Planar ret = sound;  // the left comes back inverted, both at half the level, with the part in them
    for (int c = 0; c < 2; ++c)
      for (size_t n = 0; n < size_t(ret.frames()); ++n)
        ret.channel(c)[n] = (c == 0 ? -0.5 : 0.5) * (sound.channel(c)[n] + part.channel(c)[n]);
    auto device = std::make_unique<HandDevice>();
    HandDevice& hand = *device;
    Player player(std::move(device));
    const auto clip = [&](const char* name, const Planar& s) { return Clip::open(save(folder_ / name, s, rate)); };
    Fit fit = whole_fit(sound.frames());
    fit.gain_db = 20 * std::log10(0.5), fit.pairs[0].inverted = true;
    player.set_source({clip("m.wav", sound), clip("r.wav", ret)}, fit);
    const auto heard = [&](Heard what) {
      player.pause();
      player.set_mix({what, 1, 0});
      return pull_from(player, hand, 0.25, 4096);
    };
    const auto is = [&](const std::vector<double>& out, const auto& expected) {
      double worst = out.size() < 2 * 4096;
      for (size_t n = size_t(Seam::fade_s * rate); 2 * n + 1 < out.size() && n < 4096; ++n)
        for (int c = 0; c < 2; ++c)
          worst = std::max(worst, std::abs(out[2 * n + size_t(c)] - expected(c, size_t(rate / 4) + n)));
      return worst < 1e-9;
    };
    const auto of_part = [&](int c, size_t n) { return part.channel(c)[n]; };
    QVERIFY(is(heard(Heard::residual), of_part));  // it is all there is
    player.set_cause(clip("half.wav", scaled(part, 0.5)));
    QVERIFY(is(heard(Heard::residual), [&](int c, size_t n) { return 0.5 * part.channel(c)[n]; }));
    QVERIFY(is(heard(Heard::ret), [&](int c, size_t n) {
      return (c == 0 ? -0.5 : 0.5) * (sound.channel(c)[n] + 0.5 * part.channel(c)[n]);
    }));
    QVERIFY(is(heard(Heard::master), [&](int c, size_t n) { return sound.channel(c)[n]; }));
    player.set_cause(nullptr);
    QVERIFY(is(heard(Heard::residual), of_part));
    player.set_cause(clip("half.wav", part));
    player.set_source({clip("m.wav", sound), clip("r.wav", ret)}, fit);  // another one: nothing of the last is left
    QVERIFY(is(heard(Heard::ret), [&](int c, size_t n) { return ret.channel(c)[n]; }));
    player.pause();
  }

  /// A cause that takes long to be worked out: no key waits for it, and nothing that was asked before is heard after.
  void keys_do_not_wait_for_what_is_read() {
    const auto sound = Programme(2, 4).render(48000);
    const auto clip = Clip::open(save(folder_ / "slow.wav", sound, 48000));
    GatedClip::Gate gate;
    auto device = std::make_unique<HandDevice>();
    HandDevice& hand = *device;
    Player player(std::move(device));
    player.set_source({clip, clip}, whole_fit(sound.frames()));
    player.set_cause(std::make_shared<GatedClip>(*clip, gate));
    player.set_mix({Heard::master, 1, 0});
    player.play();
    QVERIFY(gate.came.try_acquire_for(std::chrono::seconds(10)));
    std::jthread late([&](std::stop_token stop) {  // opens the gate where a key would wait for ever
      for (int n = 0; n < 500 && !stop.stop_requested(); ++n)
        std::this_thread::sleep_for(std::chrono::milliseconds(10));
      gate.open.release();
    });
    const auto begun = std::chrono::steady_clock::now();
    player.set_loop(std::pair{0.1, 1.0});
    player.set_band(std::pair{100.0, 200.0});
    player.set_band(std::nullopt);
    player.set_mix({Heard::master, 1, 0});
    player.seek(0.5);
    player.set_cause(nullptr);
    QVERIFY(std::chrono::steady_clock::now() - begun < std::chrono::seconds(4));
    QCOMPARE(player.place_s(), 0.5);
    late.request_stop();
    const auto out = pull(player, hand, 1024);  // the block that was read meanwhile, from the beginning, is thrown away
    for (size_t n = size_t(Seam::fade_s * 48000); n < 1024; ++n)
      QVERIFY(std::abs(out[2 * n] - sound.channel(0)[24000 + n]) < 1e-9);
    player.pause();
  }

  void a_device_at_another_rate_loses_no_sample() {
    for (const auto& [from, to] : {std::pair{44100, 48000}, {48000, 44100}, {96000, 48000}, {44100, 192000}}) {
      RateBridge bridge(from, to);
      int64_t asked = 0;
      const double turn = 2 * std::numbers::pi * 997 / from;
      auto render = [&](std::span<double> out) {
        for (size_t n = 0; n < out.size(); n += 2, ++asked)
          out[n] = std::sin(turn * double(asked)), out[n + 1] = -out[n];
      };
      std::vector<double> made;
      dsp::Noise chance(7);
      while (made.size() < size_t(to)) {
        std::vector<double> block(2 * (1 + size_t(chance.between(0, 700))));
        bridge.fill(block, render);
        made.insert(made.end(), block.begin(), block.end());
      }
      // a sine obeys x[n+1] = 2 cos(w) x[n] - x[n-1]; a lost or doubled sample breaks that
      const double twice = 2 * std::cos(2 * std::numbers::pi * 997 / to);
      for (size_t n = made.size() / 4 * 2; n + 2 < made.size(); n += 2) {
        QVERIFY(std::abs(made[n + 2] + made[n - 2] - twice * made[n]) < 1e-4);
        QVERIFY(std::abs(made[n] + made[n + 1]) < 1e-9);
      }
    }
  }

 private:
  Folder folder_;
};

QTEST_GUILESS_MAIN(TestListen)
#include "test_listen.moc"
