// heathmist [FILE...]: opens benches and audio files in the window.
//   --picture FILE   draws the window to a PNG once the first trial is measured, and ends (for docs/screenshots)
//   --size WxH --scale N --night --trial NAME --select FROM-TO   how that picture is taken
#include <QApplication>
#include <QBuffer>
#include <QCommandLineParser>
#include <QSettings>
#include <QTimer>

#include "app/theme/theme.hpp"
#include "app/widgets/saving.hpp"
#include "app/window/main_window.hpp"

using namespace heathmist::app;
using heathmist::Destination;

namespace {

QString first_trial_named(Desk& desk, const QString& name) {
  for (const auto& m : desk.model().bench().masters)
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

/// Takes one picture of the window and ends the program.
void take_picture(MainWindow& window, const QCommandLineParser& words) {
  const QStringList size = words.value("size").split('x');
  window.resize(size.value(0).toInt(), size.value(1).toInt());
  if (words.isSet("trial")) window.desk().look_at(first_trial_named(window.desk(), words.value("trial")).toStdString());
  auto draw = [&window,
               file = Destination(words.value("picture").toStdString(), words.isSet("force"), files_in_use())] {
    QTimer::singleShot(1500, &window, [&window, file] { qApp->exit(write_picture(window, file) ? 0 : 1); });
  };
  const QStringList plates = words.value("plates").split(',');
  window.null_view()->plates()->left()->choose(plates.value(0).toInt());
  window.null_view()->plates()->right()->choose(plates.value(1).toInt());
  if (plates.size() > 2) window.null_view()->plates()->restore({{"causes", plates[2].toInt()}});
  const QStringList views{"null", "trials", "matrix", "ceiling", "loudness", "outlets", "spectrum", "converters"};
  window.show_view(std::max(0, int(views.indexOf(words.value("view")))));
  if (words.value("view") == "matrix") {
    QObject::connect(window.matrix_view(), &MatrixView::rested, &window, draw, Qt::SingleShotConnection);
    return window.matrix_view()->start();
  }
  if (words.value("view") == "ceiling") {
    QObject::connect(window.ceiling_view(), &CeilingView::rested, &window, draw, Qt::SingleShotConnection);
    if (words.isSet("limit")) window.ceiling_view()->limit()->setValue(words.value("limit").toDouble());
    return window.ceiling_view()->start();
  }
  if (words.value("view") == "spectrogram") {
    window.show_view(MainWindow::spectrum_page);
    window.spectrum_view()->kind()->setCurrentIndex(SpectrumView::over_time_plain);
    window.spectrum_view()->choose("residual", true);
  }
  if (words.value("view") == "folds" || words.value("view") == "words") {
    window.show_view(MainWindow::converters_page);
    const bool folds = words.value("view") == "folds";
    window.conversions_view()->show_part(folds ? ConversionsView::folds_part : ConversionsView::words_part);
    if (folds) return draw();
    auto* board = window.conversions_view()->words();
    QObject::connect(
        board, &WordBoardView::rested, &window,
        [board, draw] {
          board->table()->selectRow(2);
          draw();
        },
        Qt::SingleShotConnection);
    return board->start();
  }
  if (words.value("view") == "converters") {
    QObject::connect(
        window.converters_view(), &ConvertersView::rested, &window,
        [&window, draw] {
          window.converters_view()->table()->setSelectionMode(QAbstractItemView::MultiSelection);
          window.converters_view()->table()->selectRow(window.converters_view()->table()->rowCount() - 3);
          draw();
        },
        Qt::SingleShotConnection);
    return window.converters_view()->start();
  }
  if (words.value("view") == "loudness" || words.value("view") == "outlets") {
    QObject::connect(
        &window.board(), &LoudnessBoard::rested, &window,
        [&window, draw] {
          window.loudness_view()->table()->selectRow(0);
          if (window.outlets_view()->isVisible()) {
            QObject::connect(window.outlets_view(), &OutletsView::rested, &window, draw, Qt::SingleShotConnection);
            return window.outlets_view()->run_encodes();
          }
          draw();
        },
        Qt::SingleShotConnection);
    return;
  }
  if (words.isSet("select")) {
    const QStringList range = words.value("select").split('-');
    QObject::connect(
        &window.desk(), &Desk::trial_ready, &window,
        [&window, range] {
          window.null_view()->set_selection(std::pair{range.value(0).toDouble(), range.value(1).toDouble()});
          window.null_view()->set_playhead(range.value(0).toDouble());
        },
        Qt::QueuedConnection);
  }
  if (window.desk().model().bench().masters.empty()) return draw();
  QObject::connect(&window.desk(), &Desk::idle, &window, draw, Qt::SingleShotConnection);
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
  words.addOptions({{"picture", "draw the window to FILE and end", "FILE"},
                    {"force", "a picture that is there may be replaced"},
                    {"size", "of the picture", "WxH", "1280x800"},
                    {"scale", "pixels a point", "N", "1"},
                    {"trial", "show the trial whose name holds TEXT", "TEXT"},
                    {"select", "with a selection", "FROM-TO"},
                    {"plates", "the plates at the left and right, from 0; causes of the whole, by octave, over time",
                     "L,R,C", "0,0"},
                    {"limit", "of the ceiling search", "DBTP"},
                    {"view",
                     "null, trials, matrix, ceiling, loudness, outlets, spectrum, spectrogram, converters, folds or "
                     "words; what has to be run is run first",
                     "NAME", "null"},
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

  QSettings settings;
  Theme::instance().apply(words.isSet("night") || (!words.isSet("picture") && settings.value("window/night").toBool()));
  MainWindow window(words.isSet("picture") ? simulated_output() : open_output());
  window.show();
  window.take_files(words.positionalArguments());
  if (words.isSet("picture"))
    take_picture(window, words);
  else
    QTimer::singleShot(0, &window, [&window] { window.offer_recovery(); });
  return app.exec();
}
