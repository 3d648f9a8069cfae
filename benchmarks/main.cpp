// heathmist-bench: what it takes, as ratios against plain peers on the same files in the same run.
//   --minutes N   length of the null pair (10)        --full   a 3-hour pair at 96 kHz for opening and memory (needs 13
//   GB)
//   --only REGEX  of all measurements only these; ratios of the others are then no numbers
//   --json FILE   keeps the figures; --against FILE sets them beside those of another run; --with FILE adds its own
//   --null A B    only null and explain two files and print the peak memory (used for the memory figure)
#include <benchmark/benchmark.h>
#include <fmt/format.h>
#include <sched.h>
#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cmath>
#include <cstdlib>
#include <map>

#include "benchmarks/figures.hpp"
#include "benchmarks/monitor.hpp"
#include "benchmarks/pairing.hpp"
#include "benchmarks/pairs.hpp"
#include "benchmarks/peers.hpp"
#include "benchmarks/sheet.hpp"
#include "core/audio/atomic_file.hpp"
#include "core/audio/cache.hpp"
#include "core/audio/scratch.hpp"
#include "core/bench/document.hpp"
#include "core/boards/converter_board.hpp"
#include "core/boards/matrix.hpp"
#include "core/compare/explain.hpp"
#include "core/delivery/ceiling.hpp"
#include "core/engines/engine.hpp"
#include "core/measure/meter.hpp"
#include "core/probes/read.hpp"
#include "demo/writer.hpp"

namespace fs = std::filesystem;
using namespace heathmist;
using bench::Figure;
using bench::table_of;

namespace {

struct Files {
  fs::path folder = fs::temp_directory_path() / fmt::format("heathmist-bench-{}", getpid());
  fs::path master = folder / "master.wav", ret = folder / "return.wav", long_master = folder / "long-master.wav",
           long_return = folder / "long-return.wav";
  Files() {
    fs::create_directories(folder);
    setenv("XDG_CACHE_HOME", (folder / "cache").c_str(), 1);
  }
  ~Files() {
    std::error_code ignored;
    fs::remove_all(folder, ignored);
  }
};

/// Keeps the times by name, so that peers can be set against each other.
class Ratios : public benchmark::ConsoleReporter {
 public:
  void ReportRuns(const std::vector<Run>& runs) override {
    for (const auto& run : runs)
      if (run.aggregate_name == "median") {
        medians_[run.run_name.function_name] = run.GetAdjustedRealTime();
        work_[run.run_name.function_name] = run.GetAdjustedCPUTime();
      }
    ConsoleReporter::ReportRuns(runs);
  }
  Ratios() : ConsoleReporter(OO_None) {}
  // not a number: it was not measured
  double median(const std::string& name) const { return of(medians_, name); }
  double work(const std::string& name) const { return of(work_, name); }  ///< of all threads

 private:
  using ByName = std::map<std::string, double>;
  static double of(const ByName& all, const std::string& name) {
    const auto at = all.find(name);
    return at == all.end() ? std::nan("") : at->second;
  }
  ByName medians_, work_;
};

void add(const char* name, const std::function<void()>& work, int repetitions = 5) {
  benchmark::RegisterBenchmark(name,
                               [work](benchmark::State& state) {
                                 for (auto _ : state) work();
                               })
      ->UseRealTime()
      ->MeasureProcessCPUTime()
      ->Unit(benchmark::kMillisecond)
      ->Iterations(1)
      ->Repetitions(repetitions)
      ->DisplayAggregatesOnly(true);
}

/// Of every thread there is: those of the pool live on from one piece of work to the next.
void run_all_threads_on(const cpu_set_t& cores) {
  for (const auto& task : fs::directory_iterator("/proc/self/task"))
    sched_setaffinity(pid_t(std::stol(task.path().filename().string())), sizeof cores, &cores);
}

/// The same on the first core alone.
std::function<void()> on_one_core(const std::function<void()>& work) {
  return [work] {
    cpu_set_t before, first;
    sched_getaffinity(0, sizeof before, &before);
    CPU_ZERO(&first);
    CPU_SET(0, &first);
    run_all_threads_on(first);
    work();
    run_all_threads_on(before);
  };
}

long peak_memory_mib(const char* self, const fs::path& a, const fs::path& b) {
  const pid_t child = fork();
  if (child == 0) {
    execl(self, self, "--null", a.c_str(), b.c_str(), nullptr);
    _exit(1);
  }
  int status = 0;
  struct ::rusage used {};
  wait4(child, &status, 0, &used);
  return used.ru_maxrss / 1024;
}

int null_only(const char* a, const char* b) {
  const auto m = Clip::open(a), r = Clip::open(b);
  auto report = null_test(m, r);
  explain(*m, *r, {m, r}, report);
  fmt::print("{}: delay {:.4f}, {:.2f} dBr\n", name_of(report.kind), report.fit.delay_samples,
             report.residual_relative_db().value_or(-999));
  return 0;
}

/// What was run by name.
std::vector<Figure> figures_of(const Ratios& ratios, double minutes, double long_minutes, double render_s) {
  const auto ratio = [&](const char* of, const char* against) { return ratios.median(of) / ratios.median(against); };
  return {
      {fmt::format("null of two {}-minute files", minutes), "one whole-file FFT correlation and Welch",
       ratio("null_heathmist", "null_whole_file_fftw"), "", 0.2},
      {"the same with its explanation", "one whole-file FFT correlation and Welch",
       ratio("explained_heathmist", "null_whole_file_fftw"), "", 0.5},
      {"loudness in full with true peak, times as fast", "libebur128", ratio("measure_witness", "measure_heathmist"),
       "", 40, true},
      {"the same, time", "reading the samples once", ratio("measure_heathmist", "read_plain"), "", 3},
      {fmt::format("opening {} minutes at 96 kHz to their overview", long_minutes), "reading them once",
       ratio("open_heathmist", "open_plain_read"), "", 1.5},
      {"opening them again", "reading them once", ratio("open_again_heathmist", "open_plain_read")},
      {"matrix of the demo by 8 settings", "bare encodes and decodes", ratio("matrix_heathmist", "matrix_bare_codecs"),
       "", 0.65},
      {"ceiling search of seven encodes", "as many bare encodes and decodes",
       ratio("ceiling_heathmist", "ceiling_bare_codecs"), "", 6},
      {"board of all converters, 96 to 44.1 kHz", "bare conversions",
       ratio("board_heathmist", "board_bare_conversions"), "", 3},
      {"reading 40 s of a gain probe's render", "", ratios.median("engine_reading") / 1000 * 40 / render_s, "s", 0.5},
      {"start of the command line to its end", "", ratios.median("start_heathmist") / 1000, "s", 0.05},
  };
}

/// What is measured once, each in its own way.
std::vector<Figure> figures_of_the_rest(const char* self, const Files& files, double long_minutes) {
  const long memory = peak_memory_mib(self, files.long_master, files.long_return);
  const auto sheet = bench::sheet_cost(files.master, files.folder);
  const auto cost = bench::pairing_cost(files.master);
  return {{"watching an input at 48 kHz", "one core", bench::monitoring_share(), "", 0.15},
          {"a sheet of 200 files, rules of levels", "the meter alone", sheet.levels_s / sheet.meter_s, "", 1.1},
          {"the same with every rule", "the meter alone", sheet.all_s / sheet.meter_s},
          {"pairing 200 by 200 files of 4 minutes, beyond reading them", "",
           400 * (cost.print_s - cost.read_s) + cost.match_s, "s", 120},
          {"wrong pairs", "", double(cost.wrong), "", 0},
          {fmt::format("memory of null and explanation, {} minutes at 96 kHz", long_minutes), "", double(memory), "MiB",
           400}};
}

}  // namespace

int main(int argc, char** argv) try {
  double minutes = 10;
  bool full = false;
  std::string only = ".*", json;
  std::vector<Figure> before, others;
  for (int n = 1; n < argc; ++n) {
    const std::string word = argv[n];
    if (word == "--minutes" && n + 1 < argc) minutes = std::atof(argv[n + 1]);
    if (word == "--full") full = true;
    if (word == "--only" && n + 1 < argc) only = argv[n + 1];
    if (word == "--json" && n + 1 < argc) json = argv[n + 1];
    if (word == "--against" && n + 1 < argc) before = bench::read_figures(argv[n + 1]);
    if (word == "--with" && n + 1 < argc) others = bench::read_figures(argv[n + 1]);
    if (word == "--null" && n + 2 < argc) return null_only(argv[n + 1], argv[n + 2]);
  }
  if (!json.empty()) check(Destination(json));  // before all that work
  Files files;
  const double long_minutes = full ? 180 : 10;
  fmt::print("writing a pair of {} minutes at 44.1 kHz and one of {} minutes at 96 kHz\n", minutes, long_minutes);
  peers::write_pair(files.master, files.ret, 44100, minutes * 60, 1234);
  peers::write_pair(files.long_master, files.long_return, 96000, long_minutes * 60, 98765);

  add("null_heathmist", [&] {
    fs::remove_all(cache_folder());
    null_test(Clip::open(files.master), Clip::open(files.ret));
  });
  add("explained_heathmist", [&] {
    fs::remove_all(cache_folder());
    const auto m = Clip::open(files.master), r = Clip::open(files.ret);
    auto report = null_test(m, r);
    explain(*m, *r, {m, r}, report);
  });
  for (const auto& m : pairs::measurements(files.master))
    add(m.name.c_str(), m.one_core ? on_one_core(m.work) : m.work, 3);
  add("null_whole_file_fftw", [&] { peers::whole_file_correlation(files.master, files.ret); });
  add("fit_heathmist", [&] { find_fit(*Clip::open(files.master), *Clip::open(files.ret), {}); });
  add("open_heathmist", [&] { survey(*Clip::open(files.long_master)); });
  add("open_plain_read", [&] { peers::plain_read(files.long_master); });
  add("open_again_heathmist", [&] { cached_survey(*Clip::open(files.long_master)); });
  add("measure_heathmist", [&] { measure_loudness(*Clip::open(files.master)); });
  add("read_plain", [&] { peers::plain_read(files.master); });
  const std::string start = (fs::canonical("/proc/self/exe").parent_path() / "heathmist-cli").string() + " --version";
  add("start_heathmist", [&] {
    if (std::system((start + " > /dev/null").c_str()) != 0) throw std::runtime_error(start + ": it does not start");
  });
  add(
      "measure_witness", [&] { peers::witness_measure(files.master); }, 3);
  const Bench demo = load_bench(demo::write_demo(files.folder / "demo"));
  const auto& settings = common_settings();
  add(
      "matrix_heathmist",
      [&] {
        fs::remove_all(cache_folder());
        std::vector<MatrixRow> rows;
        for (const Master& m : demo.masters) rows.push_back({m.name, m.audio.file, ""});
        run_matrix(rows, settings);
      },
      2);
  add(
      "matrix_bare_codecs",
      [&] {
        for (const Master& m : demo.masters)
          for (const Chain& chain : settings) peers::bare_encode_and_decode(m.audio.file, chain, files.folder);
      },
      2);
  std::vector<Chain> encodes;
  std::copy_if(settings.begin(), settings.end(), std::back_inserter(encodes),
               [](const Chain& chain) { return chain.stages.front().type == "codec"; });
  const fs::path loud = files.folder / "short.wav";
  peers::write_pair(loud, files.folder / "short return.wav", 44100, 10, 500);
  CeilingOptions limit;
  limit.limit_dbtp = -1;
  add(
      "ceiling_heathmist",
      [&] {
        fs::remove_all(cache_folder());
        find_ceiling(loud, encodes, limit);
      },
      2);
  add(
      "ceiling_bare_codecs",
      [&] {
        for (const Chain& chain : encodes) peers::bare_encode_and_decode(loud, chain, files.folder);
      },
      2);
  const int board_from = 96000, board_to = 44100;
  const auto sweep = body_clip(probe_score("sweep", board_from));
  add(
      "board_heathmist",
      [&] {
        fs::remove_all(cache_folder());
        for (const Chain& chain : board_converters(board_to)) read_converter(chain, board_from);
      },
      2);
  add(
      "board_bare_conversions",
      [&] {
        for (const Chain& chain : board_converters(board_to)) pass(sweep, chain);
      },
      2);
  const auto gain_score = probe_score("gain", 48000);
  const auto render =
      perform(gain_score, {made_clip(sound_of(gain_score, ProbeWord::pcm24), 48000, "gain")}, known_engines().front());
  add(
      "engine_reading", [&] { read_probe(*render, "gain"); }, 5);
  Ratios ratios;
  int none = 1;
  benchmark::Initialize(&none, argv);
  benchmark::RunSpecifiedBenchmarks(&ratios, only);

  auto figures = figures_of(ratios, minutes, long_minutes, render->format().duration_s());
  for (Figure& f : pairs::figures([&](const std::string& name) { return ratios.median(name); },
                                  [&](const std::string& name) { return ratios.work(name); }))
    figures.push_back(std::move(f));
  if (only == ".*")
    for (Figure& f : figures_of_the_rest(argv[0], files, long_minutes)) figures.push_back(std::move(f));
  for (Figure& f : others) figures.push_back(std::move(f));
  fmt::print("\n{}", table_of(figures, before));
  if (!json.empty()) bench::write_figures(figures, json);
  return 0;
} catch (const std::exception& error) {
  fmt::print(stderr, "heathmist-bench: {}\n", error.what());
  return 1;
}
