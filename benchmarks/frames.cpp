// heathmist-frames: how long the interface thread is away, in the real window, off screen. Every event that Qt hands
// out is timed; a frame is lost where one takes longer than a 60 Hz screen waits (16.7 ms).
#include <fmt/format.h>
#include <unistd.h>

#include <QApplication>
#include <QElapsedTimer>
#include <QScrollBar>
#include <QSettings>
#include <QStandardPaths>
#include <QTimer>
#include <QWheelEvent>
#include <algorithm>

#include "app/pages/loudness/loudness_view.hpp"
#include "app/pages/outlets/outlets_view.hpp"
#include "app/pages/spectrum/spectrum_view.hpp"
#include "app/shell/main_window.hpp"
#include "app/theme/theme.hpp"
#include "benchmarks/figures.hpp"
#include "benchmarks/peers.hpp"
#include "benchmarks/reports.hpp"
#include "core/audio/cache.hpp"

namespace fs = std::filesystem;
using namespace heathmist;
using namespace heathmist::app;

namespace {

constexpr double frame_ms = 1000.0 / 60;
std::vector<bench::Figure> figures;

class Watched : public QApplication {
 public:
  using QApplication::QApplication;
  bool notify(QObject* object, QEvent* event) override {
    if (std::exchange(inside_, true)) return QApplication::notify(object, event);
    const std::string name = object->metaObject()->className();
    QElapsedTimer clock;
    clock.start();
    const bool done = QApplication::notify(object, event);
    took_ms_.push_back(double(clock.nsecsElapsed()) / 1e6);
    if (took_ms_.back() > frame_ms && qEnvironmentVariableIsSet("HEATHMIST_FRAMES_TOLD"))  // who holds it up
      fmt::print(stderr, "{:.1f} ms: {} to {}\n", took_ms_.back(), int(event->type()), name);
    inside_ = false;
    return done;
  }
  void begin() { took_ms_.clear(); }
  /// Events that hold nothing up are counted as the frames they leave room for.
  void tell(const char* what) {
    double all = 0, longest = 0, lost = 0, drawn = 0;
    for (const double ms : took_ms_) {
      all += ms, longest = std::max(longest, ms);
      drawn += ms > 1;
      lost += ms > frame_ms;
    }
    fmt::print("{}: {:.0f} pieces of work over 1 ms, the longest {:.1f} frames\n", what, drawn, longest / frame_ms);
    figures.push_back(
        {"of 100 pieces of work within a frame", what, drawn > 0 ? 100 - 100 * lost / drawn : 100.0, "", 99.9, true});
  }

 private:
  bool inside_ = false;
  std::vector<double> took_ms_;
};

struct Folder {
  fs::path path = fs::temp_directory_path() / fmt::format("heathmist-frames-{}", getpid());
  Folder() {
    fs::create_directories(path);
    setenv("XDG_CACHE_HOME", (path / "cache").c_str(), 1);
    setenv("XDG_CONFIG_HOME", (path / "config").c_str(), 1);
  }
  ~Folder() {
    std::error_code ignored;
    fs::remove_all(path, ignored);
  }
};

Bench many_masters(const fs::path& folder, int count) {
  Bench bench;
  for (int n = 0; n < count; n += 2) {
    const fs::path a = folder / fmt::format("{}.wav", n), b = folder / fmt::format("{}.wav", n + 1);
    peers::write_pair(a, b, 44100, 10, 10 + n);
    for (const auto& [k, file] : {std::pair{n, a}, {n + 1, b}})
      bench.masters.push_back({fmt::format("m{}", k), fmt::format("Tide {}", k), {file, ""}, {}});
  }
  return bench;
}

void wait_for(const std::function<bool()>& done) {
  while (!done()) QCoreApplication::processEvents(QEventLoop::WaitForMoreEvents, 50);
}

/// The table is scrolled all the while as the numbers of its rows come in.
void while_files_come_in(Watched& app, MainWindow& window, const Bench& bench, const std::string& page,
                         ResultTable* table) {
  fs::remove_all(cache_folder());
  window.show_page(page);
  QTimer hand;
  QObject::connect(&hand, &QTimer::timeout, table, [table, n = 0]() mutable {
    auto* bar = table->verticalScrollBar();
    bar->setValue((n += 3) % std::max(1, bar->maximum()));
  });
  hand.start(16);
  app.begin();
  window.workspace().model().edit("masters", [&](Bench& b) { b = bench; });
  window.loudness().run();
  wait_for([&] { return window.loudness().waiting() == 0 && !window.loudness().is_running(); });
}

/// An hour of stereo: how soon its spectrogram is there, and what zooming and panning hold up.
void spectrogram_of_an_hour(Watched& app, MainWindow& window, const fs::path& folder) {
  const fs::path file = folder / "hour.wav", copy = folder / "copy.wav";
  peers::write_pair(file, copy, 44100, 3600, 100);
  fs::remove(copy);
  window.workspace().model().edit("an hour", [&](Bench& b) { b.masters = {{"hour", "Hour", {file, ""}, {}}}; });
  window.show_page("spectrum");
  auto* view = window.part<SpectrumView>();
  for (const char* key : {"master", "return"}) view->choose(key, false);
  QElapsedTimer clock;
  clock.start();
  view->kind()->setCurrentIndex(SpectrumView::over_time_plain);
  view->choose("hour", true);
  wait_for([&] { return view->over_time()->has_cells(); });
  figures.push_back({"spectrogram of an hour of stereo, first seen", "", double(clock.elapsed()) / 1000, "s", 0.25});
  wait_for([&] { return !view->is_running(); });
  QTimer hand;
  int turns = 0;
  QObject::connect(&hand, &QTimer::timeout, view, [&] {
    const QPointF at(300 + turns % 200, 100);
    QWheelEvent wheel(at, view->over_time()->mapToGlobal(at), {}, {0, turns % 60 < 40 ? 60 : -120}, Qt::NoButton,
                      Qt::NoModifier, Qt::NoScrollPhase, false);
    QCoreApplication::sendEvent(view->over_time(), &wheel);
    ++turns;
  });
  app.begin();
  hand.start(16);
  wait_for([&] { return turns >= 400; });
  hand.stop();
  app.tell("zooming in and out of it");
  view->kind()->setCurrentIndex(SpectrumView::moment);
  wait_for([&] { return !view->is_running(); });
  turns = 0;
  QTimer scrub;
  QObject::connect(&scrub, &QTimer::timeout, view, [&] { view->set_playhead(9.0 * turns++); });
  int drawn = 0;
  QObject::connect(view, &SpectrumView::drawn, view, [&] { ++drawn; });
  app.begin();
  scrub.start(16);
  wait_for([&] { return turns >= 390; });
  scrub.stop();
  app.tell("scrubbing the hour from end to end, the spectrum of each moment");
  fmt::print("    {} spectra drawn in {} places of the playhead\n", drawn, turns);
}

/// To and fro between two trials that were measured and explained before, to the window drawn with each.
void switching_trials(MainWindow& window, const fs::path& folder) {
  constexpr int turns = 20;
  const fs::path master = folder / "switch master.wav", first = folder / "first.wav", second = folder / "second.wav";
  peers::write_pair(master, first, 44100, 60, 300);
  fs::copy_file(first, second);
  Workspace& workspace = window.workspace();
  window.show_page("null");
  workspace.model().edit("two trials", [&](Bench& b) {
    b = {};
    b.masters.push_back(
        {"m", "Weir", {master, ""}, {{"a", "first", {first, ""}, {}}, {"b", "second", {second, ""}, {}}}});
  });
  const auto shows = [&](const char* id) {
    return workspace.current() == id && workspace.current_result() && workspace.current_result()->why;
  };
  for (const char* id : {"a", "b"}) workspace.look_at(id), wait_for([&] { return shows(id); });
  std::vector<double> took;
  for (int n = 0; n < turns; ++n) {
    const char* id = n % 2 ? "b" : "a";
    QElapsedTimer clock;
    clock.start();
    workspace.look_at(id);
    wait_for([&] { return shows(id); });
    QCoreApplication::processEvents();  // plots that are drawn as soon as there is time
    window.grab();
    took.push_back(double(clock.nsecsElapsed()) / 1e9);
  }
  std::nth_element(took.begin(), took.begin() + turns / 2, took.end());
  figures.push_back({"switching to another trial, to the window drawn", "", took[turns / 2], "s", 0.1});
}

void tell_of_reports(const fs::path& folder) {
  const auto cost = bench::report_cost(folder);
  fmt::print("a report of {} pages: {:.1f} s what it says, {:.1f} s HTML, {:.1f} s PDF\n", cost.pages, cost.made_s,
             cost.html_s, cost.pdf_s);
  figures.push_back(
      {"a report of 200 trials beyond their measuring", "", cost.made_s + cost.html_s + cost.pdf_s, "s", 20});
}

/// Everything that was found goes into a file, or onto the screen.
int keep(const std::string& json) {
  try {
    json.empty() ? fmt::print("\n{}", bench::table_of(figures)) : bench::write_figures(figures, json);
    return 0;
  } catch (const std::exception& error) {
    fmt::print(stderr, "heathmist-frames: {}\n", error.what());
    return 1;
  }
}

}  // namespace

/// --spectra: only what is drawn of the hour; --report: only what a report costs; --switch: only switching trials;
/// --json FILE: keeps the figures.
int main(int argc, char** argv) {
  const auto is_given = [&](const char* word) {
    return std::any_of(argv + 1, argv + argc, [&](const char* w) { return std::string(w) == word; });
  };
  const std::string json = argc > 2 && std::string(argv[argc - 2]) == "--json" ? argv[argc - 1] : "";
  if (qEnvironmentVariableIsEmpty("DISPLAY")) qputenv("QT_QPA_PLATFORM", "offscreen");
  Folder folder;
  Watched app(argc, argv);
  QStandardPaths::setTestModeEnabled(true);
  QSettings::setPath(QSettings::NativeFormat, QSettings::UserScope, QString::fromStdString(folder.path / "settings"));
  Theme::instance().apply(false);
  if (is_given("--report")) return tell_of_reports(folder.path), keep(json);
  if (is_given("--switch")) {
    MainWindow window(simulated_output());
    window.set_quiet(true);
    window.resize(1280, 800);
    window.show();
    switching_trials(window, folder.path);
    window.workspace().model().undo_stack().setClean();
    return keep(json);
  }
  const bool tables = !is_given("--spectra");  // else those alone
  const Bench bench = many_masters(folder.path, tables ? 200 : 2);
  QElapsedTimer since;
  since.start();
  MainWindow window(simulated_output());
  window.set_quiet(true);
  window.resize(1280, 800);
  window.show();
  window.grab();
  figures.push_back({"the window, from nothing to its first picture", "", double(since.elapsed()) / 1000, "s", 0.5});
  while_files_come_in(app, window, bench, "loudness", window.part<LoudnessView>()->table());
  app.tell("loudness of 200 files coming in, the table scrolled all the while");
  window.workspace().model().edit("none", [](Bench& b) { b = {}; });
  window.part<OutletsView>()->master()->setCurrentIndex(0);
  while_files_come_in(app, window, bench, "outlets", window.part<OutletsView>()->table());
  app.tell("200 files by all outlets coming in, the table scrolled all the while");
  spectrogram_of_an_hour(app, window, folder.path);
  switching_trials(window, folder.path);
  window.workspace().model().undo_stack().setClean();
  tell_of_reports(folder.path);
  return keep(json);
}
