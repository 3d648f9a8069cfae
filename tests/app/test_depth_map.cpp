// The depth map in the window: a part of it is selected by hand, and its time is that of the lanes, or its own.
#include <QSignalSpy>
#include <QtTest>

#include "core/compare/finding_place.hpp"
#include "core/dsp/biquad.hpp"
#include "tests/support/share.hpp"
#include "tests/support/window.hpp"

using namespace heathmist;
using namespace heathmist::app;
using namespace heathmist::test;

namespace {

constexpr int rate = 48000;

/// A bell of +4 dB at 3 kHz, and silence for 40 ms from 2.5 s on.
Planar with_bell_and_dropout(Planar sound) {
  for (int c = 0; c < sound.channels(); ++c) {
    auto bell = dsp::Biquad::bell(rate, 3000, 2, 4);
    for (double& x : sound.channel(c)) x = bell.run(x);
    std::fill_n(sound.channel(c).begin() + rate * 5 / 2, rate / 25, 0.0);
  }
  return sound;
}

LeftAt left(double hz, double before_db, double after_db) { return {hz, before_db, after_db}; }

}  // namespace

class TestDepthMap : public WindowTest {
  Q_OBJECT

  NullView* view() { return window_->part<NullView>(); }
  DepthPlate* map() { return view()->plates()->depth(); }
  QPoint at(double seconds, double row) {
    return {int(map()->xAxis->coordToPixel(seconds)), int(map()->yAxis->coordToPixel(row))};
  }
  void drag(const QPoint& from, const QPoint& to) {
    QTest::mousePress(map(), Qt::LeftButton, Qt::NoModifier, from);
    QTest::mouseMove(map(), (from + to) / 2);
    QTest::mouseMove(map(), to);
    QTest::mouseRelease(map(), Qt::LeftButton, Qt::NoModifier, to);
  }
  void turn_wheel(const QPoint& where, int by, Qt::KeyboardModifiers with = Qt::NoModifier) {
    QWheelEvent turned(where, map()->mapToGlobal(where), {}, {0, by}, Qt::NoButton, with, Qt::NoScrollPhase, false);
    QApplication::sendEvent(map(), &turned);
  }
  QStringList cards_seen() {
    QStringList seen;
    for (const auto* card : window_->findings()->findChildren<FindingCard*>())
      if (card->isVisibleTo(window_->findings())) seen << card->accessibleName();
    return seen;
  }

 private slots:
  void initTestCase() {
    prepare_window(folder_);
    const auto sound = requantised(scaled(with_noise(Programme(8, 1).render(rate), 1e-3, 5), 0.5), 24, true);
    master_ = QString::fromStdString(save(folder_ / "tide.wav", sound, rate, WordFormat::pcm24).string());
    ret_ = QString::fromStdString(
        save(folder_ / "tide-back.wav", with_bell_and_dropout(sound), rate, WordFormat::pcm24).string());
  }

  void a_cause_holds_where_it_takes_something_out() {
    Cause cause;
    cause.by_octave = {left(250, -60, -60.1), left(500, -50, -58), left(1000, -20, -50), left(2000, -22, -50),
                       left(4000, -45, -47)};
    const auto band = band_of(cause);
    QVERIFY(band && std::abs(band->first - 707.1) < 0.1 && std::abs(band->second - 2828.4) < 0.1);
    cause.by_octave = {left(500, -20, -50), left(1000, -20, -50)};
    QVERIFY(!band_of(cause));  // all over
    cause.by_octave = {left(500, -20, -20)};
    QVERIFY(!band_of(cause));  // not known
  }

  void what_holds_throughout_is_never_elsewhere() {
    Finding f;
    const std::optional<std::pair<double, double>> early{{0, 2}}, late{{4, 6}}, low{{20, 200}}, none;
    QVERIFY(!lies_elsewhere(f, early, low));
    f.when_s = std::pair{1.9, 2.5};
    QVERIFY(!lies_elsewhere(f, early, none) && lies_elsewhere(f, late, none) && !lies_elsewhere(f, none, low));
    f.band_hz = std::pair{1000.0, 4000.0};
    QVERIFY(lies_elsewhere(f, early, low) && !lies_elsewhere(f, early, std::pair{3000.0, 9000.0}));
  }

  void a_drag_selects_time_and_band() {
    show();
    const QString whole = view()->strip()->residual_text();
    drag(at(4, 20.1), at(6, 24.9));
    QVERIFY(view()->selection() && view()->band());
    const auto [from, to] = *view()->selection();
    QVERIFY2(std::abs(from - 4) < 0.1 && std::abs(to - 6) < 0.1, qPrintable(QString("%1 %2").arg(from).arg(to)));
    QVERIFY(window_->workspace().selection() == view()->selection() && window_->workspace().band() == view()->band());
    const auto& edges = window_->workspace().current_result()->report->sums.depth.band_edges_hz;
    QCOMPARE(view()->band()->first, edges[20]);
    QCOMPARE(view()->band()->second, edges[26]);
    QVERIFY(!window_->player().is_playing());
    QTRY_VERIFY_WITH_TIMEOUT(view()->strip()->residual_text() != whole, 10000);
    drag(at(6.5, 10), at(5, 3));  // the other way round
    QVERIFY(std::abs(view()->selection()->first - 5) < 0.1 && std::abs(view()->selection()->second - 6.5) < 0.1);
    QCOMPARE(view()->band()->first, edges[3]);
  }

  void findings_narrow_to_what_is_selected() {
    show();
    const auto drops = [](const QStringList& cards) { return cards.join('\n').contains("drop"); };
    view()->set_selection(std::pair{2.4, 2.6});
    QVERIFY2(drops(cards_seen()), qPrintable(cards_seen().join('\n')));
    view()->set_selection(std::pair{5.0, 7.0});
    QVERIFY(!cards_seen().isEmpty());
    for (const QString& card : cards_seen()) QVERIFY2(!card.contains("drops out for"), qPrintable(card));
    const size_t all = window_->workspace().current_findings().size();
    QCOMPARE(size_t(window_->findings()->sentences().size()), all);  // none is lost
    window_->findings()->also()->click();
    QCOMPARE(size_t(cards_seen().size()), all);
    view()->set_selection({});
    QCOMPARE(cards_seen().front(), QString::fromStdString(first_finding().text + " " + first_finding().detail));
    window_->findings()->also()->click();
  }

  void tied_to_the_lanes_both_show_one_time() {
    show();
    view()->lanes()->set_range(2, 6);
    QCOMPARE(map()->from_s(), 2.0);
    turn_wheel(at(4, 12), 240);
    QVERIFY(map()->to_s() - map()->from_s() < 3);
    QCOMPARE(view()->lanes()->from_s(), map()->from_s());
    QCOMPARE(view()->lanes()->to_s(), map()->to_s());
    map()->setFocus();
    QTest::keyClick(map(), Qt::Key_0);
    QVERIFY(view()->lanes()->from_s() < 0.1 && view()->lanes()->to_s() > 7.5);
  }

  void by_itself_the_map_has_its_own_zoom() {
    show();
    const double from = view()->lanes()->from_s(), to = view()->lanes()->to_s();
    view()->plates()->tie_maps(false);
    turn_wheel(at(4, 12), 480);
    QVERIFY(map()->to_s() - map()->from_s() < 0.6 * (to - from));
    QCOMPARE(view()->lanes()->from_s(), from);
    QCOMPARE(view()->lanes()->to_s(), to);
    const double own = map()->from_s();
    view()->lanes()->set_range(1, 3);
    QCOMPARE(map()->from_s(), own);
    QVERIFY(view()->settings()["maps tied"] == 0);
    view()->plates()->tie_maps(true);
    QCOMPARE(map()->from_s(), 1.0);
    QCOMPARE(map()->to_s(), 3.0);
  }

  void frequencies_are_zoomed_and_a_double_click_shows_all() {
    show();
    const QCPRange all = map()->yAxis->range();
    turn_wheel(at(4, 20), 360, Qt::ShiftModifier);
    const QCPRange near = map()->yAxis->range();
    QVERIFY(near.size() < 0.6 * all.size() && near.lower >= all.lower && near.upper <= all.upper);
    QVERIFY(near.contains(20));
    QVERIFY(!static_cast<QCPAxisTickerText*>(map()->yAxis->ticker().data())->ticks().isEmpty());
    turn_wheel(at(4, 20), -2400, Qt::ShiftModifier);  // no farther than all
    QCOMPARE(map()->yAxis->range().size(), all.size());
    turn_wheel(at(4, 20), 360, Qt::ShiftModifier);
    drag(at(3, 19), at(5, 21));
    QTest::mouseDClick(map(), Qt::LeftButton, Qt::NoModifier, at(4, 20));
    QCOMPARE(map()->yAxis->range().size(), all.size());
    QVERIFY(!view()->band() && !view()->selection());
    window_->player().pause();
  }

  /// What the hand was at may not be there any more.
  void other_cells_are_pointed_at_anew() {
    DepthPlate plate;
    plate.resize(300, 300);
    const auto shown = [&](int columns, std::vector<double> edges) {
      DepthCells cells{0, 0.5, std::move(edges), {}, {}};
      cells.master.assign(size_t(columns * cells.bands()), 1);
      cells.residual.assign(cells.master.size(), 0.01f);
      plate.show_cells(cells);
      plate.set_range(0, columns * 0.5);
    };
    QSignalSpy selected(&plate, &DepthPlate::selected), clicked(&plate, &DepthPlate::clicked);
    const auto frame = [&](int keys) {
      for (int n = 0; n < keys; ++n)
        for (const auto key : {Qt::Key_Up, Qt::Key_Right}) QTest::keyClick(&plate, key, Qt::ShiftModifier);
    };
    std::vector<double> many;
    for (int n = 0; n <= 40; ++n) many.push_back(20 * std::pow(1.18, n));
    shown(60, many);
    frame(30);
    QTest::mousePress(&plate, Qt::LeftButton, Qt::NoModifier, QPoint(200, 60));
    shown(3, {100, 200, 400});
    QTest::mouseRelease(&plate, Qt::LeftButton, Qt::NoModifier, QPoint(120, 200));
    QTest::keyClick(&plate, Qt::Key_Return);
    QCOMPARE(selected.size() + clicked.size(), 0);
    frame(2);
    QTest::keyClick(&plate, Qt::Key_Return);
    QCOMPARE(selected.size(), 1);
    QVERIFY(selected[0][2].toDouble() >= 100 && selected[0][3].toDouble() <= 400);
    QVERIFY(selected[0][1].toDouble() <= 1.5);
    plate.show_nothing("none");
    for (const auto key : {Qt::Key_Up, Qt::Key_Return, Qt::Key_Plus, Qt::Key_0}) QTest::keyClick(&plate, key);
    QCOMPARE(selected.size(), 1);
  }

  void by_keyboard_a_cell_is_read_and_heard() {
    show();
    map()->setFocus();
    QTest::keyClick(map(), Qt::Key_Right);
    QTest::keyClick(map(), Qt::Key_Up);
    QTest::keyClick(map(), Qt::Key_Return);
    QVERIFY(view()->band() && view()->selection());
    const double low = view()->band()->first;
    QTest::keyClick(map(), Qt::Key_Up);
    QTest::keyClick(map(), Qt::Key_Return);
    QVERIFY(view()->band()->first > low);
    window_->player().pause();
    const double width = view()->band()->second / view()->band()->first;
    QTest::keyClick(map(), Qt::Key_Up, Qt::ShiftModifier);
    QTest::keyClick(map(), Qt::Key_Up, Qt::ShiftModifier);
    for (int n = 0; n < 5; ++n) QTest::keyClick(map(), Qt::Key_Right, Qt::ShiftModifier);
    QTest::keyClick(map(), Qt::Key_Return);
    QVERIFY(view()->band()->second / view()->band()->first > 1.2 * width);
    QVERIFY(!window_->player().is_playing());
    for (int n = 0; n < 60; ++n) QTest::keyClick(map(), Qt::Key_Plus);
    QVERIFY(map()->to_s() - map()->from_s() < 1);
    const double from = map()->from_s();
    for (int n = 0; n < 40; ++n) QTest::keyClick(map(), Qt::Key_Right);
    QVERIFY(map()->from_s() > from);  // it stays in sight
  }

 private:
  Finding first_finding() { return window_->workspace().current_findings().front(); }
  void show() {
    QSignalSpy ready(&window_->workspace(), &Workspace::trial_ready);
    window_->take_files({master_, ret_});
    QTRY_COMPARE_WITH_TIMEOUT(ready.size(), 2, 120000);
    map()->replot(QCustomPlot::rpImmediateRefresh);  // it has its place before it is pointed at
  }
  QString master_, ret_;
};

SHARED_WINDOW_MAIN(TestDepthMap)
#include "test_depth_map.moc"
