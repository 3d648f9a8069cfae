// Loudness, outlets, levelled copies and equal-loudness listening in the real window.
#include <QCheckBox>
#include <QtTest>

#include "app/pages/loudness/copies_form.hpp"
#include "app/pages/outlets/outlet_form.hpp"
#include "app/shell/main_window.hpp"
#include "tests/support/window.hpp"

using namespace heathmist;
using namespace heathmist::app;
using namespace heathmist::test;

class TestLoudness : public QObject {
  Q_OBJECT

 private slots:
  void initTestCase() {
    prepare_window(folder_);
    qputenv("XDG_CONFIG_HOME", QByteArray((folder_ / "config").c_str()));
    const auto sound = requantised(scaled(Programme(8, 21, 12000).render(44100), 2), 24, true);
    first_ = QString::fromStdString(save(folder_ / "mill race.wav", sound, 44100, WordFormat::pcm24).string());
    second_ = QString::fromStdString(
        save(folder_ / "slack water.wav", scaled(sound, 0.25), 44100, WordFormat::pcm24).string());
  }

  void init() {
    window_ = std::make_unique<MainWindow>(simulated_output());
    window_->resize(1280, 800);
    window_->set_quiet(true);
    window_->show();
    window_->workspace().model().edit("two masters", [&](Bench& bench) {
      bench.masters = {
          {"a", "Mill Race", {first_.toStdString(), ""}, {{"t", "quiet copy", {second_.toStdString(), ""}, {}}}},
          {"b", "Slack Water", {second_.toStdString(), ""}, {}}};
    });
  }
  void cleanup() {
    window_->workspace().model().undo_stack().setClean();
    window_.reset();
  }

  void every_master_and_return_has_its_row() {
    show_loudness();
    auto* table = loudness()->table();
    QCOMPARE(table->shown(), 3);
    const double loud = measure_file(first_.toStdString()).loudness.integrated_lufs.value();
    QCOMPARE(text(0, LoudnessView::integrated_column), number(loud, 1));
    QCOMPARE(text(1, LoudnessView::integrated_column), number(loud - 12.0412, 1));
    QVERIFY(table->cell_at(0, LoudnessView::ribbon_column).picture.isValid());
    table->sort_by(LoudnessView::integrated_column, Qt::DescendingOrder);
    QCOMPARE(text(0, LoudnessView::name_column), QString("Mill Race"));
    loudness()->filter()->setText("slack");
    QCOMPARE(table->shown(), 1);
    QCOMPARE(loudness()->csv().count('\n'), 2);  // heads and the one row that is shown
    loudness()->filter()->clear();
    QCOMPARE(loudness()->csv().count('\n'), 4);
  }

  void limits_mark_what_misses_them_and_the_unit_is_a_name() {
    show_loudness();
    const double loud = measure_file(first_.toStdString()).loudness.integrated_lufs.value();
    loudness()->target()->setValue(std::round(loud * 10) / 10);
    loudness()->tolerance()->setValue(1);
    auto ink = [&](int row) {
      return loudness()->table()->cell_at(row, LoudnessView::integrated_column).ink.value_or(Role::ink);
    };
    QCOMPARE(ink(0), Role::ink);
    QCOMPARE(ink(1), Role::rust);
    loudness()->unit()->setCurrentText("LKFS");
    QVERIFY(loudness()->table()->title(LoudnessView::ribbon_column).contains("LKFS"));
    loudness()->unit()->setCurrentText("LUFS");
  }

  void the_timeline_reads_out_and_narrows() {
    show_loudness();
    loudness()->table()->selectRow(0);
    QVERIFY(loudness()->plate()->csv().count('\n') > 70);
    QVERIFY(loudness()->plate()->read_out(5).contains("short-term"));
    emit loudness()->plate()->selected(std::pair{2.0, 6.0});
    QTRY_VERIFY_WITH_TIMEOUT(loudness()->within().startsWith("0:02.0 to 0:06.0"), 20000);
    MeterOptions range;
    range.first = 2 * 44100, range.last = 6 * 44100;
    const auto truth = measure_loudness(*Clip::open(first_.toStdString()), range).integrated_lufs.value();
    QVERIFY2(loudness()->within().contains(number(truth, 2)), qPrintable(loudness()->within()));
    MeterOptions side;
    side.listen = MeterOptions::Listen::side, side.rms_window_s = 1;
    side.first = 2 * 44100, side.last = 6 * 44100;
    const Loudness apart = measure_loudness(*Clip::open(first_.toStdString()), side);
    loudness()->listen()->setCurrentText("side");
    loudness()->rms_window()->setCurrentText("RMS in 1 s");
    for (const double value : {*apart.integrated_lufs, *apart.true_peak_dbtp})
      QTRY_VERIFY2_WITH_TIMEOUT(loudness()->within().contains(number(value, 2)), qPrintable(loudness()->within()),
                                20000);
    QVERIFY2(loudness()->within().contains(number(*apart.rms_max_dbfs, 1)), qPrintable(loudness()->within()));
    loudness()->listen()->setCurrentText("channel 3");
    QTRY_VERIFY_WITH_TIMEOUT(loudness()->within().contains("there is no channel 3"), 20000);
    emit loudness()->plate()->selected({});
  }

  void opening_again_measures_nothing() {
    show_loudness();
    Queue queue;
    LoudnessReadings again(queue);
    again.set_bench(window_->workspace().bench());
    QSignalSpy rested(&again, &LoudnessReadings::rested);
    std::filesystem::rename(first_.toStdString(), (folder_ / "away.wav"));  // what is kept goes by the file's mark
    std::filesystem::rename(folder_ / "away.wav", first_.toStdString());
    again.run();
    QVERIFY(rested.wait(20000));
    QCOMPARE(again.waiting(), size_t(0));
  }

  void a_file_that_is_gone_says_so_in_its_row() {
    window_->workspace().model().edit("gone",
                                      [&](Bench& bench) { bench.masters[1].audio.file = folder_ / "gone.wav"; });
    show_loudness();
    QVERIFY(text(2, LoudnessView::ribbon_column).contains("gone.wav"));
    QVERIFY(!text(0, LoudnessView::integrated_column).isEmpty());
  }

  void a_selection_in_a_file_that_is_gone_says_so_and_keeps_the_others() {
    show_loudness();
    const auto file = std::filesystem::path(window_->workspace().bench().masters[0].audio.file),
               away = folder_ / "away.wav";
    std::filesystem::rename(file, away);
    loudness()->table()->selectAll();
    emit loudness()->plate()->selected(std::pair{1.0, 3.0});
    QTRY_VERIFY2_WITH_TIMEOUT(loudness()->within().contains("no such file") && loudness()->within().contains("LUFS"),
                              qPrintable(loudness()->within()), 20000);
    std::filesystem::rename(away, file);
  }

  void outlets_keep_file_and_player_apart() {
    show_outlets();
    choose(window_->part<OutletsView>()->master(), "Slack Water");
    choose(window_->part<OutletsView>()->outlet(), "EBU R 128");
    const double quiet = measure_file(second_.toStdString()).loudness.integrated_lufs.value();
    QCOMPARE(cell(0, OutletsView::file_column), (-23 - quiet > 0 ? "+" : "") + number(-23 - quiet, 1));
    QCOMPARE(cell(0, OutletsView::gain_column), QString::fromUtf8("–"));
    QVERIFY(window_->part<OutletsView>()->file_words().contains("wants the file itself"));
    choose(window_->part<OutletsView>()->outlet(), "ReplayGain 2 track");
    const Loudness l = measure_file(second_.toStdString()).loudness;
    const double gain = std::min(-18 - quiet, std::max(0.0, 0 - *l.true_peak_dbtp));
    QCOMPARE(cell(0, OutletsView::gain_column), "+" + number(gain, 1));
    QVERIFY(window_->part<OutletsView>()->player_words().startsWith("Turns it by"));
  }

  /// The file, where it is heard and the target stand where their numbers are, on the axis of all rows.
  void a_line_is_drawn_where_its_numbers_are() {
    QCOMPARE(place_on_line(-36, 300), 0.0);
    QCOMPARE(place_on_line(-6, 300), 300.0);
    QCOMPARE(place_on_line(-21, 300), 150.0);
    QVERIFY(place_on_line(-90, 300) == 0 && place_on_line(3, 300) == 300);  // at the ends
    show_outlets();
    auto* view = window_->part<OutletsView>();
    choose(view->master(), "Slack Water");
    choose(view->outlet(), "EBU R 128");
    const double quiet = measure_file(second_.toStdString()).loudness.integrated_lufs.value();
    const auto line = view->table()->cell_at(0, OutletsView::line_column).picture.value<LevelLine>();
    QVERIFY(line.target == -23 && line.file == quiet && !line.heard && line.must_change);
    QVERIFY(words_of(line).contains("target " + number(-23, 1)) && words_of(line).contains(number(quiet, 1)));
    // as it is painted: the middle of what has the master's colour
    const QModelIndex index = view->table()->model()->index(0, OutletsView::line_column);
    QStyleOptionViewItem option;
    option.rect = QRect(0, 0, 320, 24);
    QImage image(320, 24, QImage::Format_RGB32);
    image.fill(Qt::white);
    QPainter painter(&image);
    view->table()->itemDelegateForColumn(OutletsView::line_column)->paint(&painter, option, index);
    painter.end();
    double sum = 0, count = 0;
    for (int y = 0; y < image.height(); ++y)
      for (int x = 0; x < image.width(); ++x)
        if (image.pixelColor(x, y) == colour(Role::master)) sum += x + 0.5, ++count;
    QVERIFY(count > 20 && std::abs(sum / count - (10 + place_on_line(quiet, 300))) < 0.6);
  }
  void one_sentence_tells_the_file_from_the_player() {
    show_outlets();
    auto* view = window_->part<OutletsView>();
    choose(view->outlet(), "all outlets");
    choose(view->master(), "Slack Water");
    QVERIFY2(view->headline().startsWith("Passes ") && view->headline().contains("Broadcast") &&
                 view->headline().contains("players"),
             qPrintable(view->headline()));
    choose(view->master(), "all masters");
    QVERIFY(view->headline().contains("pass."));
    // broadcast first, then players, then stand-ins
    QStringList groups;
    for (int n = 0; n < view->table()->shown(); ++n) groups << view->table()->text_at(n, OutletsView::group_column);
    groups.removeDuplicates();
    QCOMPARE(groups, QStringList({"broadcast", "player", "stand-in"}));
  }
  /// What was hidden by hand stays so, whatever the page folds and unfolds.
  void a_column_that_was_hidden_by_hand_stays_hidden() {
    ResultTable table("test", nullptr);
    table.set_columns({{"A", {}, [](size_t) { return Cell{"a"}; }}, {"B", {}, [](size_t) { return Cell{"b"}; }}});
    table.fold(1, true);
    QVERIFY(table.isColumnHidden(1));
    table.fold(1, false);
    QVERIFY(!table.isColumnHidden(1));
    table.hide_by_hand(1, true);
    table.fold(1, false);
    QVERIFY(table.isColumnHidden(1));
    table.hide_by_hand(1, false);
    QVERIFY(!table.isColumnHidden(1));
  }
  /// What has no room folds away; the line keeps its width.
  void the_line_has_room_at_every_size() {
    show_outlets();
    auto* view = window_->part<OutletsView>();
    choose(view->master(), "Slack Water");
    choose(view->outlet(), "all outlets");
    for (const QSize size : {QSize(1024, 700), QSize(1280, 800), QSize(1920, 1080)}) {
      window_->resize(size);
      QCoreApplication::processEvents();
      QVERIFY2(view->table()->columnWidth(OutletsView::line_column) >= 120,
               qPrintable(QString::number(view->table()->columnWidth(OutletsView::line_column))));
      QVERIFY(!view->table()->horizontalScrollBar()->isVisible());
    }
  }

  /// A stretch that is named as dialogue on the loudness page is the anchor where an outlet asks for one.
  void a_selection_is_the_anchor_of_long_programmes() {
    show_loudness();
    loudness()->table()->selectRow(0);
    loudness()->listen()->setCurrentText("all channels");
    emit loudness()->plate()->selected(std::pair{2.0, 6.0});
    QTRY_VERIFY_WITH_TIMEOUT(loudness()->dialogue()->isVisible(), 20000);
    MeterOptions range;
    range.first = 2 * 44100, range.last = 6 * 44100;
    const double anchor = measure_loudness(*Clip::open(first_.toStdString()), range).integrated_lufs.value();
    loudness()->dialogue()->click();
    QVERIFY(loudness()->within().contains(number(anchor, 1)) && !loudness()->dialogue()->isVisible());
    show_outlets();
    choose(window_->part<OutletsView>()->master(), "Mill Race");
    choose(window_->part<OutletsView>()->outlet(), "ATSC A/85");
    QTRY_COMPARE(cell(0, OutletsView::file_column), (-24 - anchor > 0 ? "+" : "") + number(-24 - anchor, 1));
    QVERIFY2(window_->part<OutletsView>()->file_words().contains("dialogue that was named"),
             qPrintable(window_->part<OutletsView>()->file_words()));
    choose(window_->part<OutletsView>()->master(), "Slack Water");
    QVERIFY(window_->part<OutletsView>()->file_words().contains("name a stretch"));
    QVERIFY(window_->part<OutletsView>()->file_words().contains("A/85:2013"));
    show_loudness();
    emit loudness()->plate()->selected({});
    QCOMPARE(loudness()->dialogue()->text(), QString("Forget dialogue"));
    loudness()->dialogue()->click();
    QVERIFY(!loudness()->dialogue()->isVisible() && !loudness()->within().isEmpty());
    show_outlets();
    choose(window_->part<OutletsView>()->master(), "Mill Race");
    QVERIFY(window_->part<OutletsView>()->file_words().contains("name a stretch"));
  }

  void an_album_keeps_its_balance() {
    show_outlets();
    choose(window_->part<OutletsView>()->master(), "all masters");
    choose(window_->part<OutletsView>()->outlet(), "ReplayGain 2 album");
    window_->part<OutletsView>()->album()->setChecked(true);
    QCOMPARE(window_->part<OutletsView>()->table()->shown(), 2);
    QCOMPARE(cell(0, OutletsView::gain_column), cell(1, OutletsView::gain_column));
    QVERIFY2(window_->part<OutletsView>()->headline().contains("12.0 LU under"),
             qPrintable(window_->part<OutletsView>()->headline()));
    window_->part<OutletsView>()->album()->setChecked(false);
    QVERIFY(cell(0, OutletsView::gain_column) != cell(1, OutletsView::gain_column));
    window_->workspace().look_at("b");
    window_->workspace().move_master(-1);
    QCOMPARE(window_->workspace().bench().masters[0].id, std::string("b"));
    window_->workspace().set_album("b", "Curlew Hours");
    const QString file = QString::fromStdString((folder_ / "album.heathmist").string());
    QVERIFY(window_->files()->save_to(file));
    QCOMPARE(load_bench(file.toStdString()).masters[0].album, std::string("Curlew Hours"));
  }

  void encodes_are_judged_after_them() {
    show_outlets();
    choose(window_->part<OutletsView>()->master(), "Mill Race");
    choose(window_->part<OutletsView>()->outlet(), "Stand-in: podcast host");
    const QString before = cell(0, OutletsView::peak_column);
    QSignalSpy rested(window_->part<OutletsView>(), &OutletsView::rested);
    window_->part<OutletsView>()->run_encodes();
    QVERIFY(rested.wait(60000));
    QVERIFY(window_->part<OutletsView>()->file_words().contains("judged after that"));
    QVERIFY(cell(0, OutletsView::peak_column) != before);
  }

  void outlets_are_edited_checked_and_taken_away() {
    Outlet own;
    own.name = "Tide radio", own.target_lufs = -20;
    OutletForm form(own, {}, window_.get());
    form.findChild<NumberField*>("target")->setValue(-21);
    form.findChild<QCheckBox*>("toleranceThere")->setChecked(true);
    form.findChild<NumberField*>("tolerance")->setValue(0.5);
    const Outlet made = form.outlet();
    QCOMPARE(made.key, std::string("tide-radio"));
    QVERIFY(made.target_lufs == -21 && made.tolerance_lu == 0.5 && !made.max_true_peak_dbtp);
    save_outlet(made);
    show_outlets();
    window_->part<OutletsView>()->reload();
    QVERIFY(window_->part<OutletsView>()->outlet()->findText("Tide radio") > 0);
    QVERIFY(drop_outlet("tide-radio") && !drop_outlet("tide-radio"));
    Outlet nameless;
    OutletForm empty(nameless, {}, window_.get());
    QVERIFY_EXCEPTION_THROWN(empty.outlet(), OutletError);
  }

  void copies_are_written_and_checked() {
    show_loudness();
    CopiesForm form(-18, 2, window_.get());
    form.limiter()->setChecked(true);
    form.words()->setCurrentIndex(4);  // FLAC, 16 bit
    QSignalSpy written(window_->part<LoudnessController>(), &LoudnessController::copies_written);
    window_->part<LoudnessController>()->write_copies(form.plan(), false,
                                                      QString::fromStdString((folder_ / "copies").string()));
    QVERIFY(written.wait(60000));
    QVERIFY(written[0][0].toBool());
    QCOMPARE(written[0][1].toString().count("read back and right"), 2);
    const auto copy = measure_file(folder_ / "copies" / "slack water.flac");
    QVERIFY(std::abs(*copy.loudness.integrated_lufs + 18) < 0.05 && copy.format.container_bits == 16);
  }

  void the_return_is_heard_as_loud_as_the_master() {
    window_->show_page("null");
    window_->workspace().look_at("t");
    QTRY_VERIFY_WITH_TIMEOUT(window_->workspace().current_result(), 60000);
    auto* bar = window_->listening();
    for (const MatchBy by : {MatchBy::integrated, MatchBy::short_term, MatchBy::peak}) {
      bar->match_by(by);
      QTRY_VERIFY2(bar->match_db() && std::abs(*bar->match_db() - 12.0412) < 0.01,
                   qPrintable(QString::number(bar->match_db().value_or(0))));
    }
    bar->set_loop(std::pair{1.0, 3.0});
    QVERIFY(std::abs(*bar->match_db() - 12.0412) < 0.02);
  }

  void two_clips_are_heard_against_each_other() {
    show_loudness();
    QCOMPARE(
        text(2, LoudnessView::match_column),
        "+" + number(loudness()->target()->value() - *measure_file(second_.toStdString()).loudness.integrated_lufs, 1));
    loudness()->table()->setSelectionMode(QAbstractItemView::MultiSelection);
    loudness()->table()->selectRow(0);
    loudness()->table()->selectRow(2);
    for (QAction* action : window_->actions())
      if (action->shortcut() == QKeySequence("Ctrl+H")) action->trigger();
    QTRY_VERIFY_WITH_TIMEOUT(window_->workspace().current_result(), 60000);
    QTRY_VERIFY_WITH_TIMEOUT(std::abs(window_->listening()->match_db().value_or(0) - 12.0412) < 0.01, 20000);
    QCOMPARE(window_->workspace().bench().masters[0].trials.size(), size_t(1));  // its return is that file already
  }

  void pages_are_reached_by_keys() {
    QVERIFY(QTest::qWaitForWindowActive(window_.get()));
    QTest::keyClick(window_.get(), Qt::Key_F3);
    QVERIFY(loudness()->isVisible());
    QTest::keyClick(window_.get(), Qt::Key_F4);
    QVERIFY(window_->part<OutletsView>()->isVisible());
    window_->set_night(true);
    QVERIFY(!window_->grab().isNull());
    window_->set_night(false);
  }

 private:
  LoudnessView* loudness() const { return window_->part<LoudnessView>(); }
  QString text(int row, int column) const { return loudness()->table()->text_at(row, column).trimmed(); }
  QString cell(int row, int column) const { return window_->part<OutletsView>()->table()->text_at(row, column); }
  static void choose(QComboBox* box, const QString& name) {
    QVERIFY2(box->findText(name) >= 0, qPrintable(name));
    box->setCurrentIndex(box->findText(name));
  }
  void show_loudness() {
    window_->show_page("loudness");
    QTRY_VERIFY_WITH_TIMEOUT(window_->loudness().waiting() == 0 && !window_->loudness().is_running(), 60000);
    QTRY_VERIFY(!text(0, LoudnessView::integrated_column).isEmpty());
  }
  void show_outlets() {
    window_->show_page("outlets");
    QTRY_VERIFY_WITH_TIMEOUT(window_->loudness().waiting() == 0 && !window_->loudness().is_running(), 60000);
    QTRY_VERIFY(window_->part<OutletsView>()->table()->shown() > 0);
  }
  Folder folder_;
  QString first_, second_;
  std::unique_ptr<MainWindow> window_;
};

QTEST_MAIN(TestLoudness)
#include "test_loudness.moc"
