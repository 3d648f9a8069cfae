// heathmist [FILE...]: opens benches and audio files in the window.
// heathmist report BENCH -o OUT: writes a report, and opens no window (app/report/command.hpp).
//   --picture FILE   draws the window to a PNG once the first trial is measured, and ends (for docs/screenshots)
//   --size WxH --scale N --night --trial NAME --select FROM-TO   how that picture is taken
#include <QApplication>
#include <QBuffer>
#include <QCommandLineParser>
#include <QSettings>
#include <QTemporaryDir>
#include <QTimer>

#include "app/model/log.hpp"
#include "app/pages/blind/blind_view.hpp"
#include "app/pages/capture/capture_view.hpp"
#include "app/pages/ceiling/ceiling_view.hpp"
#include "app/pages/converters/converters_view.hpp"
#include "app/pages/crossfade/crossfade_view.hpp"
#include "app/pages/deliverables/deliverables_view.hpp"
#include "app/pages/device_form.hpp"
#include "app/pages/engines/engines_view.hpp"
#include "app/pages/loudness/loudness_view.hpp"
#include "app/pages/matrix/matrix_view.hpp"
#include "app/pages/monitor/monitor_view.hpp"
#include "app/pages/null/plate_panel.hpp"
#include "app/pages/outlets/outlets_view.hpp"
#include "app/pages/pairs/pairs_view.hpp"
#include "app/pages/report/report_view.hpp"
#include "app/pages/responses/responses_view.hpp"
#include "app/pages/sheet/sheet_view.hpp"
#include "app/pages/spectrum/spectrum_view.hpp"
#include "app/pages/ways/ways_view.hpp"
#include "app/pages/word_lengths/word_lengths_view.hpp"
#include "app/report/command.hpp"
#include "app/shell/log_window.hpp"
#include "app/shell/main_window.hpp"
#include "app/theme/theme.hpp"
#include "app/widgets/saving.hpp"

using namespace heathmist::app;
using heathmist::Destination;

namespace {

QString first_trial_named(Workspace& workspace, const QString& name) {
  for (const auto& m : workspace.model().bench().masters)
    for (const auto& t : m.trials)
      if (QString::fromStdString(heathmist::title_of(t)).contains(name, Qt::CaseInsensitive))
        return QString::fromStdString(t.id);
  return {};
}

bool write_picture(QWidget& window, const Destination& to) {
  QByteArray bytes;
  QBuffer buffer(&bytes);
  buffer.open(QIODevice::WriteOnly);
  window.grab().save(&buffer, "PNG");
  try {
    heathmist::write_whole(to, bytes.toStdString());
    return true;
  } catch (const std::exception& error) {
    std::fprintf(stderr, "heathmist: %s\n", error.what());
    return false;
  }
}

/// Calls `then` once, when the part says so by `signal`.
template <class Part, class Signal>
void once(Part* part, Signal signal, MainWindow& window, std::function<void()> then) {
  QObject::connect(part, signal, &window, std::move(then), Qt::SingleShotConnection);
}

/// The same of the pages for many files: all that lies beside the demo's masters.
bool run_many_files(MainWindow& window, const std::string& page, const std::function<void()>& draw) {
  QStringList returns;
  for (const heathmist::Master& m : window.workspace().bench().masters)
    for (const heathmist::Trial& t : m.trials)
      if (!t.chain) returns << QString::fromStdString(t.ret.file.string());
  if (page == "sheet") {
    auto* view = window.part<SheetView>();
    once(view, &SheetView::rested, window, draw);
    view->add(returns);
  } else if (page == "pairs") {
    auto* view = window.part<PairsView>();
    once(view, &PairsView::rested, window, draw);
    view->returns()->add(returns);
    view->find();
  } else if (page == "deliverables") {
    auto* view = window.part<DeliverablesView>();
    once(view, &DeliverablesView::rested, window, draw);
    view->files()->add(returns);
    view->find();
  } else if (page == "ways") {
    auto* view = window.part<WaysView>();
    once(view, &WaysView::rested, window, draw);
    view->start();
  } else {
    return false;
  }
  return true;
}

/// Runs what a page shows nothing without, then draws. False: it has to run nothing.
bool run_first(MainWindow& window, const std::string& page, const QCommandLineParser& words,
               const std::function<void()>& draw) {
  if (page == "matrix") {
    auto* view = window.part<MatrixView>();
    once(view, &MatrixView::rested, window, draw);
    view->start();
  } else if (page == "ceiling") {
    auto* view = window.part<CeilingView>();
    once(view, &CeilingView::rested, window, draw);
    if (words.isSet("limit")) view->limit()->setValue(words.value("limit").toDouble());
    view->start();
  } else if (page == "word_lengths") {
    auto* view = window.part<WordLengthsView>();
    once(view, &WordLengthsView::rested, window, [view, draw] {
      view->table()->selectRow(2);
      draw();
    });
    view->start();
  } else if (page == "converters") {
    auto* view = window.part<ConvertersView>();
    once(view, &ConvertersView::rested, window, [view, draw] {
      view->table()->setSelectionMode(QAbstractItemView::MultiSelection);
      view->table()->selectRow(view->table()->shown() - 3);
      draw();
    });
    view->start();
  } else if (page == "crossfade") {
    once(window.part<CrossfadeView>(), &CrossfadeView::rested, window, draw);
  } else if (page == "responses") {
    auto* view = window.part<ResponsesView>();
    once(view, &ResponsesView::rested, window, [view, draw] {
      view->table()->choose({0, 1});
      draw();
    });
  } else if (page == "engines") {
    auto* view = window.part<EnginesView>();
    const QStringList which = words.value("plates").split(',');  // kind, engine, event
    once(&view->readings(), &EngineReadings::rested, window, [view, draw, which] {
      const auto& engines = view->cards()->cards();
      const auto kind = size_t(which.value(0).toInt()), engine = size_t(which.value(1).toInt());
      if (engine < engines.size())
        view->choose(engines[engine]->id(), kind < engine_kinds().size() ? engine_kinds()[kind] : "all");
      if (which.size() > 2) view->table()->choose({size_t(which[2].toInt())});
      draw();
    });
  } else if (page == "blind" &&
             words.isSet("plates")) {  // 0 or 1,METHOD: set up, gone through; 2,N: what a test came to
    auto* view = window.part<BlindView>();
    const QStringList which = words.value("plates").split(',');
    const auto& tests = window.workspace().bench().blind;
    if (const auto n = size_t(which.value(1).toInt()); which[0] == "2" && n < tests.size()) view->go_on(tests[n].id);
    if (which[0] != "2") view->setup()->choose(heathmist::BlindMethod(which.value(1).toInt()));
    if (which[0] != "1") return false;
    once(view, &BlindView::rested, window, draw);
    view->begin();
  } else if (page == "capture") {  // 0: set up; 1,STAND-IN: recorded through the loop
    auto* view = window.part<CaptureView>();
    const QStringList which = words.value("plates").split(',');
    view->form()->set_clock(0);
    view->form()->choose_stand_in(which.value(1).toInt());
    if (which[0] != "1") {
      QTimer::singleShot(500, view, [view] { view->check_level(); });
      QTimer::singleShot(1500, view, draw);
      return true;
    }
    once(view, &CaptureView::rested, window, [&window, view, draw] {
      once(&window.workspace(), &Workspace::idle, window, [view, draw] {
        view->file()->setText("mill-race recorded.wav");  // and no folder of this machine
        draw();
      });
    });
    static const QTemporaryDir passing;  // goes with the program
    QTimer::singleShot(1000, view, [view] {
      view->file()->setText(passing.filePath("Mill Race, recorded.wav"));
      view->start();
    });
  } else if (page == "monitor") {  // a master sent round the stand-in and heard beside its return
    auto* view = window.part<MonitorView>();
    view->form()->set_clock(0);
    view->form()->choose_stand_in(2);
    QTimer::singleShot(1000, view, [&window, view, draw] {
      view->sent()->setCurrentIndex(1);
      QTimer::singleShot(400, view, [view] { view->listened()->setCurrentIndex(1); });
      window.part<ListeningBar>()->hear(Heard::ret);
      view->outlets()->setCurrentIndex(1);
      QTimer::singleShot(500, view, &MonitorView::start);
      QTimer::singleShot(6000, view, draw);
    });
  } else if (page == "report") {
    once(window.part<ReportView>(), &ReportView::rested, window, draw);
  } else if (page == "loudness") {
    once(&window.loudness(), &LoudnessReadings::rested, window, [&window, draw] {
      window.part<LoudnessView>()->table()->selectRow(0);
      draw();
    });
  } else if (page == "outlets") {
    once(&window.loudness(), &LoudnessReadings::rested, window, [&window, draw] {
      auto* view = window.part<OutletsView>();
      once(view, &OutletsView::rested, window, draw);
      view->run_encodes();
    });
  } else {
    return run_many_files(window, page, draw);
  }
  return true;
}

/// Takes one picture of the window and ends the program.
void take_picture(MainWindow& window, const QCommandLineParser& words) {
  const QStringList size = words.value("size").split('x');
  window.resize(size.value(0).toInt(), size.value(1).toInt());
  if (words.isSet("trial"))
    window.workspace().look_at(first_trial_named(window.workspace(), words.value("trial")).toStdString());
  auto draw = [&window,
               file = Destination(words.value("picture").toStdString(), words.isSet("force"), files_in_use())] {
    QTimer::singleShot(1500, &window, [&window, file] { qApp->exit(write_picture(window, file) ? 0 : 1); });
  };
  const QStringList plates = words.value("plates").split(',');
  auto* board = window.part<PlatePanel>();
  board->left()->choose(plates.value(0).toInt());
  board->right()->choose(plates.value(1).toInt());
  if (plates.size() > 2) board->restore({{"causes", plates[2].toInt()}});
  const std::string page = words.value("view").toStdString();
  if (words.isSet("view")) window.show_page(page);
  if (page == "spectrogram") window.part<SpectrumView>()->choose("residual", true);
  if (run_first(window, page, words, draw)) return;
  if (words.isSet("select")) {
    const QStringList range = words.value("select").split('-');
    const Range seconds{range.value(0).toDouble(), range.value(1).toDouble()};
    QObject::connect(
        &window.workspace(), &Workspace::trial_ready, &window,
        [&window, seconds] {
          window.workspace().select(seconds);
          window.page_stack()->tell_playhead(seconds.first);
        },
        Qt::QueuedConnection);
  }
  if (window.workspace().bench().masters.empty() || page == "aliasing") return draw();
  once(&window.workspace(), &Workspace::idle, window, draw);
}

/// Whether the page is there; says which there are, where it is not.
bool is_page(const QString& key) {
  QStringList known;
  for (const Page& page : pages()) known << QString::fromStdString(page.key);
  if (known.contains(key)) return true;
  std::fprintf(stderr, "heathmist: there is no page %s; choose one of %s\n", qPrintable(key),
               qPrintable(known.join(", ")));
  return false;
}

QString display_missing() {
  const bool any = qEnvironmentVariableIsSet("DISPLAY") || qEnvironmentVariableIsSet("WAYLAND_DISPLAY") ||
                   qEnvironmentVariableIsSet("QT_QPA_PLATFORM");
  return any ? QString()
             : QString("no display is there to open a window on; heathmist-cli does the same work without one");
}

/// The words of a call, understood. --help, --version and words that are none end the program here, display or not.
void understand(QCommandLineParser& words) {
  words.setApplicationDescription("What changed in the audio, by how much, where, and does it matter");
  words.addHelpOption();
  words.addVersionOption();
  words.addPositionalArgument("FILE", "benches (.heathmist) or audio files; the first audio file is the master",
                              "[FILE...]");
  words.addOptions(
      {{"demo", "open the demo album that lies in FOLDER; it is made there first, where it is not", "FOLDER"},
       {"picture", "draw the window to FILE and end", "FILE"},
       {"force", "a picture that is there may be replaced"},
       {"size", "of the picture", "WxH", "1280x800"},
       {"scale", "pixels a point", "N", "1"},
       {"trial", "show the trial whose name holds TEXT", "TEXT"},
       {"select", "with a selection", "FROM-TO"},
       {"plates", "the plates at the left and right, from 0; causes of the whole, by octave, over time", "L,R,C",
        "0,0"},
       {"limit", "of the ceiling search", "DBTP"},
       {"view", "the page, by its key; what has to be run is run first", "PAGE", "null"},
       {"night", "the night variant"}});
  words.process(*QCoreApplication::instance());
}

void name_it() {
  QCoreApplication::setOrganizationName("Heathmist");
  QCoreApplication::setApplicationName("heathmist");
  QCoreApplication::setApplicationVersion(HEATHMIST_VERSION);
}

bool asks_for_words_only(int argc, char** argv) {
  static const QStringList asking{"-h", "--help", "--help-all", "-v", "--version"};
  return std::any_of(argv + 1, argv + argc, [](const char* word) { return asking.contains(word); });
}

}  // namespace

int main(int argc, char** argv) {
  name_it();
  if (asks_for_report(argc, argv)) return run_report(argc, argv);
  if (asks_for_words_only(argc, argv)) {  // before anything looks for a display
    QCoreApplication plain(argc, argv);
    QCommandLineParser words;
    understand(words);
  }
  if (const QString sentence = display_missing(); !sentence.isEmpty()) {
    std::fprintf(stderr, "heathmist: %s\n", qPrintable(sentence));
    return 1;
  }
  for (int n = 1; n + 1 < argc; ++n)
    if (QString(argv[n]) == "--scale") qputenv("QT_SCALE_FACTOR", argv[n + 1]);
  QApplication app(argc, argv);
  QCommandLineParser words;
  understand(words);

  if (!is_page(words.value("view"))) return 1;
  QSettings settings;
  Theme::instance().apply(words.isSet("night") || (!words.isSet("picture") && settings.value("window/night").toBool()));
  if (!words.isSet("picture")) begin_log(log_file());
  if (words.isSet("picture")) qputenv("HEATHMIST_AUDIO", "simulated");
  const auto output = settings.value("listen/output").toString().toStdString();
  MainWindow window(output == "simulated" ? simulated_output() : open_output(output));
  keep_log_of(window);
  window.show();
  const bool demo = words.isSet("demo");
  if (demo || (words.positionalArguments().isEmpty() && !words.isSet("view"))) window.show_welcome(true);
  if (demo) window.welcome()->open_demo(QFileInfo(words.value("demo")).absoluteFilePath());
  window.take_files(words.positionalArguments());
  if (words.isSet("picture")) {
    take_picture(window, words);
  } else {
    if (words.isSet("view")) window.show_page(words.value("view").toStdString());
    QTimer::singleShot(0, &window, [&window] { window.files()->offer_recovery(); });
  }
  return app.exec();
}
