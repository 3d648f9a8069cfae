// Recording from a device: the stand-in does what it says, what is played comes back where the chirp says, and what was
// recorded stays, whatever happens.
#include <sys/stat.h>

#include <QtTest>
#include <cmath>
#include <numbers>
#include <set>

#include "core/devices/capture.hpp"
#include "tests/support/cli.hpp"
#include "tests/support/share.hpp"
#include "tests/support/signals.hpp"
#include "tests/support/small_disk.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

const std::string stand_in = "Stand-in converter loop";

Planar all_of(const std::filesystem::path& file) {
  const auto clip = Clip::open(file);
  Planar all;
  clip->reader()->read(0, clip->format().frames, all);
  return all;
}

/// What a loop makes of some sound of two channels, in one piece; `silence_s` more is asked for behind it.
Planar through_loop(const LoopSettings& settings, int rate_hz, const Planar& sound, double silence_s = 0) {
  ConverterLoop loop(settings, rate_hz, 2);
  const int64_t block = ConverterLoop::most_frames,
                frames = (sound.frames() + int64_t(silence_s * rate_hz)) / block * block;
  Planar back(2, frames);
  std::vector<double> out(size_t(block) * 2), in(out.size());
  for (int64_t at = 0; at < frames; at += block) {
    for (int64_t n = 0; n < block; ++n)
      for (int c = 0; c < 2; ++c)
        out[size_t(2 * n + c)] = at + n < sound.frames() ? sound.channel(c)[size_t(at + n)] : 0;
    loop.process(out, in);
    for (int64_t n = 0; n < block; ++n)
      for (int c = 0; c < 2; ++c) back.channel(c)[size_t(at + n)] = in[size_t(2 * n + c)];
  }
  return back;
}

/// Sines of two frequencies, at any place between samples.
double tone_at(int channel, double n, int rate_hz) {
  return 0.5 * std::sin(2 * std::numbers::pi * (channel == 0 ? 997 : 6203) * n / rate_hz);
}
Planar tones(int64_t frames, int rate_hz) {
  Planar x(2, frames);
  for (int c = 0; c < 2; ++c)
    for (int64_t n = 0; n < frames; ++n) x.channel(c)[size_t(n)] = tone_at(c, double(n), rate_hz);
  return x;
}

double rms_of(std::span<const double> x) {
  double sum = 0;
  for (const double v : x) sum += v * v;
  return std::sqrt(sum / double(x.size()));
}

CapturePlan plan_to(const std::filesystem::path& file, int rate_hz, const std::string& loop) {
  CapturePlan plan{.to = Destination(file)};
  plan.stream = {.input = stand_in, .output = stand_in, .sample_rate_hz = rate_hz, .loop = loop_settings(loop)};
  return plan;
}

/// The frames of a recording that are not the master's, laid `late` frames behind it.
int64_t unlike(const Planar& master, const Planar& recording, int64_t late) {
  int64_t wrong = std::max<int64_t>(0, master.frames() + late - recording.frames());
  for (int64_t n = 0; n < master.frames() && n + late < recording.frames(); ++n)
    for (int c = 0; c < master.channels(); ++c)
      if (recording.channel(c)[size_t(n + late)] != master.channel(c)[size_t(n)]) {
        ++wrong;
        break;
      }
  return wrong;
}

}  // namespace

class TestCapture : public QObject {
  Q_OBJECT

 private slots:
  // ---- the stand-in -------------------------------------------------------------------------------------------------
  void the_loop_gives_back_what_it_was_given() {
    const auto sound = requantised(Programme(2, 5).render(48000), 24, false);
    for (const double delay : {512.0, 1024.0, 5000.0}) {
      const auto back = through_loop({.delay_samples = delay}, 48000, sound, 0.2);
      QCOMPARE(unlike(sound, back, int64_t(delay)), 0);
    }
  }
  void its_delay_and_its_clock_are_what_was_set() {
    const int rate = 48000;
    const auto sound = tones(rate * 4, rate);
    for (const auto& [delay, drift] : {std::pair{700.37, 0.0}, {1024.0, 40.0}, {3000.5, -35.0}}) {
      const auto back = through_loop({.delay_samples = delay, .drift_ppm = drift}, rate, sound);
      double worst = 0;
      for (int64_t n = 4000; n < back.frames() - 400; ++n)
        for (int c = 0; c < 2; ++c)
          worst = std::max(
              worst, std::abs(back.channel(c)[size_t(n)] - tone_at(c, double(n) / (1 + drift * 1e-6) - delay, rate)));
      QVERIFY2(worst < 1e-6, qPrintable(QString("%1 samples, %2 ppm: off by %3").arg(delay).arg(drift).arg(worst)));
    }
  }
  void its_faults_have_the_levels_that_were_set() {
    const int rate = 44100;
    const Planar silence(2, rate * 4);
    const auto noise = through_loop({.noise_dbfs = -60}, rate, silence);
    const auto hum = through_loop({.hum_dbfs = -70}, rate, silence);
    QVERIFY(std::abs(20 * std::log10(rms_of(noise.channel(0))) + 60) < 0.1);
    QVERIFY(std::abs(20 * std::log10(rms_of(hum.channel(1).subspan(0, size_t(rate) * 3))) + 70) < 0.05);
    QVERIFY(noise.channel(0)[5000] != noise.channel(1)[5000]);
    const auto sound = tones(rate, rate);
    const auto turned = through_loop({.gain_db = -6, .inverted = true}, rate, sound);
    QVERIFY(std::abs(turned.channel(0)[9000] + std::pow(10, -0.3) * sound.channel(0)[9000 - 1024]) < 1e-12);
    const auto rounded = through_loop({.bits = 12}, rate, sound);
    for (size_t n = 2000; n < 3000; ++n)
      QCOMPARE(rounded.channel(0)[n] * 2048, std::nearbyint(rounded.channel(0)[n] * 2048));
  }
  void clocks_that_run_apart_lose_a_stretch_and_say_so() {
    ConverterLoop loop({.delay_samples = 512, .drift_ppm = -1000}, 8000, 2);
    std::vector<double> out(size_t(ConverterLoop::most_frames) * 2, 0.1), in(out.size());
    int lost = 0;
    for (int k = 0; k < 8000 * 200 / 256; ++k) lost += !loop.process(out, in);
    QCOMPARE(lost, 1);  // 1600 samples ahead in 200 s
  }
  void settings_are_read_strictly() {
    const auto s = loop_settings("delay_samples=700.25,noise_dbfs=-100,inverted=1");
    QCOMPARE(s.delay_samples, 700.25);
    QCOMPARE(*s.noise_dbfs, -100.0);
    QVERIFY(s.inverted);
    QCOMPARE(loop_settings(""), LoopSettings{});
    for (const char* bad : {"delay", "delay_samples=", "delay_samples=1", "delay_samples=nan", "wobble=3", "bits=3x",
                            "gain_db=1e9", "=", ",,"})
      QVERIFY_THROWS_EXCEPTION(std::invalid_argument, loop_settings(bad));
  }

  // ---- the file -----------------------------------------------------------------------------------------------------
  /// At any moment another reader finds what is there, whatever the word length.
  void a_recording_can_be_played_while_it_grows() {
    const Folder folder;
    const auto sound = requantised(Programme(3, 8).render(44100), 16, false);
    std::vector<double> frames(size_t(sound.frames()) * 2);
    for (size_t n = 0; n < size_t(sound.frames()); ++n)
      for (size_t c = 0; c < 2; ++c) frames[2 * n + c] = sound.channel(int(c))[n];
    for (const auto word : {WordFormat::pcm16, WordFormat::pcm24, WordFormat::float32}) {
      const auto file = folder / ("take" + std::to_string(int(word)) + ".wav");
      Recording recording(Destination(file), 44100, 2, word);
      for (size_t at = 0; at + 2000 <= frames.size(); at += 2000) {
        recording.write(std::span(frames).subspan(at, 2000));
        if (at % 40000) continue;
        const auto there = all_of(file);
        QVERIFY(there.frames() > 0 && recording.frames() - there.frames() < 44100 / 4 + 1000);
        for (int64_t n = 0; n < there.frames(); ++n) QCOMPARE(there.channel(1)[size_t(n)], sound.channel(1)[size_t(n)]);
      }
      recording.finish();
      QCOMPARE(all_of(file).frames(), recording.frames());
    }
  }
  void no_file_is_recorded_over() {
    const Folder folder;
    const auto old = save(folder / "take.wav", tones(1000, 8000), 8000);
    QVERIFY_THROWS_EXCEPTION(OutputRefused, Recording(Destination(old), 8000, 2, WordFormat::pcm16));
    QVERIFY_THROWS_EXCEPTION(OutputRefused, Recording(Destination(old, true, {old}), 8000, 2, WordFormat::pcm16));
    const std::vector<double> frames(800, 0.25);
    {
      Recording recording(Destination(old, true), 8000, 2, WordFormat::pcm16);
      recording.write(frames);
      QCOMPARE(all_of(old).frames(), 1000);  // still there
      QCOMPARE(recording.file().filename().string(), std::string("take (recording).wav"));
      recording.finish();
    }
    QCOMPARE(all_of(old).frames(), 400);
    { const Recording none(Destination(folder / "none.wav"), 8000, 2, WordFormat::pcm16); }
    QVERIFY(!std::filesystem::exists(folder / "none.wav"));
    QVERIFY_THROWS_EXCEPTION(InputError, Recording(Destination(folder / "a.flac"), 8000, 2, WordFormat::pcm16));
    QVERIFY_THROWS_EXCEPTION(InputError, Recording(Destination("/proc/nowhere/a.wav"), 8000, 2, WordFormat::pcm16));
  }
  void a_full_disk_ends_it_and_keeps_what_there_was() {
    const Folder folder;
    const SmallDisk disk(300000);
    auto plan = plan_to(folder / "take.wav", 48000, "clock=0");
    plan.stream.output.clear(), plan.seconds = 60, plan.word = WordFormat::pcm16;
    const auto done = capture(plan);
    QVERIFY2(done.cut_short.find("disk is full") != std::string::npos, done.cut_short.c_str());
    const auto there = all_of(done.file);
    QVERIFY(there.frames() > 60000 && there.frames() < 75000);
  }

  // ---- there and back -----------------------------------------------------------------------------------------------
  void what_is_played_comes_back_to_the_bit_where_the_chirp_says_data() {
    QTest::addColumn<int>("rate");
    QTest::addColumn<int>("word");
    QTest::addColumn<int>("delay");
    QTest::newRow("44.1 kHz, 16 bit") << 44100 << int(WordFormat::pcm16) << 512;
    QTest::newRow("48 kHz, 24 bit") << 48000 << int(WordFormat::pcm24) << 1313;
    QTest::newRow("96 kHz, float") << 96000 << int(WordFormat::float32) << 30011;
    QTest::newRow("192 kHz, 24 bit") << 192000 << int(WordFormat::pcm24) << 2048;
  }
  void what_is_played_comes_back_to_the_bit_where_the_chirp_says() {
    QFETCH(int, rate);
    QFETCH(int, word);
    QFETCH(int, delay);
    const Folder folder;
    auto sound = requantised(Programme(1.5, 11).render(rate), word == int(WordFormat::pcm16) ? 16 : 24, false);
    const auto master = save(folder / "master.wav", sound, rate, WordFormat(word));
    auto plan = plan_to(folder / "take.wav", rate, "clock=0,delay_samples=" + std::to_string(delay));
    plan.play = Clip::open(master), plan.word = WordFormat(word);
    const auto done = capture(plan);
    QVERIFY(done.latency_samples && done.cut_short.empty() && done.interruptions == 0);
    QVERIFY2(std::abs(*done.latency_samples - delay) < 0.05, qPrintable(QString::number(*done.latency_samples)));
    QCOMPARE(unlike(sound, all_of(done.file), delay), 0);
    const auto null = null_of(master, done.file);
    QCOMPARE(null.fit.delay_samples, double(delay));
    QVERIFY(!null.residual_relative_db());  // digital silence
  }
  void a_loop_between_samples_with_noise_and_hum_is_still_found() {
    const Folder folder;
    const auto sound = Programme(2, 4).render(48000);
    auto plan = plan_to(folder / "take.wav", 48000,
                        "clock=0,delay_samples=2000.5,gain_db=-12,inverted=1,noise_dbfs=-70,hum_dbfs=-60,drift_ppm=30");
    plan.play = Clip::open(save(folder / "master.wav", sound, 48000));
    const auto done = capture(plan);
    QVERIFY(done.latency_samples);
    QVERIFY2(std::abs(*done.latency_samples - 2000.5) < 1, qPrintable(QString::number(*done.latency_samples)));
    const auto null = null_of(folder / "master.wav", done.file);
    QVERIFY(std::abs(null.fit.drift_ppm - 30) < 1 && std::abs(null.fit.gain_db + 12) < 0.05);
  }
  void without_a_way_back_there_is_no_latency_but_a_recording() {
    const Folder folder;
    auto plan = plan_to(folder / "take.wav", 48000, "clock=0,gain_db=-60,noise_dbfs=-30");
    plan.play = Clip::open(save(folder / "master.wav", tones(24000, 48000), 48000));
    plan.seconds = 4;
    const auto done = capture(plan);
    QVERIFY(!done.latency_samples);
    QCOMPARE(done.frames, 4 * 48000);
  }
  void a_mono_master_goes_to_both_sides() {
    const Folder folder;
    Planar mono(1, 20000);
    for (int64_t n = 0; n < 20000; ++n) mono.channel(0)[size_t(n)] = double(n % 777) / 1024;
    auto plan = plan_to(folder / "take.wav", 44100, "clock=0,delay_samples=600");
    plan.play = Clip::open(save(folder / "mono.wav", mono, 44100, WordFormat::pcm24));
    const auto there = all_of(capture(plan).file);
    for (size_t n = 0; n < 20000; ++n)
      for (int c = 0; c < 2; ++c) QCOMPARE(there.channel(c)[n + 600], mono.channel(0)[n]);
  }

  // ---- what goes wrong ----------------------------------------------------------------------------------------------
  void a_device_that_vanishes_leaves_what_came() {
    const Folder folder;
    auto plan = plan_to(folder / "take.wav", 48000, "clock=0,gone_after_s=3");
    plan.stream.output.clear(), plan.seconds = 10;
    const auto done = capture(plan);
    QVERIFY2(done.cut_short.find("is gone") != std::string::npos, done.cut_short.c_str());
    QVERIFY(std::llabs(done.frames - 3 * 48000) <= 256);
    QCOMPARE(all_of(done.file).frames(), done.frames);
    plan.to = Destination(folder / "never.wav");
    plan.stream.loop.gone_after_s = 0;
    QVERIFY_THROWS_EXCEPTION(DeviceError, capture(plan));
    QVERIFY(!std::filesystem::exists(folder / "never.wav"));
  }
  void a_stop_ends_it_and_keeps_it() {
    const Folder folder;
    auto plan = plan_to(folder / "take.wav", 48000, "");
    plan.stream.output.clear();  // until it is stopped
    std::stop_source stop;
    double seen = 0;
    const auto done = capture(plan, {.stop = stop.get_token()}, [&](const CaptureReading& r) {
      seen = r.seconds;
      if (r.seconds > 0.5) stop.request_stop();
    });
    QVERIFY(done.cut_short.empty() && seen > 0.5);
    QVERIFY(done.frames >= 24000 && done.frames < 10 * 48000);
    QCOMPARE(all_of(done.file).frames(), done.frames);
  }
  void orders_that_cannot_be_are_refused_in_a_sentence() {
    const Folder folder;
    auto plan = plan_to(folder / "take.wav", 48000, "clock=0");
    plan.seconds = 1;
    auto refused = [&](auto change) {
      CapturePlan p = plan;
      change(p);
      try {
        capture(p);
      } catch (const std::exception& error) {
        return std::string(error.what()).size() > 30;
      }
      return false;
    };
    QVERIFY(refused([](CapturePlan& p) { p.stream.input = "Sluice gate"; }));
    QVERIFY(refused([](CapturePlan& p) { p.stream.input.clear(); }));
    QVERIFY(refused([](CapturePlan& p) { p.stream.sample_rate_hz = 12345; }));
    QVERIFY(refused([](CapturePlan& p) { p.stream.first_input = 3; }));
    const auto master = save(folder / "master.wav", tones(4000, 44100), 44100);
    QVERIFY(refused([&](CapturePlan& p) { p.play = Clip::open(master); }));
    QVERIFY(refused([&](CapturePlan& p) {
      p.play = Clip::open(master), p.stream.sample_rate_hz = 44100, p.to = Destination(master, true);
    }));
    QVERIFY(!std::filesystem::exists(folder / "take.wav"));
  }

  void devices_are_told_apart_and_taken_by_name() {
    const auto all = devices();
    std::set<std::string> names;
    for (const Device& d : all) QVERIFY(names.insert(d.name).second && d.inputs + d.outputs > 0 && !d.rates_hz.empty());
    QVERIFY(all.back().stand_in);
    QCOMPARE(&device_of(all, stand_in), &all.back());
    QVERIFY(default_input(all) && default_input(all)->inputs > 0 && default_output(all)->outputs > 0);
    QCOMPARE(counterpart_of(all, all.back()), nullptr);
    Device converting;
    QVERIFY(!converting.converts(48000));
    converting.own_rate_hz = 44100;
    QVERIFY(converting.converts(48000) && !converting.converts(44100));
    const auto nothing = [](const StreamBlock&) { return true; };
    QVERIFY_THROWS_EXCEPTION(DeviceError, open_stream({}, nothing));
    StreamOrder order{.input = stand_in, .sample_rate_hz = 48000};
    order.inputs = 5;
    QVERIFY_THROWS_EXCEPTION(DeviceError, open_stream(order, nothing));
  }
  /// One wire out, the other in: what goes out of a channel comes in at that channel alone.
  void channels_are_the_ones_that_were_chosen() {
    const Folder folder;
    Planar mono(1, 9600);
    for (size_t n = 0; n < 9600; ++n) mono.channel(0)[n] = double(n % 100) / 256;
    for (const int out : {0, 1})
      for (const int in : {0, 1}) {
        auto plan = plan_to(folder / ("take" + std::to_string(2 * out + in) + ".wav"), 48000, "clock=0");
        plan.stream.first_output = out, plan.stream.outputs = 1;
        plan.stream.first_input = in, plan.stream.inputs = 1;
        plan.chirp = false;
        plan.play = Clip::open(save(folder / "mono.wav", mono, 48000));
        const auto there = all_of(capture(plan).file);
        for (size_t n = 0; n < 9600; ++n) QCOMPARE(there.channel(0)[n + 1024], out == in ? mono.channel(0)[n] : 0.0);
      }
  }

  // ---- long ---------------------------------------------------------------------------------------------------------
  /// A day, by a clock that runs as fast as the sound is taken; the file goes beyond what a plain WAV header counts
  /// where there is time for it.
  void a_day_is_recorded_to_its_last_frame() {
    const Folder folder;
    const bool full = qEnvironmentVariableIsSet("HEATHMIST_FULL");
    auto plan = plan_to(folder / "day.wav", full ? 8000 : 1000, "clock=0,noise_dbfs=-40");
    plan.stream.output.clear(), plan.stream.inputs = full ? 2 : 1;
    plan.word = full ? WordFormat::float32 : WordFormat::pcm16;
    plan.seconds = 86400;
    const auto done = capture(plan);
    QCOMPARE(done.frames, int64_t(86400) * plan.stream.sample_rate_hz);
    QCOMPARE(done.interruptions, 0);
    const auto clip = Clip::open(done.file);
    QCOMPARE(clip->format().frames, done.frames);
    Planar end;
    clip->reader()->read(done.frames - 1000, 1000, end);
    QVERIFY(std::abs(20 * std::log10(rms_of(end.channel(0))) + 40) < 1);
  }
  /// Killed in the middle: the file is whole up to a second before.
  void a_killed_program_leaves_a_file_that_plays() {
    const Folder folder;
    const auto file = QString::fromStdString((folder / "take.wav").string());
    QProcess program;
    program.start(HEATHMIST_CLI, {"capture", "-o", file, "--seconds", "3600", "--bits", "16", "-q", "--device",
                                  QString::fromStdString(stand_in), "--stand-in",
                                  qEnvironmentVariableIsSet("HEATHMIST_FULL") ? "clock=60,noise_dbfs=-30"
                                                                              : "clock=20,noise_dbfs=-30"});
    QVERIFY(program.waitForStarted());
    const int64_t enough = qEnvironmentVariableIsSet("HEATHMIST_FULL") ? 600 : 40;  // seconds of sound
    QTRY_VERIFY_WITH_TIMEOUT(QFileInfo(file).size() > enough * 48000 * 4, 60000);
    const int64_t on_disk = QFileInfo(file).size();
    program.kill();
    program.waitForFinished();
    const auto there = all_of(file.toStdString());
    QVERIFY2(there.frames() >= (on_disk - 200) / 4 - 48000,
             qPrintable(QString("%1 of %2").arg(there.frames()).arg(on_disk / 4)));
    QVERIFY(std::abs(20 * std::log10(rms_of(there.channel(0))) + 30) < 0.1);
  }

  // ---- the command line ---------------------------------------------------------------------------------------------
  void devices_are_listed() {
    const auto answer = call({"devices", "--json"});
    QCOMPARE(answer.status, 0);
    bool there = false;
    for (const auto& d : answer.json()["devices"].toArray()) {
      const auto device = d.toObject();
      for (const char* key : {"name", "backend", "inputs", "outputs", "rates", "stand_in"})
        QVERIFY2(device.contains(key), key);
      if (device["stand_in"].toBool()) there = device["name"].toString().toStdString() == stand_in;
    }
    QVERIFY(there);
  }
  void capture_says_what_it_recorded() {
    const Folder folder;
    const auto sound = requantised(Programme(1, 3).render(48000), 24, false);
    const auto master = QString::fromStdString(save(folder / "master.wav", sound, 48000, WordFormat::pcm24).string()),
               out = QString::fromStdString((folder / "take.wav").string());
    const QStringList words{"capture",    "-o",
                            out,          "--play",
                            master,       "--json",
                            "--device",   stand_in.c_str(),
                            "--stand-in", "delay_samples=1500,clock=0"};
    const auto answer = call(words);
    QCOMPARE(answer.status, 0);
    const auto json = answer.json();
    QCOMPARE(json["sample_rate_hz"].toInt(), 48000);
    QVERIFY(std::abs(json["latency_samples"].toDouble() - 1500) < 0.05);
    QCOMPARE(json["interruptions"].toInt(), 0);
    QCOMPARE(json["clipped_runs"].toInt(), 0);
    QVERIFY(std::abs(json["sample_peak_dbfs"].toDouble() - 20 * std::log10(peak_of(sound))) < 1e-6);
    QCOMPARE(unlike(sound, all_of(out.toStdString()), 1500), 0);
    QCOMPARE(call(words).status, 2);  // it is there now
    QCOMPARE(call({"capture", "-o", master, "--play", master, "--force", "--device", stand_in.c_str()}).status, 2);
    QCOMPARE(call({"capture", "-o", out + "2.wav", "--seconds", "1", "--device", "Sluice gate"}).status, 2);
    QCOMPARE(call({"capture", "-o", out + ".mp3", "--seconds", "1"}).status, 2);
  }
  void a_vanished_device_is_status_one_and_the_file_stays() {
    const Folder folder;
    const auto out = QString::fromStdString((folder / "take.wav").string());
    const auto answer = call({"capture", "-o", out, "--seconds", "9", "--json", "--device", stand_in.c_str(),
                              "--stand-in", "clock=0,gone_after_s=2"});
    QCOMPARE(answer.status, 1);
    QVERIFY(answer.err.contains("is gone"));
    QCOMPARE(answer.json()["frames"].toInt(), all_of(out.toStdString()).frames());
  }
  void a_loop_is_checked_by_the_command_line() {
    const auto loop = [](const char* settings) {
      return call({"capture", "--loop-check", "--json", "--device", stand_in.c_str(), "--stand-in", settings});
    };
    const auto clean = loop("clock=0,delay_samples=1500");
    QCOMPARE(clean.status, 0);
    QVERIFY(clean.json()["transit"].toObject()["identical"].toBool());
    QVERIFY(std::abs(clean.json()["latency_samples"].toDouble() - 1500) < 0.05);
    const auto poor = loop("clock=0,bits=16,gain_db=-1,inverted=1").json()["transit"].toObject();
    QVERIFY(!poor["identical"].toBool() && std::abs(poor["gain_db"].toDouble() + 1) < 0.01);
    QCOMPARE(loop("clock=0,gain_db=-60,noise_dbfs=-20").status, 1);
  }
  /// Ctrl C ends a recording and keeps it.
  void an_interrupt_keeps_the_recording() {
    const Folder folder;
    const auto file = QString::fromStdString((folder / "take.wav").string());
    QProcess program;
    // converted first, so that the pool's threads are there when the signal comes
    const auto master = save(folder / "master.wav", tones(44100 * 60, 44100), 44100);
    program.start(HEATHMIST_CLI, {"capture", "-o", file, "--json", "--device", stand_in.c_str(), "--play",
                                  master.c_str(), "--rate", "48000"});
    QVERIFY(program.waitForStarted());
    QTRY_VERIFY_WITH_TIMEOUT(QFileInfo(file).size() > 50000, 20000);
    ::kill(pid_t(program.processId()), SIGINT);
    QVERIFY(program.waitForFinished());
    QCOMPARE(program.exitCode(), 0);
    const auto json = QJsonDocument::fromJson(program.readAllStandardOutput()).object();
    QCOMPARE(int64_t(json["frames"].toInt()), all_of(file.toStdString()).frames());
  }
};

SHARED_MAIN(TestCapture)
#include "test_capture.moc"
