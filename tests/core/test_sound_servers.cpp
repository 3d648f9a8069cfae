// Recording through real sound servers, started here on sockets of their own: PulseAudio with a null sink and its
// monitor, JACK with its dummy driver. Skipped, and said so, only where they are not installed.
#include <QtTest>

#include "core/devices/capture.hpp"
#include "core/devices/monitor.hpp"
#include "tests/support/cli.hpp"
#include "tests/support/signals.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

/// A program that runs as long as the object; stopped by its process id.
class Server {
 public:
  Server(const QString& program, const QStringList& words) {
    process_.setProcessChannelMode(QProcess::MergedChannels);
    process_.start(program, words);
    process_.waitForStarted();
  }
  ~Server() { stop(); }
  void stop() {
    if (process_.state() == QProcess::NotRunning) return;
    process_.terminate();
    if (!process_.waitForFinished(8000)) process_.kill();
    process_.waitForFinished(3000);
  }

 private:
  QProcess process_;
};

/// PulseAudio with a null sink, on a socket of its own.
class PulseServer {
 public:
  PulseServer(int rate_hz, const QString& format, int channels = 2) {
    qputenv("XDG_RUNTIME_DIR", home_.path().toUtf8());
    qputenv("HOME", home_.path().toUtf8());
    server_ = std::make_unique<Server>(
        "pulseaudio",
        QStringList{"-n", "--daemonize=no", "--exit-idle-time=-1", "-L", "module-native-protocol-unix", "-L",
                    QString("module-null-sink sink_name=bench rate=%1 format=%2 channels=%3")
                        .arg(rate_hz)
                        .arg(format)
                        .arg(channels)});
  }
  void stop() { server_->stop(); }

 private:
  QTemporaryDir home_;
  std::unique_ptr<Server> server_;
};

bool is_there(const char* program) { return !QStandardPaths::findExecutable(program).isEmpty(); }

const Device* found(const std::vector<Device>& all, const std::string& backend, bool input) {
  for (const Device& d : all)
    if (d.backend == backend && (input ? d.inputs : d.outputs) > 0) return &d;
  return nullptr;
}

/// Waits until a server has something to record from and something to play through.
std::optional<StreamOrder> order_of(const std::string& backend, int rate_hz) {
  QElapsedTimer timer;
  for (timer.start(); timer.elapsed() < 10000; QTest::qWait(100)) {
    const auto all = devices();
    const Device *in = found(all, backend, true), *out = found(all, backend, false);
    if (in && out) return StreamOrder{.input = in->name, .output = out->name, .sample_rate_hz = rate_hz};
  }
  return {};
}

/// A machine that is busy elsewhere loses sound, and PulseAudio tells nobody: what is asked for has to hold once in
/// three times. `attempt` says what was wrong; nothing where all was well.
QString once_in_three(const std::function<QString()>& attempt) {
  QString wrong;
  for (int n = 0; n < 3; ++n) {
    wrong = attempt();
    if (wrong.isEmpty()) return {};
    qInfo().noquote() << "again, since" << wrong;
  }
  return wrong;
}

/// Plays a programme and asks that it comes back to the bit, by its own frames and by the null.
QString round_trip_once(const StreamOrder& order, int bits, WordFormat word) {
  const Folder folder;
  const auto sound = requantised(Programme(4, 21).render(order.sample_rate_hz), bits, false);
  const auto master = save(folder / "master.wav", sound, order.sample_rate_hz, word);
  CapturePlan plan{.stream = order, .word = word, .play = Clip::open(master), .to = Destination(folder / "take.wav")};
  const auto done = capture(plan);
  if (!done.cut_short.empty()) return QString::fromStdString(done.cut_short);
  if (!done.latency_samples) return "the chirp was not heard";
  const auto null = null_of(master, done.file);
  if (null.residual_relative_db()) return QString("the residual is %1 dBr").arg(db(null.residual_relative_db()));
  const double late = null.fit.delay_samples;
  if (late != std::round(late) || std::abs(late - *done.latency_samples) > 0.1)
    return QString("it is late by %1, by the chirp %2").arg(late).arg(*done.latency_samples);
  return {};
}

void round_trip(const StreamOrder& order, int bits, WordFormat word) {
  const QString wrong = once_in_three([&] { return round_trip_once(order, bits, word); });
  QVERIFY2(wrong.isEmpty(), qPrintable(wrong));
}

/// A master sent out and listened to at two other outputs: what is heard of it there is the master, to the bit.
QString hear_once(const StreamOrder& order) {
  const Folder folder;
  const auto master =
      save(folder / "master.wav", requantised(Programme(4, 3).render(48000), 24, false), 48000, WordFormat::pcm24);
  MonitorPlan plan{.stream = order, .history_s = 0, .play = Clip::open(master)};
  plan.listen = {order.output, 2};
  Monitor monitor(plan);
  if (!QTest::qWaitFor([&] { return monitor.reading().live->begun; }, 10000)) return "it did not begin";
  CapturePlan heard{.stream = order, .word = WordFormat::pcm24, .seconds = 9, .to = Destination(folder / "heard.wav")};
  heard.stream.output.clear(), heard.stream.first_input = 2;
  if (const auto done = capture(heard); !done.cut_short.empty()) return QString::fromStdString(done.cut_short);
  const auto r = monitor.reading();
  if (!r.live->round_trip_samples) return "the chirp was not heard";
  if (std::abs(r.live->return_gain_db) > 0.02) return QString("the gain is %1 dB").arg(r.live->return_gain_db);
  Planar in, sent;  // one whole round of it is in there
  const auto clip = Clip::open(folder / "heard.wav");
  clip->reader()->read(0, clip->format().frames, in);
  Clip::open(master)->reader()->read(0, 4 * 48000, sent);
  int64_t from = -1;
  for (int64_t n = 0; n + sent.frames() <= in.frames() && from < 0; ++n)
    if (std::equal(sent.channel(0).begin(), sent.channel(0).begin() + 4800, in.channel(0).begin() + n)) from = n;
  if (from < 0) return "the master was not heard";
  for (int c = 0; c < 2; ++c)
    for (int64_t n = 0; n < sent.frames(); ++n)
      if (in.channel(c)[size_t(from + n)] != sent.channel(c)[size_t(n)]) return QString("frame %1 differs").arg(n);
  return {};
}

/// False where it does not say so in time: it waits for ever where a port goes while it is at it.
bool connects(const QString& from, const QString& to) {
  QProcess process;
  process.start("jack_connect", {from, to});
  if (process.waitForFinished(3000)) return process.exitStatus() == QProcess::NormalExit && process.exitCode() == 0;
  process.kill();
  process.waitForFinished(3000);
  return false;
}

}  // namespace

class TestSoundServers : public QObject {
  Q_OBJECT

 private slots:
  void initTestCase() { QVERIFY(std::filesystem::exists(HEATHMIST_CLI)); }

  void pulse_audio_gives_back_every_bit_data() {
    QTest::addColumn<int>("rate");
    QTest::addColumn<QString>("format");
    QTest::addColumn<int>("bits");
    QTest::newRow("48 kHz, float") << 48000 << "float32le" << 24;
    QTest::newRow("44.1 kHz, 16 bit") << 44100 << "s16le" << 16;
    QTest::newRow("96 kHz, 24 bit") << 96000 << "s24le" << 24;
  }
  void pulse_audio_gives_back_every_bit() {
    QFETCH(int, rate);
    QFETCH(QString, format);
    QFETCH(int, bits);
    if (!is_there("pulseaudio")) QSKIP("PULSEAUDIO IS NOT INSTALLED: capture through it was NOT tested");
    PulseServer server(rate, format);
    const auto order = order_of("PulseAudio", rate);
    QVERIFY(order);
    const auto all = devices();
    QCOMPARE(device_of(all, order->input).own_rate_hz.value_or(0), rate);
    QVERIFY(!device_of(all, order->output).converts(rate) && device_of(all, order->output).converts(32000));
    QCOMPARE(counterpart_of(all, device_of(all, order->input)), &device_of(all, order->output));
    QCOMPARE(counterpart_of(all, device_of(all, order->output)), &device_of(all, order->input));
    round_trip(*order, bits, bits == 16 ? WordFormat::pcm16 : WordFormat::pcm24);
  }
  void a_process_is_heard_through_pulse_audio() {
    if (!is_there("pulseaudio")) QSKIP("PULSEAUDIO IS NOT INSTALLED: live listening through it was NOT tested");
    PulseServer server(48000, "float32le", 4);
    const auto order = order_of("PulseAudio", 48000);
    QVERIFY(order);
    QCOMPARE(device_of(devices(), order->output).outputs, 4);
    const QString wrong = once_in_three([&] { return hear_once(*order); });
    QVERIFY2(wrong.isEmpty(), qPrintable(wrong));
  }
  void the_command_line_takes_a_sink_by_its_name() {
    if (!is_there("pulseaudio"))
      QSKIP("PULSEAUDIO IS NOT INSTALLED: the command line's capture through it was NOT tested");
    PulseServer server(48000, "float32le");
    const auto order = order_of("PulseAudio", 48000);
    QVERIFY(order);
    const Folder folder;
    const auto master =
        save(folder / "master.wav", requantised(Programme(2, 5).render(48000), 24, false), 48000, WordFormat::pcm24);
    for (const std::string& device : {order->output, order->input}) {
      const QString wrong = once_in_three([&]() -> QString {
        const auto out = folder / (device + ".wav");
        const auto answer = call(
            {"capture", "-o", out.c_str(), "--play", master.c_str(), "--device", device.c_str(), "--force", "--json"});
        if (answer.status != 0) return answer.err;
        if (answer.json()["latency_samples"].toDouble() <= 0) return "the chirp was not heard";
        return null_of(master, out).residual_relative_db() ? "there is a residual" : "";
      });
      QVERIFY2(wrong.isEmpty(), qPrintable(wrong));
    }
    const QString wrong = once_in_three([&]() -> QString {
      const auto check = call({"capture", "--loop-check", "--device", order->input.c_str(), "--json"});
      return check.json()["transit"].toObject()["identical"].toBool() ? "" : "the loop is not transparent";
    });
    QVERIFY2(wrong.isEmpty(), qPrintable(wrong));
  }
  void jack_gives_back_every_bit_and_is_missed_when_it_ends() {
    if (!is_there("jackd")) QSKIP("JACK IS NOT INSTALLED: capture through it was NOT tested");
    // one name for all runs: JACK keeps eight, and takes up again only that of a dead server of the same one
    const QByteArray name = "heathmist-test";
    qputenv("JACK_DEFAULT_SERVER", name);
    Server server("jackd", {"--no-realtime", "-n", name, "-d", "dummy", "-r", "48000", "-p", "256"});
    const auto order = order_of("JACK", 48000);
    QVERIFY(order);
    QCOMPARE(device_of(devices(), order->input).rates_hz, std::vector<int>{48000});
    // the wires: what is played goes straight to what is recorded
    std::atomic<bool> wired = false;
    std::jthread wiring([&](std::stop_token stop) {
      while (!stop.stop_requested() && !wired) {
        wired = true;
        for (const char* side : {"0", "1"})
          wired = wired && connects(QString("Heathmist:outport ") + side, QString("Heathmist:inport ") + side);
        std::this_thread::sleep_for(std::chrono::milliseconds(20));
      }
    });
    round_trip(*order, 24, WordFormat::pcm24);
    wiring = {};
    // it ends while something is recorded
    const Folder folder;
    CapturePlan plan{.stream = *order, .to = Destination(folder / "take.wav")};
    plan.stream.output.clear(), plan.seconds = 60;
    const auto done = capture(plan, {}, [&](const CaptureReading& r) {
      if (r.seconds > 0.7) server.stop();
    });
    QVERIFY(!done.cut_short.empty());
    QVERIFY(done.frames > 30000 && done.frames < 20 * 48000);
    QCOMPARE(Clip::open(done.file)->format().frames, done.frames);
  }
  /// PulseAudio's own client goes on with nothing when its server is gone.
  void pulse_audio_is_missed_when_it_ends() {
    if (!is_there("pulseaudio")) QSKIP("PULSEAUDIO IS NOT INSTALLED: its end was NOT tested");
    PulseServer server(48000, "float32le");
    const auto order = order_of("PulseAudio", 48000);
    QVERIFY(order);
    const Folder folder;
    CapturePlan plan{.stream = *order, .to = Destination(folder / "take.wav")};
    plan.stream.output.clear(), plan.seconds = 60;
    const auto done = capture(plan, {}, [&](const CaptureReading& r) {
      if (r.seconds > 0.7) server.stop();
    });
    QVERIFY(!done.cut_short.empty());
    QVERIFY2(done.frames > 30000 && done.frames < 5 * 48000,
             qPrintable(QString("%1 frames: %2").arg(done.frames).arg(done.cut_short.c_str())));
  }
};

QTEST_GUILESS_MAIN(TestSoundServers)
#include "test_sound_servers.moc"
