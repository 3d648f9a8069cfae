// Watching an input: what is shown is what the meters say, the last hour is kept to the bit, and nothing grows.
#include <QtTest>
#include <cmath>
#include <fstream>
#include <thread>

#include "core/devices/monitor.hpp"
#include "core/measure/meter.hpp"
#include "tests/support/share.hpp"
#include "tests/support/signals.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

std::vector<double> interleaved(const Planar& sound) {
  std::vector<double> x(size_t(sound.frames()) * 2);
  for (size_t n = 0; n < size_t(sound.frames()); ++n)
    for (size_t c = 0; c < 2; ++c) x[2 * n + c] = sound.channel(int(c))[n];
  return x;
}

/// Noise whose level goes up and down in steps.
Planar steps(int rate_hz, const std::vector<std::pair<double, double>>& seconds_and_db) {
  int64_t frames = 0;
  for (const auto& [s, db] : seconds_and_db) frames += int64_t(s * rate_hz);
  Planar x(2, frames);
  dsp::Noise noise(3);
  int64_t at = 0;
  for (const auto& [s, db] : seconds_and_db)
    for (const int64_t end = at + int64_t(s * rate_hz); at < end; ++at)
      for (int c = 0; c < 2; ++c) x.channel(c)[size_t(at)] = std::pow(10, db / 20) * noise.gaussian();
  return x;
}

MonitorPlan plan_of(const std::string& loop, int rate_hz = 48000, double history_s = 60) {
  MonitorPlan plan{.history_s = history_s};
  plan.stream = {.input = "Stand-in converter loop", .sample_rate_hz = rate_hz, .loop = loop_settings(loop)};
  return plan;
}

int64_t resident_kib() {
  std::ifstream status("/proc/self/status");
  for (std::string line; std::getline(status, line);)
    if (line.starts_with("VmRSS:")) return std::stoll(line.substr(6));
  return 0;
}

template <class Condition>
bool in_time(Condition condition) {
  for (int n = 0; n < 24000 && !condition(); ++n) std::this_thread::sleep_for(std::chrono::milliseconds(5));
  return condition();
}

}  // namespace

class TestMonitor : public QObject {
  Q_OBJECT

 private slots:
  /// The running meter against the one that has the whole programme (which libebur128 is a witness of elsewhere).
  void the_running_meter_ends_where_the_whole_one_does_data() {
    QTest::addColumn<int>("rate");
    QTest::newRow("44.1 kHz") << 44100;
    QTest::newRow("48 kHz") << 48000;
    QTest::newRow("96 kHz") << 96000;
  }
  void the_running_meter_ends_where_the_whole_one_does() {
    QFETCH(int, rate);
    const Folder folder;
    const auto sound = steps(rate, {{8, -40}, {8, -22}, {6, -30}, {5, -70}, {9, -18}});
    const auto whole = measure_loudness(*Clip::open(save(folder / "a.wav", sound, rate)));
    LiveMeter meter(rate);
    meter.add(interleaved(sound));
    const auto r = meter.reading();
    QVERIFY2(std::abs(*r.integrated_lufs - *whole.integrated_lufs) < 0.02,
             qPrintable(QString("%1, %2").arg(*r.integrated_lufs).arg(*whole.integrated_lufs)));
    QVERIFY2(std::abs(*r.range_lu - whole.range->lu()) < 0.1,
             qPrintable(QString("%1, %2").arg(*r.range_lu).arg(whole.range->lu())));
    QVERIFY(std::abs(*r.momentary_max_lufs - *whole.momentary_max_lufs) < 0.2);
    QVERIFY(std::abs(*r.short_term_max_lufs - *whole.short_term_max_lufs) < 0.05);
    meter.reset();
    meter.add(interleaved(steps(rate, {{4, -30}})));
    QVERIFY(*meter.reading().range_lu < 1 && *meter.reading().momentary_max_lufs < -20);
  }
  /// EBU Tech 3342, table 1: 20 s of one level and 20 s of another are as far apart as they are.
  void the_range_of_two_levels_is_their_distance() {
    for (const double apart : {10.0, 5.0, 15.0}) {
      const int rate = 48000;
      Planar x(2, rate * 40);
      for (int64_t n = 0; n < x.frames(); ++n)
        for (int c = 0; c < 2; ++c)
          x.channel(c)[size_t(n)] =
              std::pow(10, (n < rate * 20 ? -20 - apart : -20) / 20) * std::sin(2 * M_PI * 1000 * double(n) / rate);
      LiveMeter meter(rate);
      meter.add(interleaved(x));
      QVERIFY2(std::abs(*meter.reading().range_lu - apart) < 0.15,
               qPrintable(QString::number(*meter.reading().range_lu)));
    }
  }
  void white_noise_is_flat_and_peaks_stay_until_the_reset() {
    const int rate = 48000;
    LiveSpectrum spectrum(rate);
    QVERIFY(spectrum.lines().momentary.empty());
    spectrum.add(interleaved(steps(rate, {{20, -20}})));
    const auto lines = spectrum.lines();
    // a mean square of 0.01 over all bins up to half the rate
    const double block = 0.17 * rate, level = -20 - 10 * std::log10(block / 2);
    for (size_t n = 100; n < lines.average.size(); ++n) {
      QVERIFY2(std::abs(lines.average[n] - level) < 0.6, qPrintable(QString("%1: %2").arg(n).arg(lines.average[n])));
      QVERIFY(lines.held[n] >= lines.average[n]);
    }
    QVERIFY(std::is_sorted(spectrum.hz().begin(), spectrum.hz().end()));
    spectrum.reset();
    spectrum.add(interleaved(steps(rate, {{3, -60}})));
    const auto after = spectrum.lines();
    QVERIFY(after.held[200] < level - 25 && std::abs(after.average[200] - (level - 40)) < 3);
    QVERIFY(std::abs(after.momentary[200] - (level - 40)) < 3);  // what was before is forgotten
  }
  void a_tone_stands_where_it_is() {
    for (const int rate : {44100, 192000}) {
      LiveSpectrum spectrum(rate);
      Planar x(2, rate * 2);
      for (int64_t n = 0; n < x.frames(); ++n)
        x.channel(0)[size_t(n)] = x.channel(1)[size_t(n)] = 0.5 * std::sin(2 * M_PI * 997 * double(n) / rate);
      spectrum.add(interleaved(x));
      const auto line = spectrum.lines().average;
      const auto top = size_t(std::max_element(line.begin(), line.end()) - line.begin());
      QVERIFY2(std::abs(spectrum.hz()[top] / 997 - 1) < 0.04, qPrintable(QString::number(spectrum.hz()[top])));
    }
  }

  // ---- the history --------------------------------------------------------------------------------------------------
  void the_last_seconds_are_kept_to_the_bit() {
    const Folder folder;
    const int rate = 8000;
    AudioHistory history(rate, 5);
    const auto sound = requantised(Programme(40, 2).render(rate), 24, false);
    const auto samples = interleaved(sound);
    dsp::Noise chance(9);
    size_t at = 0;
    while (at < samples.size()) {  // pieces of any length
      const size_t count = std::min(samples.size() - at, 2 * size_t(1 + chance.uniform() * 3000));
      QVERIFY(history.add(std::span(samples).subspan(at, count)));
      at += count;
      QCOMPARE(history.end(), int64_t(at / 2));
      std::vector<double> back(200);
      if (history.end() < 200) continue;
      const auto first = history.begin() + int64_t(chance.uniform() * double(history.end() - history.begin() - 100));
      QVERIFY(history.read(first, back));
      for (size_t n = 0; n < back.size(); ++n) QCOMPARE(back[n], samples[size_t(first) * 2 + n]);
    }
    std::vector<double> old(200);
    QVERIFY(!history.read(0, old));
    QVERIFY(!history.read(history.end() - 50, old));
    history.write(history.end() - rate * 3, history.end(), Destination(folder / "kept.wav"), {});
    const auto clip = Clip::open(folder / "kept.wav");
    QCOMPARE(clip->format().frames, rate * 3);
    Planar kept;
    clip->reader()->read(0, rate * 3, kept);
    for (size_t n = 0; n < size_t(rate) * 3; ++n)
      QCOMPARE(kept.channel(1)[n], sound.channel(1)[size_t(sound.frames()) - size_t(rate) * 3 + n]);
    QVERIFY_THROWS_EXCEPTION(InputError, history.write(0, 100, Destination(folder / "old.wav"), {}));
    QVERIFY_THROWS_EXCEPTION(OutputRefused,
                             history.write(history.end() - 100, history.end(), Destination(folder / "kept.wav"), {}));
    QVERIFY(!std::filesystem::exists(folder / "old.wav"));
  }

  // ---- all of it ----------------------------------------------------------------------------------------------------
  void an_input_is_measured_and_kept() {
    const Folder folder;
    Monitor monitor(plan_of("clock=0,noise_dbfs=-30"));
    QVERIFY(in_time([&] { return monitor.reading().seconds > 30; }));
    const auto r = monitor.reading();
    const int64_t end = monitor.history()->end();
    monitor.history()->write(end - 48000 * 10, end, Destination(folder / "kept.wav"), {});
    const auto whole = measure_loudness(*Clip::open(folder / "kept.wav"));
    QVERIFY(std::abs(*r.loudness.integrated_lufs - *whole.integrated_lufs) < 0.1);
    QVERIFY(std::abs(*r.plr_db - (*r.loudness.true_peak_dbtp - *r.loudness.integrated_lufs)) < 1e-9);
    QVERIFY(std::abs(*r.loudness.correlation) < 0.1);
    QVERIFY(r.peak[0] > 0.05 && r.held_peak[0] >= r.peak[0] && r.stereo.size() > 500 && r.lost.empty());
    QCOMPARE(r.interruptions, 0);
    monitor.reset();
    QVERIFY(in_time([&] { return monitor.reading().held_peak[0] < 0.5; }));
  }
  void its_seconds_are_those_of_the_last_hour() {
    Monitor monitor(plan_of("clock=0,noise_dbfs=-30", 8000, 90));
    QVERIFY(in_time([&] { return monitor.reading().seconds > 400; }));
    const auto all = monitor.seconds();
    QVERIFY(all.size() == 90 || all.size() == 91);
    const auto cells = spectrogram_of(all, monitor.hz());
    QVERIFY(cells.columns == int(all.size()) && cells.rows == LiveSpectrum::points);
    QCOMPARE(cells.at(7, 100), all[7].spectrum[100]);
    for (int row = 0; row < cells.rows; row += 40) QCOMPARE(row_at(cells, double(monitor.hz()[size_t(row)])), row);
    for (const auto& s : all) {
      QVERIFY(s.peak > 0.05 && s.short_term_lufs && s.spectrum[100] < 0);
      QVERIFY(std::abs(*s.short_term_lufs - *all[0].short_term_lufs) < 1);
    }
  }
  /// As long as it runs: half a day here.
  void its_memory_is_bounded() {
    Monitor monitor(plan_of("clock=0,noise_dbfs=-30", 1000, 600));
    QVERIFY(in_time([&] { return monitor.reading().seconds > 2000; }));
    const int64_t before = resident_kib();
    const double from = monitor.reading().seconds;
    QVERIFY(in_time([&] { return monitor.reading().seconds > from + 43200; }));
    QVERIFY2(resident_kib() < before + 4000, qPrintable(QString("%1 to %2").arg(before).arg(resident_kib())));
  }
  void a_device_that_goes_away_is_told() {
    Monitor monitor(plan_of("clock=0,gone_after_s=2"));
    QVERIFY(in_time([&] { return !monitor.reading().lost.empty(); }));
    QVERIFY(QString::fromStdString(monitor.reading().lost).contains("is gone"));
    QVERIFY_THROWS_EXCEPTION(DeviceError, Monitor(plan_of("", 12345)));
  }
};

SHARED_MAIN(TestMonitor)
#include "test_monitor.moc"
