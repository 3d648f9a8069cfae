// Help inside: what every number is, the handbook's pictures, the keys on one sheet, and the first screen.
#include <QAbstractSpinBox>
#include <QDirIterator>
#include <QMenuBar>
#include <QRegularExpression>
#include <QScrollBar>
#include <QSignalSpy>
#include <QStandardPaths>
#include <QWhatsThis>
#include <set>

#include "app/pages/null/stage_form.hpp"
#include "app/plots/plate.hpp"
#include "app/shell/key_sheet.hpp"
#include "app/shell/what_is_this.hpp"
#include "app/widgets/terms.hpp"
#include "core/audio/fingerprint.hpp"
#include "core/bench/document.hpp"
#include "demo/writer.hpp"
#include "tests/support/programmes.hpp"
#include "tests/support/window.hpp"

using namespace heathmist;
using namespace heathmist::app;
using namespace heathmist::test;

namespace {

/// The card that is open; none: null.
QWidget* card_shown() {
  for (QWidget* w : QApplication::topLevelWidgets())
    if (w->isVisible() && w->inherits("QWhatsThat")) return w;
  return nullptr;
}

bool is_explained(const QWidget* widget) {
  for (; widget; widget = widget->parentWidget())
    if (!widget->whatsThis().isEmpty()) return true;
  return false;
}

}  // namespace

class TestHelp : public WindowTest {
  Q_OBJECT

 private slots:
  void initTestCase() {
    prepare_window(folder_);
    const auto sound = programme("dense", 44100, 5, 3);
    save(folder_ / "weir.wav", scaled(sound, 0.4), 44100, WordFormat::pcm24);
    save(folder_ / "weir back.wav", scaled(sound, 0.25), 44100, WordFormat::pcm24);
    master_ = path("weir.wav"), back_ = path("weir back.wav");
  }

  // ---- terms
  void every_term_is_whole() {
    std::set<QString> keys, codes;
    QVERIFY(terms().size() > 60);
    for (const Term& term : terms()) {
      for (const QString& part : {term.name, term.unit, term.what, term.formula, term.source, term.usual})
        QVERIFY2(!part.trimmed().isEmpty(), qPrintable(term.name));
      QVERIFY2(keys.insert(term.key).second, qPrintable(term.key));
      for (const QString& code : term.codes) QVERIFY2(codes.insert(code).second || code == "drift", qPrintable(code));
      QVERIFY2(term.what.size() < 330, qPrintable(term.name));  // a card, no chapter
    }
    QVERIFY(!term_of("weather"));
  }
  /// Every cause that there is has its term.
  void every_cause_is_told_in_a_term() {
    std::set<QString> codes;
    for (const Term& term : terms()) codes.insert(term.codes.begin(), term.codes.end());
    for (const char* code :
         {"delay",       "channel_delay", "drift",        "wow",     "splice",          "insert",         "repeat",
          "dropout",     "gain",          "channel_gain", "fade",    "gain_step",       "gain_ride",      "mute",
          "swap",        "polarity",      "width",        "mono",    "copied_channel",  "silent_channel", "crosstalk",
          "eq",          "phase",         "echo",         "reverb",  "conversion",      "alias",          "band_limit",
          "word_length", "distortion",    "clip",         "limiter", "compressor",      "expander",       "dc",
          "hum",         "tone",          "clicks",       "noise",   "other_programme", "lossy"})
      QVERIFY2(codes.count(code), code);
    QCOMPARE(term_of_code("limiter").key, QString("distortion"));
    QCOMPARE(term_of_code("weather").key, QString("cause"));
  }
  void a_card_says_everything_and_nothing_raw() {
    for (const Term& term : terms()) {
      const QString card = card_of(term);
      QTextDocument text;
      text.setHtml(card);
      const QString plain = text.toPlainText();
      QVERIFY(plain.contains(term.name) && plain.contains(term.unit));
      QVERIFY2(!plain.contains('*') && !plain.contains('<') && !plain.contains('`'), qPrintable(plain));
    }
  }
  /// A column of numbers says what they are, on every page.
  void every_column_of_numbers_has_its_term() {
    fill_bench();
    int columns = 0;
    for (const Page& page : pages()) {
      window_->show_page(page.key);
      QCOMPARE(column_without_term(*window_), QString());
      for (const ResultTable* table : window_->findChildren<ResultTable*>())
        for (int c = 0; c < table->columns(); ++c) {
          const auto* model = table->model();
          const auto align = model->headerData(c, Qt::Horizontal, Qt::TextAlignmentRole).toInt();
          if (!(align & Qt::AlignRight)) continue;
          ++columns;
          QVERIFY(model->headerData(c, Qt::Horizontal, Qt::WhatsThisRole)
                      .toString()
                      .contains(term_of(table->term(c))->name));
        }
    }
    QVERIFY(columns > 60);
  }
  void every_plot_has_its_term() {
    fill_bench();
    int plots = 0;
    for (const Page& page : pages()) {
      window_->show_page(page.key);
      for (const Plate* plot : window_->findChildren<Plate*>())
        QVERIFY2(++plots && is_explained(plot), qPrintable(QString::fromStdString(page.key) + ": " + plot->title()));
    }
    QVERIFY(plots > 15);
  }
  /// So does every number that stands by itself with a unit.
  void every_number_on_a_page_is_explained() {
    fill_bench();
    QStringList missing;
    static const QRegularExpression number("\\d ?(dB|dBr|dBFS|dBTP|LUFS|LU|ppm)\\b");
    for (const Page& page : pages()) {
      window_->show_page(page.key);
      QCoreApplication::processEvents();
      for (const QLabel* label : window_->findChildren<QLabel*>())
        if (label->isVisible() && number.match(label->text()).hasMatch())
          if (!is_explained(label)) missing << QString::fromStdString(page.key) + ": " + label->text();
    }
    QVERIFY2(missing.isEmpty(), qPrintable(missing.join('\n')));
  }
  /// What is typed into, too; a stage's own numbers have their stage's hints.
  void every_number_that_is_typed_is_explained() {
    QStringList missing;
    int fields = 0;
    for (const auto* box : window_->findChildren<QAbstractSpinBox*>()) {
      bool of_stage = false;
      for (const QWidget* w = box; w; w = w->parentWidget()) of_stage |= qobject_cast<const StageForm*>(w) != nullptr;
      if (of_stage) continue;
      ++fields;
      if (!is_explained(box)) missing << box->accessibleName();
    }
    QVERIFY2(missing.isEmpty(), qPrintable(missing.join('\n')));
    QVERIFY(fields > 8);
  }
  /// No term is asked for that is none, and none is told that nothing on screen is told in.
  void terms_and_the_screen_name_the_same() {
    static const QRegularExpression quoted("\"([a-z_0-9]+)\"");
    QString source;
    QDirIterator files(QString(HEATHMIST_SOURCE) + "/app", {"*.cpp"}, QDir::Files, QDirIterator::Subdirectories);
    std::set<QString> named;
    static const QRegularExpression asked("(?:set_term\\([^;]*?|answer_label\\(\\w+, )\"([a-z_0-9]+)\"");
    while (files.hasNext()) {
      QFile file(files.next());
      QVERIFY(file.open(QIODevice::ReadOnly));
      source = QString::fromUtf8(file.readAll());
      for (auto it = quoted.globalMatch(source); it.hasNext();) named.insert(it.next().captured(1));
      for (auto it = asked.globalMatch(source); it.hasNext();) {
        const QString key = it.next().captured(1);
        QVERIFY2(term_of(key), qPrintable(file.fileName() + ": " + key));
      }
    }
    QStringList unused;
    for (const Term& term : terms())
      if (!named.count(term.key) && term.codes.isEmpty()) unused << term.key;
    QCOMPARE(unused, QStringList());
  }
  void a_finding_is_told_in_its_own_term() {
    fill_bench();
    QTRY_VERIFY_WITH_TIMEOUT(!window_->findings()->findChildren<FindingCard*>().isEmpty(), 30000);
    bool gain = false;
    for (const FindingCard* card : window_->findings()->findChildren<FindingCard*>()) {
      QVERIFY(!card->whatsThis().isEmpty());
      gain |= card->whatsThis().contains("<b>Gain</b>");
    }
    QVERIFY(gain);
  }
  /// Three are seen, the rest is a press away; each can be copied.
  void findings_are_folded() {
    FindingsPanel* panel = window_->findings();
    std::vector<Finding> some(6);
    for (size_t n = 0; n < some.size(); ++n) {
      some[n].code = "gain", some[n].text = "Finding " + std::to_string(n), some[n].detail = "Detail";
    }
    const auto seen = [&] {
      QStringList texts;
      for (const auto* card : panel->findChildren<FindingCard*>())
        if (card->isVisible()) texts << card->accessibleName().section(" Detail", 0, 0);
      return texts;
    };
    panel->show_findings(some);
    QCOMPARE(seen(), QStringList({"Finding 0", "Finding 1", "Finding 2"}));
    QVERIFY(panel->also()->isVisible() && panel->also()->text().contains("3"));
    panel->also()->click();
    QCOMPARE(seen().size(), 6);
    panel->show_findings(some);  // as it was left
    QCOMPARE(seen().size(), 6);
    panel->also()->click();
    QCOMPARE(seen().size(), 3);
    some.resize(2);
    panel->show_findings(some);
    QVERIFY(seen().size() == 2 && !panel->also()->isVisible());
    QCOMPARE(panel->sentences().size(), 2);
  }
  void a_press_on_a_number_tells_what_it_is() {
    fill_bench();
    window_->show_page("loudness");
    auto* table = window_->part<LoudnessView>()->table();
    QTRY_VERIFY_WITH_TIMEOUT(table->shown() == 2 && !table->text_at(0, LoudnessView::peak_column).isEmpty(), 30000);
    QVERIFY(!card_shown());
    QTest::keyClick(window_.get(), Qt::Key_F1, Qt::ShiftModifier);
    QVERIFY(QWhatsThis::inWhatsThisMode());
    const QRect cell = table->visualRect(table->model()->index(0, LoudnessView::peak_column));
    QTest::mouseClick(table->viewport(), Qt::LeftButton, {}, cell.center());
    QTRY_VERIFY(card_shown());
    QVERIFY(!QWhatsThis::inWhatsThisMode());
    QWhatsThis::hideText();
  }
  void the_keys_alone_tell_what_a_number_is() {
    fill_bench();
    window_->show_page("loudness");
    auto* table = window_->part<LoudnessView>()->table();
    QTRY_VERIFY_WITH_TIMEOUT(table->shown() == 2, 30000);
    table->setFocus();
    table->setCurrentIndex(table->model()->index(0, LoudnessView::range_column));
    QVERIFY(table->currentIndex().data(Qt::WhatsThisRole).toString().contains("Loudness range"));
    QVERIFY(tell_what_has_the_keys(*window_));
    QTRY_VERIFY(card_shown());
    QWhatsThis::hideText();
    window_->menuBar()->setFocus();
    QVERIFY(!tell_what_has_the_keys(*window_));
  }

  // ---- handbook
  void chapters_have_their_pictures() {
    window_->activateWindow();
    QVERIFY(QTest::qWaitForWindowActive(window_.get()));
    QTest::keyClick(window_.get(), Qt::Key_F1);
    auto* book = window_->findChild<Handbook*>();
    QVERIFY(book);
    int pictures = 0;
    static const QRegularExpression picture("<img src=\"([^\"]+)\"");
    for (int n = 0; n < book->list()->count(); ++n) {
      book->open_chapter(book->list()->item(n)->data(Qt::UserRole).toString());
      const QString html = book->text()->toHtml();
      for (auto it = picture.globalMatch(html); it.hasNext();) {
        const QUrl url = book->text()->source().resolved(QUrl(it.next().captured(1)));
        const auto image = book->text()->document()->resource(QTextDocument::ImageResource, url).value<QImage>();
        QVERIFY2(!image.isNull(), qPrintable(url.toString()));
        QVERIFY(image.width() / image.devicePixelRatio() <= book->text()->viewport()->width());
        ++pictures;
      }
    }
    QVERIFY(pictures >= 16);
  }
  /// Another width of the window is another width of its pictures, and the text stays where it was.
  void pictures_follow_the_window() {
    Handbook book(nullptr);
    book.show();
    book.open_chapter("loudness");
    const auto picture = [&] {
      const QUrl url("qrc:/heathmist/screenshots/loudness.png");
      return book.text()->document()->resource(QTextDocument::ImageResource, url).value<QImage>().width();
    };
    const int wide = picture();
    QVERIFY(wide > 300);
    book.text()->verticalScrollBar()->setValue(40);
    book.resize(book.width() - 200, book.height());
    QTRY_VERIFY(picture() < wide - 150);
    QCOMPARE(book.text()->verticalScrollBar()->value(), 40);
    QVERIFY(!book.text()->horizontalScrollBar()->isVisible());
    QCOMPARE(book.chapter(), QString("loudness"));
  }
  void the_terms_are_a_chapter() {
    window_->activateWindow();
    QVERIFY(QTest::qWaitForWindowActive(window_.get()));
    QTest::keyClick(window_.get(), Qt::Key_F1);
    auto* book = window_->findChild<Handbook*>();
    book->open_chapter("terms");
    for (const Term& term : terms()) QVERIFY2(book->text()->toPlainText().contains(term.name), qPrintable(term.name));
  }

  // ---- keys
  void every_key_stands_on_the_sheet() {
    window_->activateWindow();
    QVERIFY(QTest::qWaitForWindowActive(window_.get()));
    QTest::keyClick(window_.get(), Qt::Key_F1, Qt::ControlModifier);
    auto* sheet = window_->findChild<KeySheet*>();
    QVERIFY(sheet && sheet->isVisible());
    const QString text = sheet->text()->toPlainText();
    int keys = 0;
    for (const Command& command : window_->commands())
      for (const QKeySequence& key : command.keys) {
        if (key.isEmpty()) continue;  // this desktop has none for it
        QVERIFY2(text.contains(key.toString(QKeySequence::NativeText)) &&
                     (text.contains(command.name) || text.contains(command.name.section(": ", 0, 0)) ||
                      text.contains(command.name.section(": ", 1))),
                 qPrintable(command.name));
        ++keys;
      }
    QVERIFY(keys > 60);
    QTRY_COMPARE(QApplication::activeWindow(), sheet);
    QTest::keyClick(sheet, Qt::Key_Escape);
    QTRY_VERIFY(!window_->findChild<KeySheet*>());
  }

  // ---- the first screen
  void the_first_screen_has_three_ways_to_begin() {
    Welcome* welcome = window_->welcome();
    QVERIFY(welcome->isHidden());  // until it is asked for
    window_->activateWindow();
    QVERIFY(QTest::qWaitForWindowActive(window_.get()));
    window_->show_welcome(true);
    QVERIFY(welcome->isVisible() && !window_->page_stack()->isVisible());
    QCOMPARE(welcome->ways().size(), 3);
    QVERIFY(welcome->ways().front()->hasFocus());
    QVERIFY(welcome->ways()[0]->property("main").toBool() && !welcome->ways()[1]->property("main").toBool());
    window_->take_files({master_});
    QVERIFY(welcome->isHidden() && window_->page_stack()->isVisible());
  }
  void a_page_takes_its_place() {
    window_->show_welcome(true);
    window_->show_page("null");  // the one that was under it
    QVERIFY(window_->welcome()->isHidden() && window_->page_stack()->isVisible());
    window_->show_welcome(true);
    window_->show_page("loudness");
    QVERIFY(window_->welcome()->isHidden());
    window_->show_welcome(true);
    window_->activateWindow();
    QVERIFY(QTest::qWaitForWindowActive(window_.get()));
    QTest::keyClick(window_.get(), Qt::Key_F7);
    QVERIFY(window_->welcome()->isHidden());
  }
  void the_benches_of_before_are_there() {
    window_->take_files({master_, back_});
    window_->files()->save_to(path("hours.heathmist"));
    window_->files()->start_anew();
    window_->show_welcome(true);
    QPushButton* link = nullptr;
    for (auto* button : window_->welcome()->findChildren<QPushButton*>())
      if (button->toolTip().endsWith("hours.heathmist")) link = button;
    QVERIFY(link && link->isVisible());
    link->click();
    QTRY_VERIFY(window_->welcome()->isHidden());
    QCOMPARE(window_->workspace().bench().masters.size(), size_t(1));
  }
  /// One that is whole is opened as it is; one that is not is left alone.
  void the_demo_is_opened_and_nothing_written_over() {
    const QString home = QStandardPaths::writableLocation(QStandardPaths::AppDataLocation) + "/demo";
    QDir(home).removeRecursively();
    QCOMPARE(DemoAlbum::folder(), home);
    QVERIFY(QDir().mkpath(home));
    Bench bench;
    bench.name = "Curlew Hours";
    bench.settings["demo"] = demo::version;
    bench.masters.push_back({"m", "Weir", {master_.toStdString(), fingerprint(master_.toStdString())}, {}});
    const auto file = demo::bench_in(home.toStdString());
    save_bench(bench, file);
    QVERIFY(demo::is_whole(home.toStdString()));
    QCOMPARE(DemoAlbum::folder(), home);
    window_->show_welcome(true);
    window_->welcome()->ways().front()->click();
    QTRY_VERIFY_WITH_TIMEOUT(window_->workspace().bench().masters.size() == 1, 20000);
    QVERIFY(window_->welcome()->isHidden());
    bench.masters[0].audio.file = (folder_ / "gone.wav").string();
    save_bench(bench, file);
    QFile kept(QString::fromStdString(file.string()));
    QVERIFY(kept.open(QIODevice::ReadOnly));
    const QByteArray before = kept.readAll();
    QCOMPARE(DemoAlbum::folder(), home + " 2");
    kept.seek(0);
    QCOMPARE(kept.readAll(), before);
    QDir(home).removeRecursively();
  }
  void the_demo_is_opened_where_it_is_said_to_lie() {
    const auto folder = folder_ / "demo here";
    std::filesystem::create_directories(folder);
    Bench bench;
    bench.settings["demo"] = demo::version;
    bench.masters.push_back({"m", "Weir", {master_.toStdString(), fingerprint(master_.toStdString())}, {}});
    save_bench(bench, demo::bench_in(folder));
    window_->show_welcome(true);
    window_->welcome()->open_demo(QString::fromStdString(folder.string()));
    QTRY_VERIFY_WITH_TIMEOUT(window_->welcome()->isHidden(), 20000);
    QCOMPARE(window_->workspace().bench().masters.front().audio.file.string(), master_.toStdString());
    window_->files()->start_anew();
    window_->show_welcome(true);
    window_->welcome()->open_demo("/dev/null/demo");
    QTRY_VERIFY_WITH_TIMEOUT(window_->welcome()->stop()->isHidden(), 20000);
    QVERIFY2(window_->welcome()->note().contains("/dev/null/demo"), qPrintable(window_->welcome()->note()));
  }
  void the_making_can_be_stopped() {
    const QString home = DemoAlbum::folder();
    window_->activateWindow();
    QVERIFY(QTest::qWaitForWindowActive(window_.get()));
    window_->show_welcome(true);
    QTest::keyClick(window_->welcome()->ways().front(), Qt::Key_Return);
    QVERIFY(window_->welcome()->stop()->isVisible());
    QTest::keyClick(window_->welcome()->stop(), Qt::Key_Return);
    QTRY_VERIFY_WITH_TIMEOUT(window_->welcome()->stop()->isHidden(), 60000);
    QVERIFY(window_->workspace().bench().masters.empty() && !window_->welcome()->note().isEmpty());
    QVERIFY(!QFile::exists(QString::fromStdString(demo::bench_in(home.toStdString()).string())));
    QDir(home).removeRecursively();
  }

 private:
  void fill_bench() {
    window_->take_files({master_, back_});
    QTRY_VERIFY_WITH_TIMEOUT(window_->workspace().current_result() != nullptr, 30000);
  }
  QString path(const char* name) const { return QString::fromStdString((folder_ / name).string()); }
  QString master_, back_;
};

QTEST_MAIN(TestHelp)
#include "test_help.moc"
