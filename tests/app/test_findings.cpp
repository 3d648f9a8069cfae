// The findings beside the page: put aside with a reason and brought back, with their data in a line.
#include <QClipboard>
#include <QSignalSpy>
#include <QtTest>

#include "app/shell/findings_controller.hpp"
#include "core/bench/put_aside.hpp"
#include "core/dsp/biquad.hpp"
#include "tests/support/share.hpp"
#include "tests/support/window.hpp"

using namespace heathmist;
using namespace heathmist::app;
using namespace heathmist::test;

class TestFindings : public WindowTest {
  Q_OBJECT

  FindingsPanel* panel() { return window_->findings(); }
  Workspace& workspace() { return window_->workspace(); }
  FindingsController* controller() { return window_->findChild<FindingsController*>(); }
  QList<FindingCard*> cards() { return panel()->findChildren<FindingCard*>(); }
  FindingCard* card_of(const Finding& f) {
    for (FindingCard* card : cards())
      if (card->accessibleName().contains(QString::fromStdString(f.text))) return card;
    return nullptr;
  }
  void show(const QString& ret) {
    QSignalSpy ready(&workspace(), &Workspace::trial_ready);
    window_->take_files({master_, ret});
    QTRY_COMPARE_WITH_TIMEOUT(ready.size(), 2, 120000);
    QVERIFY(workspace().current_findings().size() > 2);
  }
  Planar hummed(double gain) {
    Planar out = sound_;
    auto bell = dsp::Biquad::bell(48000, 2000, 1, 3);
    for (int c = 0; c < out.channels(); ++c)
      for (int64_t n = 0; n < out.frames(); ++n)
        out.channel(c)[size_t(n)] += gain * std::sin(2 * 3.14159265358979 * 50 / 48000 * double(n));
    for (double& x : out.channel(0)) x = bell.run(x);
    return out;
  }

 private slots:
  void initTestCase() {
    prepare_window(folder_);
    sound_ = requantised(scaled(with_noise(Programme(8, 1).render(48000), 1e-3, 5), 0.5), 24, true);
    master_ = write("tide.wav", sound_);
    ret_ = write("tide-back.wav", hummed(1e-3));
  }

  void one_is_put_aside_and_brought_back() {
    show(ret_);
    const auto findings = workspace().current_findings();
    const Finding& second = findings[1];
    controller()->put_aside(second, "the old desk");
    FindingCard* card = card_of(second);
    QVERIFY(card && card->accessibleName().startsWith("Put aside: the old desk"));
    QVERIFY(!card->isVisibleTo(panel()));  // behind the fold
    QCOMPARE(size_t(panel()->sentences().size()), findings.size());
    QVERIFY(aside_of(*workspace().bench().trial(workspace().current()), second));
    workspace().model().undo_stack().undo();
    QVERIFY(card_of(second) && !card_of(second)->accessibleName().contains("Put aside"));
    workspace().model().undo_stack().redo();
    panel()->also()->click();
    QVERIFY(card_of(second)->isVisibleTo(panel()));
    card_of(second)->setFocus();
    QTest::keyClick(card_of(second), Qt::Key_Delete);
    QTRY_VERIFY(!card_of(second)->accessibleName().contains("Put aside"));
    panel()->also()->click();
  }

  void without_a_reason_it_stays() {
    show(ret_);
    controller()->put_aside(workspace().current_findings()[1], "  ");
    QVERIFY(workspace().bench().trial(workspace().current())->aside.empty());
  }

  /// The same file, bounced anew with more hum: what was put aside says something else now.
  void it_comes_back_when_the_file_changes() {
    const QString file = write("tide-bounce.wav", hummed(1e-3));
    show(file);
    const auto hum = [&]() -> std::optional<Finding> {
      for (const Finding& f : workspace().current_findings())
        if (f.code == "hum" || f.code == "steady_tone") return f;
      return {};
    };
    QVERIFY2(hum(), qPrintable(panel()->sentences().join('\n')));
    const Finding before = *hum();
    controller()->put_aside(before, "known");
    QVERIFY(card_of(before)->accessibleName().contains("Put aside"));
    write("tide-bounce.wav", hummed(4e-3));
    QTRY_VERIFY_WITH_TIMEOUT(hum() && hum()->text != before.text && workspace().current_result()->why, 60000);
    QTRY_VERIFY(card_of(*hum()) && !card_of(*hum())->accessibleName().contains("Put aside"));
  }

  void its_data_stand_under_it_on_demand() {
    show(ret_);
    const auto lines = [&] {
      int shown = 0;
      for (FindingCard* card : cards())
        for (const QLabel* label : card->findChildren<QLabel*>())
          shown += label->text().contains(", caution;") || label->text().contains(", note;");
      return shown;
    };
    const auto seen = [&] {
      const auto all = cards();
      return std::any_of(all.begin(), all.end(), [](FindingCard* card) {
        const auto labels = card->findChildren<QLabel*>();
        return labels.back()->isVisibleTo(card);
      });
    };
    QVERIFY(lines() > 0 && !seen());
    for (const Command& command : controller()->commands()) command.run();
    QVERIFY(seen());
    for (const Command& command : controller()->commands()) command.run();
    QVERIFY(!seen());
  }

  /// What a reader of the screen meets is what is seen.
  void the_verdict_is_never_put_aside() {
    show(ret_);
    const Finding verdict = workspace().current_findings().front();
    controller()->put_aside(verdict, "no");
    QVERIFY(workspace().bench().trial(workspace().current())->aside.empty());
    QVERIFY(!card_of(verdict)->accessibleName().contains("Put aside"));
    QVERIFY(card_of(verdict)->isVisibleTo(panel()));
  }

 private:
  QString write(const char* name, const Planar& sound) {
    return QString::fromStdString(save(folder_ / name, sound, 48000, WordFormat::pcm24).string());
  }
  Planar sound_;
  QString master_, ret_;
};

SHARED_WINDOW_MAIN(TestFindings)
#include "test_findings.moc"
