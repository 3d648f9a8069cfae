// heathmist-sizes: what each verb of the command line takes, over the length of a file and over its channels: time of
// all cores and greatest memory, and the slope of either, log by log. 1: twice the size takes twice as much.
//   --longest S    seconds of the longest pair (3600)      --most N    channels of the widest (64)
//   --json FILE    keeps the points                         --page FILE  a chart of each, HTML
#include <fcntl.h>
#include <fmt/format.h>
#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

#include <QApplication>
#include <cmath>
#include <cstdlib>

#include "app/report/html.hpp"
#include "app/theme/theme.hpp"
#include "benchmarks/peers.hpp"
#include "benchmarks/slopes.hpp"
#include "core/audio/atomic_file.hpp"
#include "core/json.hpp"

namespace fs = std::filesystem;
using namespace heathmist;
using bench::Course;
using bench::Point;

namespace {

constexpr int rate_hz = 48000, delay = 1234;
constexpr double wide_s = 30;  // length of the pairs that differ in channels

struct Verb {
  std::string name;
  std::vector<std::string> words;  ///< M: the master, R: the return, O: a file to write
};
const std::vector<Verb>& verbs() {
  static const std::vector<Verb> all{
      {"facts", {"facts", "M", "--json"}},       {"measure", {"measure", "M", "--json"}},
      {"spectrum", {"spectrum", "M", "--json"}}, {"null", {"null", "M", "R", "--json"}},
      {"align", {"align", "M", "R", "-o", "O"}},
  };
  return all;
}

struct Folder {
  fs::path path = fs::temp_directory_path() / fmt::format("heathmist-sizes-{}", getpid());
  Folder() { fs::create_directories(path); }
  ~Folder() {
    std::error_code ignored;
    fs::remove_all(path, ignored);
  }
};

/// Runs a program with nothing kept from before; its output is thrown away. Throws where it fails.
Point run(const fs::path& cli, const Verb& verb, const fs::path& folder) {
  fs::remove_all(folder / "cache"), fs::remove(folder / "out.wav");
  std::vector<std::string> words{cli.string()};
  for (const std::string& w : verb.words)
    words.push_back(w == "M"   ? (folder / "m.wav").string()
                    : w == "R" ? (folder / "r.wav").string()
                    : w == "O" ? (folder / "out.wav").string()
                               : w);
  std::vector<char*> argv;
  for (std::string& w : words) argv.push_back(w.data());
  argv.push_back(nullptr);
  const pid_t child = fork();
  if (child == 0) {
    const int nowhere = open("/dev/null", O_WRONLY);
    dup2(nowhere, 1), dup2(nowhere, 2);
    setenv("XDG_CACHE_HOME", (folder / "cache").c_str(), 1);
    execv(argv[0], argv.data());
    _exit(127);
  }
  int status = 0;
  struct ::rusage used {};
  wait4(child, &status, 0, &used);
  if (!WIFEXITED(status) || WEXITSTATUS(status) != 0)
    throw std::runtime_error(fmt::format("this failed: {}", fmt::join(words, " ")));
  const auto seconds = [](const timeval& t) { return double(t.tv_sec) + 1e-6 * double(t.tv_usec); };
  return {0, seconds(used.ru_utime) + seconds(used.ru_stime), double(used.ru_maxrss) / 1024};
}

std::vector<double> up_to(double most, std::vector<double> steps) {
  std::erase_if(steps, [&](double s) { return s > most; });
  return steps;
}

/// Every verb over pairs of each size.
std::vector<Course> courses_of(const fs::path& cli, const std::string& over, const std::vector<double>& sizes) {
  const Folder folder;
  std::vector<Course> courses;
  for (const Verb& v : verbs()) courses.push_back({v.name, over, {}});
  for (const double size : sizes) {
    const bool is_length = over == "seconds";
    peers::write_pair(folder.path / "m.wav", folder.path / "r.wav", rate_hz, is_length ? size : wide_s, delay,
                      is_length ? 2 : int(size));
    for (size_t n = 0; n < verbs().size(); ++n) {
      Point p = run(cli, verbs()[n], folder.path);
      p.size = size;
      courses[n].points.push_back(p);
      fmt::print(stderr, "{} of {} {}: {:.2f} s, {:.0f} MiB\n", verbs()[n].name, size, over, p.time_s, p.memory_mib);
    }
  }
  return courses;
}

void write(const std::string& file, const std::string& text) {
  AtomicFile out{Destination(file)};
  out.write(text);
  out.commit();
}

}  // namespace

int main(int argc, char** argv) try {
  qputenv("QT_QPA_PLATFORM", "offscreen");  // charts want the theme's fonts and colours, and no screen
  const QApplication qt(argc, argv);
  app::Theme::instance().apply(false);
  double longest = 3600, most = 64;
  std::string json, page;
  for (int n = 1; n + 1 < argc; ++n) {
    const std::string word = argv[n];
    if (word == "--longest") longest = std::atof(argv[n + 1]);
    if (word == "--most") most = std::atof(argv[n + 1]);
    if (word == "--json") json = argv[n + 1];
    if (word == "--page") page = argv[n + 1];
  }
  for (const std::string& file : {json, page})
    if (!file.empty()) check(Destination(file));  // before all that work
  const fs::path cli = fs::canonical("/proc/self/exe").parent_path() / "heathmist-cli";
  auto courses = courses_of(cli, "seconds", up_to(longest, {10, 30, 60, 180, 600, 1800, 3600, 10800, 21600}));
  for (Course& c : courses_of(cli, "channels", up_to(most, {1, 2, 4, 8, 16, 32, 64}))) courses.push_back(std::move(c));
  fmt::print("{}", bench::table_of(courses));
  if (!json.empty()) write(json, text_of(bench::json_of(courses)) + "\n");
  if (!page.empty()) write(page, app::report_html(bench::report_of(courses)));
  return 0;
} catch (const std::exception& error) {
  fmt::print(stderr, "heathmist-sizes: {}\n", error.what());
  return 1;
}
