// A/B through a process, live: the master that is heard is the one that belongs to what comes back, both are equally
// loud, neither clips, and switching changes nothing but what is heard. On the stand-in, whose truth is known.
#include <QtTest>
#include <cmath>
#include <thread>

#include "core/devices/live_comparison.hpp"
#include "core/devices/monitor.hpp"
#include "core/dsp/decibels.hpp"
#include "core/measure/meter.hpp"
#include "tests/support/signals.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

template <class Condition>
bool in_time(Condition condition) {
  for (int n = 0; n < 12000 && !condition(); ++n) std::this_thread::sleep_for(std::chrono::milliseconds(5));
  return condition();
}

MonitorPlan plan_of(const std::string& loop, const std::filesystem::path& master) {
  MonitorPlan plan{.history_s = 0, .play = Clip::open(master)};
  plan.stream = {.input = loop_name(),
                 .output = loop_name(),
                 .sample_rate_hz = plan.play->format().sample_rate_hz,
                 .loop = loop_settings(loop)};
  plan.listen = {loop_name(), 2};
  return plan;
}

/// A comparison on the stand-in whose listening outputs come back, too: channels 0 and 1 are the return, 2 and 3 what
/// was heard (once more through the loop), 4 and 5 the master.
class Bed {
 public:
  Bed(const std::string& loop, const std::filesystem::path& master, int64_t frames)
      : plan_(plan_of(loop, master)), live_(widened(plan_)), came_(1 << 16), sent_(1 << 16) {
    live_.match(false);
    wanted_ = size_t(frames) * 6;
  }
  LiveComparison& live() { return live_; }
  const std::vector<double>& all() const { return all_; }
  double at(size_t frame, int channel) const { return all_[frame * 6 + size_t(channel)]; }
  size_t frames() const { return all_.size() / 6; }

  /// Until so many frames came; `each` is called about a hundred times a second of sound.
  void run(const std::function<void(size_t)>& each = {}) {
    const auto reader = plan_.play->reader();
    const auto length = plan_.play->format().frames;
    int64_t at = 0;
    Planar block;
    const auto feed = [&] {
      while (at < length && sent_.write_available() > 2048) {
        const auto count = std::min<int64_t>(512, length - at);
        reader->read(at, count, block);
        for (int64_t n = 0; n < count; ++n)
          for (int c = 0; c < 2; ++c) sent_.push(block.channel(c)[size_t(n)]);
        at += count;
      }
    };
    feed();
    const auto stream = open_stream(live_.order(), [&](const StreamBlock& b) {
      if (came_.write_available() < size_t(b.frames) * 6) return false;
      if (live_.has_begun() && at < length && sent_.read_available() < size_t(b.frames) * 2) return false;
      live_.pass(b, sent_, came_);
      return true;
    });
    std::vector<double> piece(480 * 6), in(480 * 4), master(480 * 2), ret(480 * 2);
    LiveMeter meter(plan_.stream.sample_rate_hz);
    while (all_.size() < wanted_) {
      feed();
      const size_t count = came_.pop(piece.data(), piece.size()) / 6;
      if (count == 0) {
        std::this_thread::sleep_for(std::chrono::microseconds(50));
        continue;
      }
      in.resize(count * 4), master.resize(count * 2), ret.resize(count * 2);
      for (size_t n = 0; n < count; ++n) {
        std::copy_n(&piece[n * 6], 4, &in[n * 4]);
        std::copy_n(&piece[n * 6], 2, &ret[n * 2]);
        std::copy_n(&piece[n * 6 + 4], 2, &master[n * 2]);
      }
      if (!live_.has_begun()) {
        live_.listen_for_mark(in);
        continue;
      }
      meter.add(ret);
      live_.measure(master, meter.reading());
      all_.insert(all_.end(), piece.begin(), piece.begin() + std::ptrdiff_t(count * 6));
      if (each) each(frames());
    }
  }

 private:
  static MonitorPlan widened(MonitorPlan plan) {
    plan.stream.inputs = 4;
    return plan;
  }
  MonitorPlan plan_;
  LiveComparison live_;
  LiveComparison::Ring came_, sent_;
  std::vector<double> all_;
  size_t wanted_;
};

double loudness_of(const Bed& bed, int channel, size_t from, size_t until, int rate) {
  LiveMeter meter(rate);
  std::vector<double> stereo;
  for (size_t n = from; n < until; ++n)
    for (int c = 0; c < 2; ++c) stereo.push_back(bed.at(n, channel + c));
  meter.add(stereo);
  return meter.reading().integrated_lufs.value_or(-300);
}

}  // namespace

class TestLiveComparison : public QObject {
  Q_OBJECT

 private slots:
  // ---- the switch by itself -----------------------------------------------------------------------------------------
  void the_master_is_as_late_as_its_return() {
    LiveSwitch both(48000);
    both.set_delay(700);
    for (int n = 0; n < 5000; ++n) {
      const auto passed = both.pass({n * 1e-5, -n * 1e-5}, {0, 0});
      QCOMPARE(passed.master[0], n < 700 ? 0 : (n - 700) * 1e-5);
      QCOMPARE(passed.heard[1], -passed.master[0]);
    }
    both.set_delay(1 << 30);  // never beyond what it keeps
    QCOMPARE(both.pass({1, 1}, {0, 0}).master[0], 0.0);
  }
  void switching_fades_and_ends_where_it_should() {
    LiveSwitch both(48000);
    both.set_return_gain(dsp::gain_of(-6));
    for (int n = 0; n < 48000; ++n) both.pass({0.5, 0.5}, {-0.25, 0.25});
    both.hear_return(true);
    double last = 0.5, steepest = 0;
    for (int n = 0; n < 480; ++n) {  // 10 ms
      const auto heard = both.pass({0.5, 0.5}, {-0.25, 0.25}).heard;
      steepest = std::max(steepest, std::abs(heard[0] - last));
      last = heard[0];
    }
    QVERIFY(steepest < 0.002);
    QVERIFY(std::abs(last + 0.25 * dsp::gain_of(-6)) < 1e-6);
    both.hear_return(false);
    for (int n = 0; n < 480; ++n) last = both.pass({0.5, 0.5}, {-0.25, 0.25}).heard[0];
    QVERIFY(std::abs(last - 0.5) < 1e-9);
  }
  /// Whatever comes: no sample above full scale, and the same trim whichever is heard.
  void neither_clips() {
    for (const unsigned seed : {1u, 2u, 3u}) {
      dsp::Noise chance(seed);
      LiveSwitch first(8000), second(8000);
      for (LiveSwitch* s : {&first, &second}) s->set_return_gain(dsp::gain_of(10));
      second.hear_return(true);
      for (int n = 0; n < 20000; ++n) {
        if (n % 700 == 0) first.hear_return(chance.uniform() < 0.5);
        const LiveSwitch::Frame sent{chance.uniform() * 2 - 1, 0.3}, came{chance.uniform() * 2 - 1, 0.1};
        const auto a = first.pass(sent, came), b = second.pass(sent, came);
        for (const double x : {a.heard[0], a.heard[1], b.heard[0], b.heard[1]}) QVERIFY(std::abs(x) <= 1);
        QCOMPARE(first.trim(), second.trim());
      }
      QVERIFY(std::abs(dsp::db_of(first.trim()) + 10) < 0.2);
      first.restore();
      first.pass({0.1, 0.1}, {0.1, 0.1});
      QCOMPARE(first.trim(), 1.0);
    }
  }

  // ---- on the stand-in ----------------------------------------------------------------------------------------------
  /// What is heard, and the master that is measured beside the return, sample for sample.
  void what_is_heard_is_what_it_says() {
    const Folder folder;
    const int rate = 48000;
    const auto master = save(folder / "master.wav", Programme(6, 11).render(rate), rate);
    Bed bed("clock=0,gain_db=-6,delay_samples=1500", master, 5 * rate);
    bed.run([&](size_t frames) { bed.live().hear_return(frames > size_t(3 * rate)); });
    const double loop = dsp::gain_of(-6);
    QVERIFY(std::abs(*bed.live().reading().round_trip_samples - 1500) < 0.05);
    size_t music = 0;
    for (size_t n = 2000; n < bed.frames(); ++n)
      for (int c = 0; c < 2; ++c) {
        QVERIFY2(std::abs(bed.at(n, c) - loop * bed.at(n, 4 + c)) < 1e-9, qPrintable(QString::number(n)));
        music += std::abs(bed.at(n, c)) > 1e-3;
      }
    QVERIFY(music > size_t(rate));
    // what was heard came round the loop once more; until the switch it was the master, at the end the return
    for (size_t n = size_t(rate); n < size_t(2 * rate); ++n)
      QVERIFY(std::abs(bed.at(n + 1500, 2) - loop * bed.at(n, 4)) < 1e-9);
    const size_t end = bed.frames() - 1500;
    for (size_t n = end - size_t(rate / 4); n < end; ++n)
      QVERIFY(std::abs(bed.at(n + 1500, 3) - loop * bed.at(n, 1)) < 1e-9);
  }
  void both_are_equally_loud_data() {
    QTest::addColumn<QString>("loop");
    QTest::addColumn<int>("rate");
    QTest::addColumn<double>("gain");
    QTest::newRow("softer") << "gain_db=-9" << 48000 << 9.0;
    QTest::newRow("louder") << "gain_db=5" << 44100 << -5.0;
    QTest::newRow("inverted, 16 bits, noise") << "gain_db=-3,inverted=1,bits=16,noise_dbfs=-80" << 96000 << 3.0;
  }
  void both_are_equally_loud() {
    QFETCH(QString, loop);
    QFETCH(int, rate);
    QFETCH(double, gain);
    const Folder folder;
    auto sound = Programme(12, 5).render(rate);
    for (int c = 0; c < 2; ++c)
      for (double& x : sound.channel(c)) x *= 0.25;
    Bed bed("clock=0,delay_samples=900.4," + loop.toStdString(), save(folder / "m.wav", sound, rate), 11 * rate);
    bed.live().match(true);
    bed.run([&](size_t frames) { bed.live().hear_return(frames > size_t(7 * rate)); });
    const auto r = bed.live().reading();
    QVERIFY2(std::abs(r.return_gain_db - gain) < 0.05, qPrintable(QString::number(r.return_gain_db)));
    QVERIFY(r.trim_db > -0.01 && r.matched && r.hears_return);
    const auto loudness = [&](int channel, double from, double until) {
      return loudness_of(bed, channel, size_t(from * rate), size_t(until * rate), rate);
    };
    // against the master of the same moments: what is heard comes back through the loop once more, and so much later
    const auto heard = [&](double from, double until) {
      const double later = 900.4 / rate;
      return loudness(2, from + later, until + later) - loudness(4, from, until);
    };
    const double as_master = heard(4, 6.5), as_return = heard(8, 10.5);
    QVERIFY2(std::abs(as_master - as_return) < 0.01, qPrintable(QString("%1, %2").arg(as_master).arg(as_return)));
    QVERIFY(std::abs(as_master + gain) < 0.01);
  }
  /// A pause says nothing of a process: the gain stays.
  void a_quiet_moment_moves_nothing() {
    const Folder folder;
    const int rate = 48000;
    auto sound = Programme(9, 8).render(rate);
    for (int c = 0; c < 2; ++c)
      for (size_t n = size_t(4 * rate); n < size_t(9 * rate); ++n) sound.channel(c)[n] *= 1e-5;
    Bed bed("clock=0,gain_db=-4,noise_dbfs=-60", save(folder / "m.wav", sound, rate), 8 * rate);
    bed.live().match(true);
    bed.run();
    QVERIFY2(std::abs(bed.live().reading().return_gain_db - 4) < 0.1,
             qPrintable(QString::number(bed.live().reading().return_gain_db)));
  }

  // ---- all of it ----------------------------------------------------------------------------------------------------
  void a_monitor_tells_it() {
    const Folder folder;
    const auto master = save(folder / "m.wav", Programme(3, 4).render(48000), 48000);  // goes round and round
    Monitor monitor(plan_of("clock=0,gain_db=-8", master));
    QVERIFY(in_time([&] { return monitor.reading().seconds > 20; }));
    const auto r = monitor.reading();
    QVERIFY(r.live && r.live->begun && r.lost.empty());
    QCOMPARE(r.interruptions, 0);
    QVERIFY(std::abs(*r.live->round_trip_samples - 1024) < 0.05);
    QVERIFY2(std::abs(r.live->return_gain_db - 8) < 0.05, qPrintable(QString::number(r.live->return_gain_db)));
    QVERIFY(std::abs(*r.live->master_lufs - *r.live->return_lufs - 8) < 0.05);
    QCOMPARE(r.live->master_spectrum.size(), monitor.hz().size());
    for (size_t n = 60; n < 200; n += 20)  // the same music, 8 dB lower
      QVERIFY(std::abs(r.live->master_spectrum[n] - r.spectrum.average[n] - 8) < 0.2);
    monitor.hear_return(true), monitor.match(false);
    QVERIFY(in_time([&] { return monitor.reading().live->hears_return && !monitor.reading().live->matched; }));
  }
  /// However the threads run: what a reading says of the master and of the return is of the same sound.
  void a_reading_is_of_one_moment() {
    const Folder folder;
    Monitor monitor(plan_of("clock=0,gain_db=-8", save(folder / "m.wav", Programme(3, 4).render(48000), 48000)));
    QVERIFY(in_time([&] { return monitor.reading().live->begun && monitor.reading().seconds > 1; }));
    double worst_db = 0;
    int readings = 0;
    for (auto r = monitor.reading(); r.seconds < 20; r = monitor.reading()) {
      for (size_t n = 60; n < 200; n += 20) {
        const double master_db = r.live->master_spectrum[n], return_db = r.spectrum.average[n];
        if (master_db < -150 && return_db < -150) continue;  // nothing was played yet
        worst_db = std::max(worst_db, std::abs(master_db - return_db - 8)), ++readings;
      }
      std::this_thread::sleep_for(std::chrono::microseconds(300));
    }
    QVERIFY2(readings > 50 && worst_db < 0.01, qPrintable(QString("%1 readings, %2 dB").arg(readings).arg(worst_db)));
  }
  /// A process that swallows the mark: it is told, and the two are heard all the same.
  void a_mark_that_does_not_come_back_is_told() {
    const Folder folder;
    auto plan = plan_of("clock=0", save(folder / "m.wav", Programme(3, 4).render(48000), 48000));
    plan.stream.first_input = 2;  // nothing is wired to these but what is heard
    Monitor monitor(plan);
    QVERIFY(in_time([&] { return monitor.reading().live->begun; }));
    QVERIFY(!monitor.reading().live->round_trip_samples);
  }
  void what_can_be_listened_to_never_sends() {
    std::vector<Device> all(4);
    for (size_t n = 0; n < all.size(); ++n) {
      all[n].name = "desk " + std::to_string(n);
      all[n].inputs = 2, all[n].outputs = n == 0 ? 6 : 2;
      all[n].rates_hz = {n == 1 ? 44100 : 48000};
      all[n].stand_in = n == 3;
    }
    using Pairs = std::vector<OutputPair>;
    StreamOrder order{.input = "desk 0", .output = "desk 0", .sample_rate_hz = 48000};
    QCOMPARE(outputs_beside(all, order), (Pairs{{"desk 0", 2}, {"desk 0", 4}, {"desk 2", 0}}));
    order.first_output = 3, order.outputs = 1;
    QCOMPARE(outputs_beside(all, order), (Pairs{{"desk 0", 0}, {"desk 0", 4}, {"desk 2", 0}}));
    order.output = "desk 3", order.first_output = 0, order.outputs = 2;
    QVERIFY(outputs_beside(all, order).empty());
    order.output.clear();
    QVERIFY(outputs_beside(all, order).empty());
  }
  void what_cannot_be_heard_is_refused() {
    const Folder folder;
    const auto master = save(folder / "m.wav", Programme(1, 4).render(48000), 48000);
    auto plan = plan_of("clock=0", master);
    plan.listen->first = 1;
    QVERIFY_THROWS_EXCEPTION(std::invalid_argument, Monitor{plan});
    plan.listen->first = 3;  // it has four outputs
    QVERIFY_THROWS_EXCEPTION(DeviceError, Monitor{plan});
    plan.listen = {"a device that is not there", 0};
    QVERIFY_THROWS_EXCEPTION(std::invalid_argument, Monitor{plan});
    plan = plan_of("clock=0", master);
    plan.play = nullptr;
    QVERIFY_THROWS_EXCEPTION(std::invalid_argument, Monitor{plan});
  }
};

QTEST_GUILESS_MAIN(TestLiveComparison)
#include "test_live_comparison.moc"
