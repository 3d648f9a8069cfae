// Files that the program reads back of its own, cut anywhere or with a byte turned: what can be read is right, what
// cannot be is said in one sentence that names the file, and nothing is lost by looking. Clocks that go back, and a
// home that cannot be written, change no number. HEATHMIST_CUTS: how many of each (100).
#include <QtTest>
#include <fstream>
#include <random>

#include "core/audio/cache.hpp"
#include "core/audio/clip.hpp"
#include "core/audio/fingerprint.hpp"
#include "core/bench/document.hpp"
#include "core/bench/summary.hpp"
#include "core/bench/unsaved.hpp"
#include "core/boards/converter_board.hpp"
#include "core/delivery/measured.hpp"
#include "tests/support/programmes.hpp"
#include "tests/support/signals.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

namespace fs = std::filesystem;

int cuts() {
  return qEnvironmentVariableIntValue("HEATHMIST_CUTS") ? qEnvironmentVariableIntValue("HEATHMIST_CUTS") : 100;
}

std::mt19937_64& chance() {
  static std::mt19937_64 engine(19);
  return engine;
}
size_t below(size_t count) { return std::uniform_int_distribution<size_t>(0, count - 1)(chance()); }

std::string bytes_of(const fs::path& file) {
  std::ifstream in(file, std::ios::binary);
  return {std::istreambuf_iterator<char>(in), {}};
}
void put(const fs::path& file, const std::string& bytes) {
  std::ofstream(file, std::ios::binary | std::ios::trunc) << bytes;
}

/// Cut anywhere, or with one bit turned.
std::string broken(const std::string& bytes, int n) {
  if (n % 2) return bytes.substr(0, below(bytes.size()));
  std::string other = bytes;
  other[below(other.size())] ^= char(1 << below(8));
  return other;
}

/// One line, that says which file.
bool is_one_sentence(const std::string& said, const fs::path& file) {
  return said.find(file.filename().string()) != std::string::npos && said.find('\n') == std::string::npos &&
         said.size() < 400;
}

Bench bench_of_some() {
  Bench bench;
  bench.name = "Curlew Hours";
  for (int n = 0; n < 4; ++n) {
    Master m{"m" + std::to_string(n), "Mill Race", {"/music/" + std::to_string(n) + ".wav", "abcd"}, {}};
    for (int t = 0; t < 3; ++t)
      m.trials.push_back({m.id + "t" + std::to_string(t), "bounce", {"/music/back.wav", "ef01"}, {}});
    bench.masters.push_back(m);
  }
  bench.settings["positions"] = {{"as", 1}};
  return bench;
}

}  // namespace

class TestCutFiles : public QObject {
  Q_OBJECT

  Folder folder_;
  fs::path cache() const { return folder_ / "cache" / "heathmist"; }
  std::vector<fs::path> cached() const {
    std::vector<fs::path> files;
    for (const auto& entry : fs::recursive_directory_iterator(cache()))
      if (entry.is_regular_file()) files.push_back(entry.path());
    return files;
  }

 private slots:
  void init() {
    fs::remove_all(folder_ / "cache");
    qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str()));
  }

  void a_bench_is_read_or_refused_and_stays() {
    const auto file = folder_ / "hours.heathmist";
    const Bench bench = bench_of_some();
    save_bench(bench, file);
    const std::string whole = bytes_of(file);
    int refused = 0;
    for (int n = 0; n < cuts(); ++n) {
      const std::string now = broken(whole, n);
      put(file, now);
      try {
        load_bench(file);
        QVERIFY2(n % 2 == 0, "a bench that was cut short was taken for a whole one");
      } catch (const InputError& error) {
        ++refused;
        QVERIFY2(is_one_sentence(error.what(), file), error.what());
      }
      QVERIFY(bytes_of(file) == now);
    }
    QVERIFY(refused >= cuts() / 2);
  }

  void an_unsaved_copy_is_read_or_refused_and_hides_no_other() {
    const auto place = folder_ / "unsaved";
    fs::path one_file;
    {
      UnsavedCopy one(place), other(place);
      one.keep(bench_of_some(), {}), other.keep(bench_of_some(), folder_ / "hours.heathmist");
      one_file = one.file();
    }
    const std::string whole = bytes_of(one_file);
    for (int n = 0; n < cuts(); ++n) {
      put(one_file, broken(whole, n));
      int read = 0, seen = 0;
      for (UnsavedCopy& copy : UnsavedCopy::left_behind(place)) {
        if (!copy.exists()) continue;
        ++seen;
        try {
          copy.read(), ++read;
        } catch (const InputError& error) {
          QVERIFY2(is_one_sentence(error.what(), copy.file()), error.what());
        }
      }
      QVERIFY2(seen == 2 && read >= 1, qPrintable(QString("%1 seen, %2 read").arg(seen).arg(read)));
    }
  }

  /// A cache is what was kept, or is not there.
  void what_is_kept_is_right_or_worked_out_again() {
    const auto tide = save(folder_ / "tide.wav", programme("dense", 48000, 3, 4), 48000, WordFormat::pcm24);
    const auto json = [&] { return measured_json("tide.wav", measure_file(tide)).dump(); };
    const std::string right = json();
    const FileRef master{tide, fingerprint(tide)};
    const Trial trial{"t", "x", {tide, fingerprint(tide)}, {}};
    TrialSummary summary;
    summary.kind = "linear", summary.headline = "EQ", summary.band_hz = {100, 200}, summary.band_db = {-10, -20};
    keep_summary(master, trial, summary);
    const auto files = cached();
    QVERIFY(files.size() >= 2);
    std::map<fs::path, std::string> whole;
    for (const auto& file : files) whole[file] = bytes_of(file);
    for (int n = 0; n < cuts(); ++n) {
      for (const auto& [file, bytes] : whole) put(file, broken(bytes, n));
      QVERIFY2(json() == right, qPrintable(QString::number(n)));
      if (const auto kept = kept_summary(master, trial)) QCOMPARE(kept->kind, summary.kind);
    }
  }

  /// A file that is put in place of another of the same size, dated earlier, is another file.
  void a_clock_that_goes_back_keeps_nothing_alive() {
    const auto file = folder_ / "bounce.wav";
    const auto now = fs::file_time_type::clock::now();
    for (int n = 0; n < 6; ++n) {
      save(file, scaled(programme("piano", 48000, 3, 5), n % 2 ? 0.5 : 1), 48000, WordFormat::pcm24);
      fs::last_write_time(file, now - std::chrono::hours(100 * n));
      const auto fresh = measure(*Clip::open(file));
      QCOMPARE(measure_file(file).loudness.integrated_lufs, fresh.loudness.integrated_lufs);
    }
    for (const auto& kept : cached()) fs::last_write_time(kept, now + std::chrono::hours(10000));  // kept tomorrow
    const auto fresh = measure(*Clip::open(file));
    QCOMPARE(measure_file(file).loudness.integrated_lufs, fresh.loudness.integrated_lufs);
    set_cache_limit(1);
    QVERIFY(sweep_cache() > 0);
    set_cache_limit(uintmax_t(256) << 20);
  }

  /// No cache, no home: it takes longer, and says the same.
  void a_home_that_cannot_be_written_changes_no_number() {
    const auto tide = save(folder_ / "low.wav", programme("bass", 48000, 3, 6), 48000, WordFormat::pcm24);
    const auto right = measured_json("low.wav", measure_file(tide)).dump();
    const auto row = [] { return board_json(read_converter(board_converters(44100).front(), 96000)); };
    Json known = row();
    const QByteArray home = qgetenv("HOME");
    for (const char* nowhere : {"/dev/null/nowhere", "/proc/nothing", ""}) {
      qputenv("XDG_CACHE_HOME", nowhere), qputenv("HOME", "/dev/null");
      QCOMPARE(measured_json("low.wav", measure_file(tide)).dump(), right);
      Json again = row();
      known.erase("speed"), again.erase("speed");  // which is another each time
      QCOMPARE(again.dump(), known.dump());
    }
    qputenv("HOME", home);
  }
};

QTEST_GUILESS_MAIN(TestCutFiles)
#include "test_cut_files.moc"
