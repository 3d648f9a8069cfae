// heathmist [FILE...]: opens benches and audio files in the window.
//   --picture FILE   draws the window to a PNG once the first trial is measured, and ends (for docs/screenshots)
//   --size WxH --scale N --night --trial NAME --select FROM-TO   how that picture is taken
#include <QApplication>
#include <QCommandLineParser>
#include <QSettings>
#include <QTimer>

#include "app/theme/theme.hpp"
#include "app/window/main_window.hpp"

using namespace heathmist::app;

namespace {

QString first_trial_named(Desk& desk, const QString& name) {
  for (const auto& m : desk.model().bench().masters)
    for (const auto& t : m.trials)
      if (QString::fromStdString(heathmist::title_of(t)).contains(name, Qt::CaseInsensitive))
        return QString::fromStdString(t.id);
  return {};
}

/// Takes one picture of the window and ends the program.
void take_picture(MainWindow& window, const QCommandLineParser& words) {
  const QStringList size = words.value("size").split('x');
  window.resize(size.value(0).toInt(), size.value(1).toInt());
  if (words.isSet("trial")) window.desk().look_at(first_trial_named(window.desk(), words.value("trial")).toStdString());
  auto draw = [&window, file = words.value("picture")] {
    QTimer::singleShot(1500, &window, [&window, file] {
      window.grab().save(file);
      qApp->exit(0);
    });
  };
  const QStringList plates = words.value("plates").split(',');
  window.null_view()->plates()->left()->choose(plates.value(0).toInt());
  window.null_view()->plates()->right()->choose(plates.value(1).toInt());
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

}  // namespace

int main(int argc, char** argv) {
  for (int n = 1; n + 1 < argc; ++n)
    if (QString(argv[n]) == "--scale") qputenv("QT_SCALE_FACTOR", argv[n + 1]);
  QApplication app(argc, argv);
  app.setOrganizationName("Heathmist");
  app.setApplicationName("heathmist");
  app.setApplicationVersion(HEATHMIST_VERSION);
  QCommandLineParser words;
  words.setApplicationDescription("What changed in the audio, by how much, where, and does it matter");
  words.addHelpOption();
  words.addVersionOption();
  words.addPositionalArgument("FILE", "benches (.heathmist) or audio files; the first audio file is the master",
                              "[FILE...]");
  words.addOptions({{"picture", "draw the window to FILE and end", "FILE"},
                    {"size", "of the picture", "WxH", "1280x800"},
                    {"scale", "pixels a point", "N", "1"},
                    {"trial", "show the trial whose name holds TEXT", "TEXT"},
                    {"select", "with a selection", "FROM-TO"},
                    {"plates", "the plates at the left and right, from 0", "L,R", "0,0"},
                    {"limit", "of the ceiling search", "DBTP"},
                    {"view",
                     "null, trials, matrix, ceiling, loudness, outlets, spectrum, spectrogram, converters, folds or "
                     "words; what has to be run is run first",
                     "NAME", "null"},
                    {"night", "the night variant"}});
  words.process(app);

  QSettings settings;
  Theme::instance().apply(words.isSet("night") || (!words.isSet("picture") && settings.value("window/night").toBool()));
  MainWindow window(words.isSet("picture") ? simulated_output() : open_output());
  window.show();
  window.take_files(words.positionalArguments());
  if (words.isSet("picture"))
    take_picture(window, words);
  else if (words.positionalArguments().isEmpty())
    window.offer_recovery();
  return app.exec();
}
