// Every page of the window at the sizes it is used at, by day and by night: nothing is cut off, squeezed or left
// without a name, and all of it is reached with keys.
#include <QAbstractButton>
#include <QComboBox>
#include <QLineEdit>
#include <QTableView>

#include "app/listen/listening_bar.hpp"
#include "app/pages/null/null_view.hpp"
#include "app/plots/lines_plate.hpp"
#include "app/plots/live_spectrum_plate.hpp"
#include "app/shell/main_window.hpp"
#include "app/theme/theme.hpp"
#include "tests/support/layout.hpp"
#include "tests/support/window.hpp"

using namespace heathmist;
using namespace heathmist::app;
using namespace heathmist::test;

class TestLayout : public QObject {
  Q_OBJECT

 private slots:
  void initTestCase() {
    prepare_window(folder_);
    const auto sound = Programme(6, 3).render(48000);
    master_ = save(folder_ / "mill.wav", sound, 48000, WordFormat::pcm24);
    return_ = save(folder_ / "mill back.wav", with_noise(scaled(sound, 0.7), 1e-4, 2), 48000, WordFormat::pcm24);
    window_ = std::make_unique<MainWindow>(simulated_output());
    window_->set_quiet(true);
    window_->resize(1280, 800);
    window_->show();
    QVERIFY(QTest::qWaitForWindowActive(window_.get()));
    window_->workspace().model().edit("a master", [&](Bench& bench) {
      bench.name = "Curlew Hours";
      bench.masters = {{"a", "Mill Race", {master_, ""}, {{"t", "Desk bounce, late and down", {return_, ""}, {}}}}};
    });
    window_->workspace().look_at("t");
    QTRY_VERIFY_WITH_TIMEOUT(window_->workspace().current_result() && window_->workspace().current_result()->why,
                             120000);
  }
  void cleanupTestCase() {
    window_->workspace().model().undo_stack().setClean();
    window_.reset();
    Theme::instance().apply(false);
  }

  void nothing_is_squeezed_data() {
    QTest::addColumn<std::string>("page");
    QTest::addColumn<QSize>("size");
    QTest::addColumn<bool>("night");
    for (const QSize size : {QSize(1280, 800), QSize(1024, 700), QSize(1920, 1080)})
      for (const Page& page : pages())
        QTest::addRow("%s, %d wide", page.key.c_str(), size.width()) << page.key << size << (size.width() == 1024);
  }
  /// Buttons show all of their text and lie inside the window.
  void nothing_is_squeezed() {
    QFETCH(std::string, page);
    QFETCH(QSize, size);
    QFETCH(bool, night);
    if (Theme::instance().is_night() != night) Theme::instance().apply(night);
    window_->resize(size);
    window_->show_page(page);
    QTest::qWait(60);
    QCOMPARE(window_->size(), size);  // no page forces the window wider
    int seen = 0;
    for (const auto* button : window_->findChildren<QAbstractButton*>()) {
      if (!button->isVisible() || button->text().isEmpty()) continue;
      ++seen;
      const QRect place(button->mapTo(window_.get(), QPoint()), button->size());
      const auto words =
          QString("'%1' at %2,%3, %4 wide").arg(button->text()).arg(place.x()).arg(place.y()).arg(place.width());
      QVERIFY2(window_->rect().contains(place), qPrintable(words));
      const int text = button->fontMetrics().horizontalAdvance(button->text().remove('&'));
      QVERIFY2(place.width() >= text, qPrintable(words + QString(", its text %1").arg(text)));
      QVERIFY2(place.height() >= button->fontMetrics().ascent(), qPrintable(words));
    }
    QVERIFY(seen > 8);
    const QStringList faults = lasting_faults_of(*window_);
    if (qEnvironmentVariableIsSet("HEATHMIST_SHOW"))
      for (const QString& fault : faults) qInfo().noquote() << "fault" << page.c_str() << fault;
    QVERIFY2(faults.isEmpty(), qPrintable(faults.mid(0, 8).join('\n')));
  }

  /// What the match does to the level is whole on a small screen; by what, there is room for on a greater one.
  void the_match_is_whole() {
    window_->show_page("null");
    auto* bar = window_->findChild<ListeningBar*>();
    for (const int wide : {1024, 1280}) {
      window_->resize(wide, 700);
      QTRY_VERIFY2_WITH_TIMEOUT(bar->note().contains(" dB") && bar->note().contains("by loudness") == (wide > 1024),
                                qPrintable(bar->note()), 90000);
      const QStringList faults = lasting_faults_of(*bar);
      QVERIFY2(faults.isEmpty(), qPrintable(faults.join('\n')));
    }
  }

  /// What the residual's level is of has room on a small screen: a band anywhere.
  void the_residuals_band_is_whole() {
    window_->show_page("null");
    auto* view = window_->findChild<NullView*>();
    QVERIFY(view);
    for (const int wide : {1024, 1280})
      for (const auto& [low, high] : {std::pair(251.5, 641.2), {823.4, 12345.0}, {13210.0, 18760.0}}) {
        window_->resize(wide, 700);
        view->set_band({{low, high}});
        const QStringList faults = lasting_faults_of(*view);
        QVERIFY2(faults.isEmpty(), qPrintable(faults.join('\n')));
      }
    view->set_band({});
  }

  /// A reader of screens has a name for every field, list, table and plate.
  void everything_has_a_name() {
    for (const Page& page : pages()) {
      window_->show_page(page.key);
      for (const QWidget* w : window_->findChildren<QWidget*>()) {
        const bool wants = qobject_cast<const QComboBox*>(w) || qobject_cast<const QAbstractSpinBox*>(w) ||
                           qobject_cast<const QTableView*>(w) || qobject_cast<const QCustomPlot*>(w);
        if (!wants || !w->isVisible()) continue;
        QVERIFY2(!w->accessibleName().isEmpty() || !w->toolTip().isEmpty(),
                 qPrintable(QString("%1: %2 %3").arg(page.title, w->metaObject()->className(), w->objectName())));
      }
    }
  }

  /// As a reader of screens meets it: whatever takes the keys says what it is, and a plate what it shows.
  void a_reader_of_screens_is_told_all() {
    int told = 0, plates = 0;
    for (const Page& page : pages()) {
      window_->show_page(page.key);
      QTest::qWait(50);
      const auto [count, nameless] = told_to_a_reader(*window_);
      QVERIFY2(nameless.isEmpty(), qPrintable(page.title + ": " + nameless.join('\n')));
      told += count;
      for (const auto* plate : window_->findChildren<Plate*>())
        if (plate->isVisible()) {
          const QString words = plate->in_words();
          QVERIFY2(words.size() > 8, qPrintable(page.title + ": " + plate->title() + " '" + words + "'"));
          QVERIFY2(!words.contains("nan") && !words.contains("inf"), qPrintable(words));
          ++plates;
        }
    }
    QVERIFY(told > 150 && plates > 15);
  }

  /// In what its levels are, and in Hz: the last tick of a frequency axis has the unit.
  void every_axis_of_frequency_says_its_units() {
    QSet<QString> seen;
    for (const Page& page : pages()) {
      window_->show_page(page.key);
      QTest::qWait(30);
      for (const auto* plate : window_->findChildren<FrequencyPlate*>()) {
        if (!plate->isVisible()) continue;
        seen << plate->title();
        QVERIFY2(plate->unit().contains("dB"), qPrintable(page.title + ": " + plate->title()));
        const auto labels = plate->xAxis->tickVectorLabels();
        QVERIFY2(labels.isEmpty() || labels.filter("Hz").size() == 1, qPrintable(page.title + labels.join(' ')));
      }
    }
    QVERIFY2(seen.size() >= 4, qPrintable(QStringList(seen.values()).join(", ")));
  }

  /// Where nothing was run yet it is said what is going to stand there, and no scale is made up.
  void what_is_empty_says_what_it_waits_for() {
    int said = 0;
    for (const char* key : {"matrix", "ceiling", "converters", "ways", "monitor"}) {
      window_->show_page(key);
      QTest::qWait(100);
      for (const auto* plate : window_->findChildren<Plate*>()) {
        const bool is_one = qobject_cast<const GraphPlate*>(plate) || qobject_cast<const LiveSpectrumPlate*>(plate);
        if (!plate->isVisible() || !is_one) continue;
        QVERIFY2(plate->said_instead().length() > 20, key);
        QVERIFY(!plate->xAxis->tickLabels() && !plate->yAxis->tickLabels());
        ++said;
      }
      for (auto* table : window_->findChildren<ResultTable*>()) {
        if (!table->isVisible() || table->shown() > 0) continue;
        const QImage picture = table->viewport()->grab().toImage();
        std::set<QRgb> colours;
        for (int y = picture.height() / 3; y < picture.height() * 2 / 3; ++y)
          for (int x = 0; x < picture.width(); ++x) colours.insert(picture.pixel(x, y));
        QVERIFY2(colours.size() > 2, key);  // letters about its middle
        ++said;
      }
    }
    QCOMPARE(said, 7);  // the plots of Matrix, Ceiling and Monitor, the worst moments, the converters, the ways
  }

  /// What the lines are called stands above them, and covers none.
  void names_of_lines_stand_above_them() {
    for (const char* key : {"trials", "word_lengths", "spectrum"}) {
      window_->show_page(key);
      QTest::qWait(100);
      for (const auto* plate : window_->findChildren<LinesPlate*>()) {
        if (!plate->isVisible() || !plate->legend->visible() || !plate->legend->layout()) continue;
        QTRY_VERIFY2(plate->rect().contains(plate->legend->rect()), key);  // it has its place from the next drawing on
        QVERIFY2(!plate->legend->rect().intersects(plate->axisRect()->rect()), key);
      }
    }
  }

  /// Each page by its key, and from there back with Tab to something that takes keys.
  void every_page_is_reached_with_its_key() {
    window_->resize(1280, 800);
    for (const Page& page : pages()) {
      QTest::keySequence(window_.get(), page.shortcut);
      QCOMPARE(window_->page_stack()->current().key, page.key);
      QTRY_VERIFY2(window_->focusWidget() && window_->focusWidget()->isVisible(), qPrintable(page.title));
      QSet<QWidget*> met;
      for (int n = 0; n < 400 && window_->focusWidget() && !met.contains(window_->focusWidget()); ++n) {
        met.insert(window_->focusWidget());
        QTest::keyClick(window_->focusWidget(), Qt::Key_Tab);
      }
      QVERIFY2(met.size() > 5, qPrintable(QString("%1: %2 stops").arg(page.title).arg(met.size())));
    }
  }

  /// What a plate shows goes out as PNG, SVG and CSV, on every page that has plates.
  void every_plate_goes_out_in_three_forms() {
    int plates = 0;
    for (const Page& page : pages()) {
      window_->show_page(page.key);
      QTest::qWait(50);
      for (auto* plate : window_->findChildren<Plate*>()) {
        if (!plate->isVisible()) continue;
        ++plates;
        for (const char* ending : {".png", ".svg"}) {
          const auto file = QString::fromStdString((folder_ / ("plate" + std::to_string(plates) + ending)).string());
          plate->write_picture(chosen_destination(file));
          QVERIFY(QFileInfo(file).size() > 500);
        }
        QVERIFY2(!plate->csv().isEmpty(), qPrintable(plate->title()));
        QVERIFY_EXCEPTION_THROWN(plate->write_picture("/dev/null/plate.svg"), InputError);
      }
    }
    QVERIFY(plates >= 8);
  }

  /// Keys, wheel and drags of all kinds leave every plate whole: its axes stay finite and it still draws.
  void plates_take_whatever_hands_do() {
    dsp::Noise chance(8);
    for (const Page& page : pages()) {
      window_->show_page(page.key);
      QTest::qWait(50);
      for (auto* plate : window_->findChildren<Plate*>()) {
        if (!plate->isVisible() || plate->width() < 50) continue;
        auto spot = [&] {
          return QPoint(int(chance.between(5, plate->width() - 5)), int(chance.between(5, plate->height() - 5)));
        };
        for (int n = 0; n < 25; ++n) {
          const auto modifier = n % 3 == 0 ? Qt::ShiftModifier : Qt::NoModifier;
          const QPoint at = spot();
          QWheelEvent wheel(at, plate->mapToGlobal(at), {}, {0, n % 2 ? 120 : -120}, Qt::NoButton, modifier,
                            Qt::NoScrollPhase, false);
          QCoreApplication::sendEvent(plate, &wheel);
          QTest::mousePress(plate, Qt::LeftButton, modifier, at);
          QTest::mouseMove(plate, spot());
          QTest::mouseRelease(plate, Qt::LeftButton, modifier, spot());
          for (const auto pressed : {Qt::Key_Left, Qt::Key_Right, Qt::Key_Up, Qt::Key_Down})
            QTest::keyClick(plate, pressed);
        }
        QTest::keyClick(plate, Qt::Key_0);
        for (QCPAxisRect* rect : plate->axisRects())
          for (QCPAxis* axis : rect->axes())
            QVERIFY2(
                std::isfinite(axis->range().lower) && std::isfinite(axis->range().upper) && axis->range().size() > 0,
                qPrintable(QString("%1 on %2").arg(plate->title(), page.title)));
        QVERIFY(!plate->grab().isNull());
      }
    }
  }

 private:
  Folder folder_;
  std::filesystem::path master_, return_;
  std::unique_ptr<MainWindow> window_;
};

QTEST_MAIN(TestLayout)
#include "test_layout.moc"
