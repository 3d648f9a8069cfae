// Recording through real sound servers, started here on sockets of their own: PulseAudio with a null sink and its
// monitor, JACK with its dummy driver. Skipped, and said so, only where they are not installed, or where the machine
// never gave them their time.
#include <sys/prctl.h>
#include <QtTest>

#include <csignal>

#include "core/devices/capture.hpp"
#include "core/devices/monitor.hpp"
#include "tests/support/cli.hpp"
#include "tests/support/share.hpp"
#include "tests/support/signals.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

/// A program that runs as long as the object, and no longer than this one.
class Server {
 public:
  Server(const QString& program, const QStringList& words) {
    process_.setProcessChannelMode(QProcess::MergedChannels);
    process_.setChildProcessModifier([] { ::prctl(PR_SET_PDEATHSIG, SIGKILL); });
    process_.start(program, words);
    process_.waitForStarted();
  }
  ~Server() { stop(); }
  /// It takes no more notice of anything, and is there still.
  void hang() { ::kill(pid_t(process_.processId()), SIGSTOP); }
  void go_on() { ::kill(pid_t(process_.processId()), SIGCONT); }
  bool runs() { return !process_.waitForFinished(0) && process_.state() == QProcess::Running; }
  void stop() {
    if (process_.state() == QProcess::NotRunning) return;
    process_.terminate();
    if (!process_.waitForFinished(8000)) process_.kill();
    process_.waitForFinished(3000);
  }

 private:
  QProcess process_;
};

/// JACK with its dummy driver. One name for all runs: it keeps eight, and takes up again only that of a dead server of
/// the same one.
class JackServer : public Server {
 public:
  JackServer()
      : Server("jackd", {"--no-realtime", "-t", "10000", "-n", name(), "-d", "dummy", "-r", "48000", "-p", "256"}) {}
  bool is_up() {
    QElapsedTimer timer;
    for (timer.start(); timer.elapsed() < 10000 && runs(); QTest::qWait(100))
      for (const QJsonValue device : call({"devices", "--json"}).json()["devices"].toArray())
        if (device["backend"].toString() == "JACK") return device["rates"].toArray() == QJsonArray{48000};
    return false;
  }

 private:
  static QString name() {
    qputenv("JACK_DEFAULT_SERVER", "heathmist-test");
    return "heathmist-test";
  }
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

/// How much later than it asked for a thread was woken, at the most, as long as this lives.
class Lateness {
 public:
  double most_ms() const { return most_ms_; }

 private:
  void watch(const std::stop_token& stop) {
    using namespace std::chrono;
    while (!stop.stop_requested()) {
      const auto asked = steady_clock::now() + milliseconds(2);
      std::this_thread::sleep_until(asked);
      most_ms_ = std::max(most_ms_.load(), duration<double, std::milli>(steady_clock::now() - asked).count());
    }
  }
  std::atomic<double> most_ms_ = 0;
  std::jthread thread_{[this](const std::stop_token& stop) { watch(stop); }};
};

/// A machine that is busy elsewhere loses sound, and PulseAudio tells nobody: what is asked for has to hold once in
/// three times that the machine was on time.
struct Outcome {
  QString wrong;        ///< empty: it held
  bool judged = false;  ///< false: the machine was never on time
};

/// `attempt` says what was wrong; nothing where all was well.
Outcome outcome_of(const std::function<QString()>& attempt) {
  constexpr double on_time_ms = 5;  // a block of 256 frames at 48 kHz
  constexpr int most_attempts = 12;
  Outcome outcome;
  for (int n = 0, judged = 0; n < most_attempts && judged < 3; ++n) {
    const Lateness lateness;
    outcome.wrong = attempt();
    if (outcome.wrong.isEmpty()) return {{}, true};
    qInfo().noquote() << "again, since" << outcome.wrong << "and a thread was" << lateness.most_ms() << "ms late";
    judged += lateness.most_ms() <= on_time_ms;
    outcome.judged = judged == 3;
  }
  return outcome;
}

#define VERIFY_HOLDS(...)                                                                               \
  do {                                                                                                  \
    const Outcome outcome = outcome_of(__VA_ARGS__);                                                    \
    if (!outcome.judged) QSKIP("THIS MACHINE IS NEVER ON TIME: sound through a server was NOT tested"); \
    QVERIFY2(outcome.wrong.isEmpty(), qPrintable(outcome.wrong));                                       \
  } while (false)

/// What is wrong with what came back; nothing where it is the master to the bit, as late as the chirp has it.
QString returned_wrongly(const std::string& master, const std::string& take, double latency_samples) {
  if (latency_samples <= 0) return "the chirp was not heard";
  const auto null = null_of(master, take);
  if (null.residual_relative_db()) return QString("the residual is %1 dBr").arg(db(null.residual_relative_db()));
  const double late = null.fit.delay_samples;
  if (late != std::round(late) || std::abs(late - latency_samples) > 0.1)
    return QString("it is late by %1, by the chirp %2").arg(late).arg(latency_samples);
  return {};
}

/// Plays a programme and asks that it comes back to the bit, by its own frames and by the null.
QString round_trip_once(const StreamOrder& order, int bits, WordFormat word) {
  const Folder folder;
  const auto sound = requantised(Programme(4, 21).render(order.sample_rate_hz), bits, false);
  const auto master = save(folder / "master.wav", sound, order.sample_rate_hz, word);
  CapturePlan plan{.stream = order, .word = word, .play = Clip::open(master), .to = Destination(folder / "take.wav")};
  const auto done = capture(plan);
  if (!done.cut_short.empty()) return QString::fromStdString(done.cut_short);
  return returned_wrongly(master, done.file, done.latency_samples.value_or(0));
}

void round_trip(const StreamOrder& order, int bits, WordFormat word) {
  VERIFY_HOLDS([&] { return round_trip_once(order, bits, word); });
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

/// Wires of JACK from what is played to what is recorded, laid as often as the ports come anew. By a program of JACK's
/// own, which is ended where a port goes while it is at it: then it waits for ever.
class Wires {
 public:
  ~Wires() { thread_ = {}; }

 private:
  static void connect(const QString& from, const QString& to) {
    QProcess process;
    process.start("jack_connect", {from, to});
    if (process.waitForFinished(3000)) return;
    process.kill();
    process.waitForFinished(3000);
  }
  std::jthread thread_{[](const std::stop_token& stop) {
    while (!stop.stop_requested()) {
      for (const QString side : {"0", "1"}) connect("Heathmist:outport " + side, "Heathmist:inport " + side);
      std::this_thread::sleep_for(std::chrono::milliseconds(20));
    }
  }};
};

/// A recording by the command line: JACK's library may hang with its server, and takes the whole process with it.
class CliTake {
 public:
  explicit CliTake(const Folder& folder) : take_(QString::fromStdString(folder / "take.wav")) {
    capture_.start(HEATHMIST_CLI, {"capture", "-o", take_, "--device", "system", "--rate", "48000", "--seconds", "60"});
  }
  ~CliTake() { capture_.kill(), capture_.waitForFinished(); }
  bool has_begun() const {
    qint64 bytes = 0;
    for (const auto& file : QDir(QFileInfo(take_).path()).entryInfoList(QDir::Files | QDir::Hidden))
      bytes += file.size();
    return bytes > 200000;
  }
  /// What it said, where it ended by itself.
  std::optional<QByteArray> ended() {
    if (!capture_.waitForFinished(40000) || capture_.exitStatus() != QProcess::NormalExit) return {};
    return capture_.readAllStandardError();
  }
  int64_t frames() const { return Clip::open(take_.toStdString())->format().frames; }

 private:
  QString take_;
  QProcess capture_;
};

QString jack_round_trip() {
  JackServer server;
  if (!server.is_up()) return "JACK did not begin";
  const Wires wires;
  const Folder folder;
  const auto sound = requantised(Programme(4, 21).render(48000), 24, false);
  const auto master = save(folder / "master.wav", sound, 48000, WordFormat::pcm24), take = folder / "take.wav";
  const auto answer = call({"capture", "-o", take.c_str(), "--play", master.c_str(), "--device", "system", "--json"});
  if (answer.status != 0) return answer.err;
  return returned_wrongly(master, take, answer.json()["latency_samples"].toDouble());
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
    VERIFY_HOLDS([&] { return hear_once(*order); });
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
      VERIFY_HOLDS([&]() -> QString {
        const auto out = folder / (device + ".wav");
        const auto answer = call(
            {"capture", "-o", out.c_str(), "--play", master.c_str(), "--device", device.c_str(), "--force", "--json"});
        if (answer.status != 0) return answer.err;
        if (answer.json()["latency_samples"].toDouble() <= 0) return "the chirp was not heard";
        return null_of(master, out).residual_relative_db() ? "there is a residual" : "";
      });
    }
    VERIFY_HOLDS([&]() -> QString {
      const auto check = call({"capture", "--loop-check", "--device", order->input.c_str(), "--json"});
      return check.json()["transit"].toObject()["identical"].toBool() ? "" : "the loop is not transparent";
    });
  }
  void jack_gives_back_every_bit() {
    if (!is_there("jackd")) QSKIP("JACK IS NOT INSTALLED: capture through it was NOT tested");
    VERIFY_HOLDS(jack_round_trip);
  }
  void jack_is_missed_when_it_ends() {
    if (!is_there("jackd")) QSKIP("JACK IS NOT INSTALLED: its end was NOT tested");
    JackServer server;
    QVERIFY(server.is_up());
    const Folder folder;
    CliTake recording(folder);
    QTRY_VERIFY_WITH_TIMEOUT(recording.has_begun(), 60000);
    server.stop();
    const auto said = recording.ended();
    QVERIFY(said);
    QVERIFY2(said->contains("it is gone"), *said);
    QVERIFY(recording.frames() > 20000 && recording.frames() < 20 * 48000);
  }
  /// JACK's client waits for ever for a server that hangs; what was recorded until then is kept all the same.
  void a_jack_that_hangs_is_left() {
    if (!is_there("jackd")) QSKIP("JACK IS NOT INSTALLED: one that hangs was NOT tested");
    JackServer server;
    QVERIFY(server.is_up());
    const Folder folder;
    CliTake recording(folder);
    QTRY_VERIFY_WITH_TIMEOUT(recording.has_begun(), 60000);
    server.hang();
    const auto said = recording.ended();
    server.go_on();
    QVERIFY(said);
    QVERIFY2(said->contains("it gives no more sound"), *said);
    QVERIFY(recording.frames() > 20000);
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

SHARED_MAIN(TestSoundServers)
#include "test_sound_servers.moc"
