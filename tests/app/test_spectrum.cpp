// Spectra and converters in the real window.
#include <QPushButton>
#include <QSignalSpy>
#include <QToolButton>

#include "app/shell/main_window.hpp"
#include "tests/support/share.hpp"
#include "tests/support/stages.hpp"
#include "tests/support/window.hpp"

using namespace heathmist;
using namespace heathmist::app;
using namespace heathmist::test;

class TestSpectrum : public QObject {
  Q_OBJECT

 private slots:
  void initTestCase() {
    prepare_window(folder_);
    const Planar high = tone(27400, 0.5, 6, 96000);
    master_ = QString::fromStdString(save(folder_ / "bat over the mill.wav", high, 96000, WordFormat::pcm24).string());
    const auto chain = chain_of({{{"type", "converter"}, {"rate_hz", 44100}, {"by", "linear"}}});
    const auto passed = pass(Clip::open(master_.toStdString()), chain);
    write_return(passed, chain, folder_ / "bat at 44.1.wav");
    return_ = QString::fromStdString((folder_ / "bat at 44.1.wav").string());
  }

  void init() {
    window_ = std::make_unique<MainWindow>(simulated_output());
    window_->resize(1280, 800);
    window_->set_quiet(true);
    window_->show();
  }
  void cleanup() {
    window_->workspace().model().undo_stack().setClean();
    window_.reset();
  }

  void a_folded_tone_is_named_on_the_plate() {
    put_bench();
    choose({"a", "t"});
    QTRY_VERIFY_WITH_TIMEOUT(row_of("bat, back") >= 0, 120000);
    const int row = row_of("bat, back");
    QCOMPARE(text(row, 1), QString("16.7000 kHz"));
    QCOMPARE(text(row, 5), QString("27.4 kHz folded at 44.1 kHz"));
    const double v = 27400 / 96000.0;
    const double truth = 20 * std::log10(0.5) + 40 * std::log10(std::sin(pi * v) / (pi * v));
    QVERIFY2(std::abs(text(row, 3).replace(QChar(0x2212), '-').toDouble() - truth) < 0.15, qPrintable(text(row, 3)));
    QVERIFY(view()->plate()->csv().startsWith("frequency_hz,bat,bat"));
    QVERIFY(view()->plate()->read_out(16700).contains("kHz"));
    QVERIFY(view()->csv().contains("folded"));
  }

  void every_choice_draws_and_the_playhead_is_followed() {
    put_bench();
    choose({"a"});
    QTRY_VERIFY_WITH_TIMEOUT(view()->plate()->graphCount() > 1, 120000);
    const QString whole = view()->plate()->csv();
    view()->size()->setCurrentIndex(0);  // 512 points
    QTRY_VERIFY_WITH_TIMEOUT(view()->plate()->csv() != whole, 120000);
    view()->unit()->setCurrentIndex(1);
    view()->unit()->setCurrentIndex(2);
    view()->window_kind()->setCurrentIndex(3);
    view()->kind()->setCurrentIndex(2);
    view()->set_playhead(3);
    QTRY_VERIFY_WITH_TIMEOUT(!view()->is_running(), 120000);
    QTRY_VERIFY2_WITH_TIMEOUT(view()->headline().startsWith("bat: THD+N"), qPrintable(view()->headline()), 120000);
    QSignalSpy drawn(view(), &SpectrumView::drawn);
    for (int n = 0; n < 60; ++n) {  // a playhead that never stands still is followed all the while
      view()->set_playhead(1 + 0.05 * n);
      QTest::qWait(12);
    }
    QVERIFY2(drawn.count() >= 3, qPrintable(QString::number(drawn.count())));
    QTRY_VERIFY_WITH_TIMEOUT(!view()->is_running(), 120000);
    view()->listen()->setCurrentIndex(4);  // the right of one channel: said, not crashed
    QTRY_VERIFY_WITH_TIMEOUT(view()->headline().contains("there is no channel 2"), 120000);
  }

  void lines_are_marked_and_pointed_at() {
    put_bench();
    choose({"a", "t"});
    QTRY_VERIFY_WITH_TIMEOUT(row_of("bat, back") >= 0, 120000);
    QTRY_VERIFY_WITH_TIMEOUT(!view()->plate()->mark_words().empty(), 120000);
    bool folded = false;
    for (const auto* word : view()->plate()->mark_words()) folded = folded || word->text() == "27.4 kHz folded";
    QVERIFY(folded);
    QVERIFY(view()->plate()->read_out(440).contains("A4"));
    view()->table()->selectRow(row_of("bat, back"));
    view()->unit()->setCurrentIndex(1);  // per root Hz a line has no level of its own
    QVERIFY(view()->plate()->mark_words().empty());
    view()->unit()->setCurrentIndex(0);
    QVERIFY(!view()->plate()->mark_words().empty());
    view()->overlap()->setCurrentIndex(2);
    view()->blocks()->setCurrentIndex(1);
    QTRY_VERIFY_WITH_TIMEOUT(!view()->is_running(), 120000);
    view()->kind()->setCurrentIndex(SpectrumView::moment);
    QCOMPARE(view()->blocks()->currentData().toInt(), 1);
    view()->blocks()->setCurrentIndex(2);
    QTRY_VERIFY_WITH_TIMEOUT(!view()->is_running(), 120000);
    QVERIFY(view()->plate()->csv().count('\n') > 100);
  }

  void a_spectrogram_follows_what_is_in_view() {
    put_bench();
    choose({"a", "t"});
    view()->kind()->setCurrentIndex(SpectrumView::over_time_plain);
    auto* plate = view()->over_time();
    QTRY_VERIFY_WITH_TIMEOUT(plate->has_cells(), 120000);
    QTRY_VERIFY_WITH_TIMEOUT(!view()->is_running(), 120000);
    auto loudest_hz = [&](const QString& clip) {
      double best = -400, hz = 0;
      for (const QString& line : plate->csv().split('\n')) {
        const QStringList words = line.split(',');
        if (words.size() == 4 && words[0] == clip && words[3].toDouble() > best)
          best = words[3].toDouble(), hz = words[2].toDouble();
      }
      return hz;
    };
    QVERIFY2(std::abs(loudest_hz("bat") / 27400 - 1) < 0.03, qPrintable(QString::number(loudest_hz("bat"))));
    QVERIFY2(std::abs(loudest_hz("bat  back") / 16700 - 1) < 0.03,
             qPrintable(QString::number(loudest_hz("bat  back"))));
    QSignalSpy ranges(plate, &SpectrogramPlate::range_changed);
    plate->setFocus();
    QTest::keyClick(plate, Qt::Key_Plus);
    QCOMPARE(ranges.count(), 1);
    QVERIFY(plate->to_s() - plate->from_s() < 5);
    QTRY_VERIFY_WITH_TIMEOUT(plate->csv().section('\n', 1, 1).section(',', 1, 1).toDouble() > 0.4,
                             120000);  // anew for the range
    QSignalSpy sought(view(), &SpectrumView::seek);
    QTest::mouseClick(plate, Qt::LeftButton, {}, {plate->width() / 2, plate->height() / 4});
    QCOMPARE(sought.count(), 1);
    view()->kind()->setCurrentIndex(SpectrumView::over_time_sharp);
    QTRY_VERIFY_WITH_TIMEOUT(!view()->is_running(), 120000);
    const int stacked = plate->columns();
    view()->layout_choice()->setCurrentIndex(1);  // side by side: half as wide each, at one scale
    QTRY_VERIFY_WITH_TIMEOUT(plate->columns() < 0.6 * stacked, 120000);
    QTRY_VERIFY_WITH_TIMEOUT(!view()->is_running(), 120000);
    QVERIFY(std::abs(loudest_hz("bat  back") / 16700 - 1) < 0.03);
    view()->layout_choice()->setCurrentIndex(0);
    QTRY_VERIFY_WITH_TIMEOUT(plate->columns() == stacked, 120000);
    const QPointF at(plate->width() / 2, 30);  // the top of the band, with Shift and the wheel
    QWheelEvent wheel(at, plate->mapToGlobal(at), {}, {0, 120}, Qt::NoButton, Qt::ShiftModifier, Qt::NoScrollPhase,
                      false);
    QCoreApplication::sendEvent(plate, &wheel);
    QVERIFY(plate->band() && plate->band()->first > 20);
    QTRY_VERIFY_WITH_TIMEOUT(plate->csv().section('\n', 1, 1).section(',', 2, 2).toDouble() > 20, 120000);
    QTest::keyClick(plate, Qt::Key_0);
    QVERIFY(!plate->band());
    view()->kind()->setCurrentIndex(SpectrumView::average);
    QVERIFY(view()->plate()->isVisible() && !plate->isVisible());
  }

  void master_return_and_residual_of_a_trial() {
    put_bench();
    window_->show_page("null");
    window_->workspace().look_at("t");
    QTRY_VERIFY_WITH_TIMEOUT(window_->workspace().current_result(), 60000);
    window_->show_page("spectrum");
    view()->choose("residual", true);
    QTRY_VERIFY_WITH_TIMEOUT(view()->plate()->csv().startsWith("frequency_hz,master,return,residual"), 60000);
  }

  void the_board_reads_converters_and_returned_sweeps() {
    window_->show_page("converters");
    auto* board = window_->part<ConvertersView>();
    QCOMPARE(board->shown_plates().size(), size_t(1));  // where tones land, before anything was run
    QVERIFY(board->shown_plates().front()->read_out(27400, 1000).startsWith("27.4 kHz lands at 16.7 kHz"));
    board->set_only("soxr");
    QSignalSpy rested(board, &ConvertersView::rested);
    board->start();
    QVERIFY(rested.wait(120000));
    QCOMPARE(board->table()->shown(), 5);
    QCOMPARE(board->table()->text_at(0, ConvertersView::name_column), QString("libsoxr very high"));
    QCOMPARE(board->table()->text_at(0, ConvertersView::grade_column), QString("spotless"));
    QVERIFY(board->shown_plates().front()->csv().count('\n') > 1000);

    QSignalSpy recalled(board, &ConvertersView::recalled);
    board->set_rates(48000, 44100);
    QVERIFY(recalled.wait(20000));
    QCOMPARE(board->table()->shown(), 0);  // not read yet
    board->set_rates(96000, 44100);
    QTRY_COMPARE_WITH_TIMEOUT(board->table()->shown(), 5, 20000);
    QCOMPARE(board->note(), QString("as they were read before"));
    QSignalSpy made(board, &ConvertersView::probe_written);
    board->write_probe_to("sweep", folder_ / "sweep.wav");
    QVERIFY(made.wait(30000));
    QVERIFY(made[0][0].toBool() && made[0][1].toString().contains("bring in what came back"));
    board->write_probe_to("sweep", "/dev/null/sweep.wav");
    QVERIFY(made.wait(30000));
    QVERIFY(!made[1][0].toBool() && made[1][1].toString().contains("its folder is not there"));
    const auto chain = chain_of(
        {{{"type", "delay"}, {"delay_samples", 4321}}, {{"type", "converter"}, {"rate_hz", 48000}, {"by", "cubic"}}});
    write_return(pass(Clip::open(folder_ / "sweep.wav"), chain), chain, folder_ / "other program.wav");
    board->bring({QString::fromStdString((folder_ / "other program.wav").string())});
    QVERIFY(rested.wait(60000));
    QCOMPARE(board->table()->shown(), 6);
    QVERIFY(board->csv().contains("other program"));
    QVERIFY(board->csv().count('\n') == 7);
    board->bring({master_});
    QVERIFY(rested.wait(60000));
    QVERIFY2(board->sentence().contains("chirps"), qPrintable(board->sentence()));
    QVERIFY(board->minimumSizeHint().width() < 900);  // however long the sentence
    QCOMPARE(board->table()->shown(), 6);             // nothing is lost
  }

  void a_run_can_be_cancelled_and_keys_reach_it() {
    QVERIFY(QTest::qWaitForWindowActive(window_.get()));
    QTest::keyClick(window_.get(), Qt::Key_F12);
    QVERIFY(window_->part<ConvertersView>()->isVisible());
    auto* board = window_->part<ConvertersView>();
    board->set_rates(48000, 44100);
    QSignalSpy rested(board, &ConvertersView::rested);
    board->start();
    board->cancel();
    QVERIFY(rested.wait(30000));
    QVERIFY(board->table()->shown() < 21);
    QCOMPARE(board->note(), QString("stopped"));
    QTest::keyClick(window_.get(), Qt::Key_F2);
    QVERIFY(view()->isVisible());
  }

 private:
  SpectrumView* view() const { return window_->part<SpectrumView>(); }
  QString text(int row, int column) const { return view()->table()->text_at(row, column); }
  int row_of(const QString& clip) const {
    for (int row = 0; row < view()->table()->shown(); ++row)
      if (text(row, 0) == clip) return row;
    return -1;
  }
  void put_bench() {
    window_->workspace().model().edit("a master", [&](Bench& bench) {
      bench.masters = {{"a", "bat", {master_.toStdString(), ""}, {{"t", "back", {return_.toStdString(), ""}, {}}}}};
    });
    window_->show_page("spectrum");
  }
  void choose(const std::vector<std::string>& keys) {
    for (const char* key : {"master", "return"}) view()->choose(key, false);
    for (const auto& key : keys) view()->choose(key, true);
  }
  Folder folder_;
  QString master_, return_;
  std::unique_ptr<MainWindow> window_;
};

SHARED_WINDOW_MAIN(TestSpectrum)
#include "test_spectrum.moc"
