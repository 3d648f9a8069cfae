// The window as a frame: pages and commands come of their lists, the selection is one, and every page follows it.
#include <QClipboard>
#include <QMenuBar>
#include <QRegularExpression>
#include <QSettings>
#include <QSignalSpy>
#include <QTextBlock>
#include <set>

#include "app/model/log.hpp"
#include "app/shell/finder.hpp"
#include "app/shell/log_window.hpp"
#include "tests/support/window.hpp"

using namespace heathmist;
using namespace heathmist::app;
using namespace heathmist::test;

namespace {

void gather(const QMenu* menu, std::set<QAction*>& into) {
  for (QAction* action : menu->actions()) {
    into.insert(action);
    if (action->menu()) gather(action->menu(), into);
  }
}

/// As the README writes a key: `Shift F12`.
QString as_written(const QKeySequence& key) { return "`" + key.toString().replace('+', ' ') + "`"; }

}  // namespace

class TestShell : public WindowTest {
  Q_OBJECT

 private slots:
  void initTestCase() {
    prepare_window(folder_);
    const auto sound = Programme(4, 7).render(44100);
    first_ = save(folder_ / "first.wav", sound, 44100, WordFormat::pcm16);
    second_ = save(folder_ / "second.wav", Programme(4, 9).render(44100), 44100, WordFormat::pcm16);
    back_ = save(folder_ / "first back.wav", scaled(sound, 0.5), 44100, WordFormat::pcm16);
  }

  void f1_opens_the_pages_own_chapter() {
    for (const Page& page : pages()) {
      window_->show_page(page.key);
      window_->activateWindow();
      QVERIFY(QTest::qWaitForWindowActive(window_.get()));
      QTest::keyClick(window_.get(), Qt::Key_F1);
      auto* book = window_->findChild<Handbook*>();
      QVERIFY(book && book->isVisible());
      QCOMPARE(book->chapter(), QString::fromStdString(page.key));
      QVERIFY(book->text()->toPlainText().startsWith(page.title.left(4)));
      QCOMPARE(book->list()->currentItem()->data(Qt::UserRole).toString(), book->chapter());
      QVERIFY2(book->text()->toPlainText().size() > 200, page.key.c_str());
      book->close();
    }
  }
  void links_of_the_handbook_lead_to_chapters() {
    const QDir folder(QString(HEATHMIST_SOURCE) + "/docs/handbook");
    static const QRegularExpression link(R"(\]\(([^)]+)\))");
    for (const QString& name : folder.entryList({"*.md"})) {
      QFile file(folder.filePath(name)), shipped(":/heathmist/handbook/" + name);
      QVERIFY2(file.open(QIODevice::ReadOnly) && shipped.open(QIODevice::ReadOnly), qPrintable(name));
      const QByteArray text = file.readAll();
      QCOMPARE(shipped.readAll(), text);
      for (auto it = link.globalMatch(QString::fromUtf8(text)); it.hasNext();) {
        const QString to = it.next().captured(1);
        QVERIFY2(QFile::exists(folder.filePath(to)), qPrintable(name + ": " + to));
      }
    }
    window_->show_page("null");
    QVERIFY(QTest::qWaitForWindowActive(window_.get()));
    QTest::keyClick(window_.get(), Qt::Key_F1);
    auto* book = window_->findChild<Handbook*>();
    book->open_chapter("start");
    book->text()->setSource(QUrl("sheet.md"));  // as a click does
    QCOMPARE(book->chapter(), QString("sheet"));
    QCOMPARE(book->list()->currentItem()->data(Qt::UserRole).toString(), QString("sheet"));
    book->open_chapter("weather");  // there is none
    QCOMPARE(book->chapter(), QString("start"));
  }
  void every_page_has_a_key_and_a_shortcut_of_its_own() {
    std::set<std::string> keys;
    std::set<QString> shortcuts;
    for (const Page& page : pages()) {
      QVERIFY2(keys.insert(page.key).second, page.key.c_str());
      QVERIFY2(!page.shortcut.isEmpty() && shortcuts.insert(page.shortcut.toString()).second, page.key.c_str());
      QVERIFY2(!page.title.isEmpty() && !page.hint.isEmpty(), page.key.c_str());
    }
    QVERIFY(!window_->show_page("no such page"));
    QCOMPARE(window_->page_stack()->current().key, "null");
  }

  /// Groups stand together, so that a tab is one place in the order of work.
  void the_pages_of_a_group_stand_side_by_side() {
    std::vector<PageGroup> groups;
    for (const Page& page : pages())
      if (groups.empty() || groups.back() != page.group) groups.push_back(page.group);
    QCOMPARE(std::set<PageGroup>(groups.begin(), groups.end()).size(), groups.size());
  }

  void no_key_does_two_things() {
    std::map<QString, QString> used;
    for (const Command& command : window_->commands())
      for (const QKeySequence& key : command.keys) {
        QVERIFY2(!used.count(key.toString()),
                 qPrintable(key.toString() + ": " + used[key.toString()] + ", " + command.name));
        used[key.toString()] = command.name;
      }
    QVERIFY(used.size() > 40);
  }

  void every_command_stands_in_a_menu_once() {
    std::set<QAction*> in_menus;
    for (const QAction* top : window_->menuBar()->actions()) gather(top->menu(), in_menus);
    std::map<QString, int> names;
    for (const QAction* action : in_menus) ++names[action->text()];
    for (const Command& command : window_->commands())
      QVERIFY2(names[command.name] == 1, qPrintable(QString("%1: %2").arg(command.name).arg(names[command.name])));
    for (const QAction* top : window_->menuBar()->actions()) {
      QVERIFY(!top->menu()->isEmpty());
      QVERIFY2(top->menu()->actions().size() <= 26, qPrintable(top->text()));  // none fills the screen
    }
  }

  /// What cannot be done now is grey in the menu, and nothing happens at its key; what can be, can be.
  void what_cannot_be_done_is_grey() {
    const auto enabled = [this](const QString& name) {
      const auto tops = window_->menuBar()->actions();
      for (const QAction* top : tops) emit top->menu()->aboutToShow();
      bool found = false;
      for (const QAction* action : window_->actions()) found |= action->text() == name && action->isEnabled();
      for (const QAction* top : tops) emit top->menu()->aboutToHide();
      return found;
    };
    window_->show();
    QVERIFY(QTest::qWaitForWindowActive(window_.get()));
    QVERIFY(!enabled("Make a return with a chain"));
    QVERIFY(!enabled("Write levelled copies…"));
    window_->show_page("trials");
    QTest::keySequence(window_.get(), QKeySequence("Ctrl+R"));
    QCOMPARE(window_->page_stack()->current().key, "trials");
    put_pairs();
    QTest::keySequence(window_.get(), QKeySequence("Ctrl+R"));
    QCOMPARE(window_->page_stack()->current().key, "null");
    QVERIFY(window_->workspace().current_chain());
    window_->workspace().look_at("t");
    QVERIFY(enabled("Make a return with a chain"));
    QVERIFY(enabled("Write levelled copies…"));
    QVERIFY(enabled("Exchange master and return"));
    QVERIFY(!enabled("Keep this chain on the bench…"));  // its return is a file
  }

  /// The ledger's row menu holds what can be done to that row, and is made of the same commands as the menu bar.
  void a_row_has_what_can_be_done_to_it() {
    put_pairs();
    QTRY_VERIFY_WITH_TIMEOUT(window_->workspace().current_result(), 60000);
    const auto offered = [this] {
      QStringList names;
      for (QAction* action : window_->part<Menus>()->row_actions())
        if (window_->part<Menus>()->can(action)) names << action->text();
      return names;
    };
    const QString rename = "Rename…", point = "Point to its file anew…", exchange = "Exchange master and return",
                  remove = "Remove from the bench", floor = "Take this trial as the floor of the route";
    for (const QString& name : {rename, point, exchange, remove, floor})
      QVERIFY2(offered().contains(name), qPrintable(name));
    window_->workspace().look_at("a");  // a master
    const QStringList of_master = offered();
    QCOMPARE(QSet<QString>(of_master.begin(), of_master.end()),
             (QSet<QString>{rename, point, remove, "A new version of this master…", "Another sound of this file…"}));
    window_->workspace().make_return({"", {{"gain", {{"gain_db", -6}}}}, 1});  // no file comes back
    QTRY_VERIFY_WITH_TIMEOUT(window_->workspace().current_result(), 60000);
    QVERIFY(!offered().contains(point) && !offered().contains(exchange) && !offered().contains(floor));
    QVERIFY(offered().contains(rename) && offered().contains(remove));
  }

  void tabs_and_rows_lead_to_every_page() {
    window_->show();
    for (const Page& page : pages()) {
      for (auto* tab : window_->findChildren<QToolButton*>("groupTab"))
        if (tab->text() == title_of(page.group)) tab->click();
      for (auto* button : window_->findChildren<QToolButton*>("pageTab"))
        if (button->isVisible() && button->text() == page.title) button->click();
      QCOMPARE(window_->page_stack()->current().key, page.key);
    }
    // a group opens where it was left
    for (auto* tab : window_->findChildren<QToolButton*>("groupTab"))
      if (tab->text() == "Compare") tab->click();
    QCOMPARE(window_->page_stack()->current().key, "pairs");
  }

  /// Findings stand beside the page they speak of; the ledger keeps its width.
  void the_ledger_stays_as_wide_as_it_was() {
    window_->resize(1280, 800);
    window_->show();
    const int wide = window_->ledger()->width();
    window_->show_page("loudness");
    QVERIFY(!window_->findings()->isVisible());
    QTRY_COMPARE(window_->ledger()->width(), wide);
    window_->show_page("null");
    QVERIFY(window_->findings()->isVisible());
    QTRY_COMPARE(window_->ledger()->width(), wide);
  }

  void loudness_and_outlets_are_at_the_trial_that_is_looked_at() {
    put_pairs();
    window_->show();
    window_->show_page("loudness");
    const auto* loudness = window_->part<LoudnessView>();
    QTRY_COMPARE(loudness->chosen(), (std::vector<std::string>{"a", "t"}));
    window_->workspace().look_at("b");
    QTRY_COMPARE(loudness->chosen(), (std::vector<std::string>{"b"}));
    window_->show_page("outlets");
    QCOMPARE(window_->part<OutletsView>()->master()->currentData().toString(), QString("b"));
    window_->workspace().look_at("t");
    QTRY_COMPARE(window_->part<OutletsView>()->master()->currentData().toString(), QString("a"));
  }

  void a_selection_is_one_for_lanes_spectra_and_listening() {
    put_pairs();
    Workspace& workspace = window_->workspace();
    QTRY_VERIFY_WITH_TIMEOUT(workspace.current_result(), 60000);
    QSignalSpy told(&workspace, &Workspace::selection_changed);
    window_->part<NullView>()->set_selection(Range{0.5, 1.5});
    QCOMPARE(workspace.selection(), std::optional(Range{0.5, 1.5}));
    QCOMPARE(told.size(), 1);  // once, though the view hears of it too
    workspace.select(Range{1, 2});
    QCOMPARE(window_->part<NullView>()->selection(), std::optional(Range{1, 2}));
    emit window_->part<SpectrumView>()->band_chosen(200, 400);
    QCOMPARE(workspace.band(), std::optional(Range{200, 400}));
    QCOMPARE(window_->part<NullView>()->band(), std::optional(Range{200, 400}));
    emit window_->listening()->loop_cleared();
    QVERIFY(!workspace.selection() && !window_->part<NullView>()->selection() && !workspace.band());
  }

  /// What is looked at is what the ledger shows, at once, and nothing that happens meanwhile chooses another.
  void the_ledger_is_at_what_is_looked_at() {
    put_pairs();
    QCOMPARE(window_->ledger()->selected(), "t");
    window_->show();
    window_->ledger()->list()->setFocus();
    QTest::qWait(100);
    QCOMPARE(window_->workspace().current(), "t");
    window_->workspace().look_at("b");
    QCOMPARE(window_->ledger()->selected(), "b");
  }

  /// Lines and Over time are two pages of one view: what kind of spectrum is chosen leads to its page, and back.
  void the_kind_of_spectrum_is_at_its_page() {
    window_->show();
    QVERIFY(QTest::qWaitForWindowActive(window_.get()));
    window_->show_page("spectrum");
    auto* kind = window_->part<SpectrumView>()->kind();
    kind->setFocus();
    kind->setCurrentIndex(SpectrumView::hold);
    QCOMPARE(window_->focusWidget(), kind);  // it is not taken away from who chooses
    kind->setCurrentIndex(SpectrumView::over_time_sharp);
    QCOMPARE(window_->page_stack()->current().key, "spectrogram");
    QCOMPARE(kind->currentIndex(), int(SpectrumView::over_time_sharp));
    kind->setCurrentIndex(SpectrumView::moment);
    QCOMPARE(window_->page_stack()->current().key, "spectrum");
    QCOMPARE(kind->currentIndex(), int(SpectrumView::moment));
    window_->show_page("spectrogram");
    QVERIFY(kind->currentIndex() >= SpectrumView::over_time_plain);
  }

  void the_bench_is_renamed_and_that_is_undone() {
    put_pairs();
    window_->workspace().model().edit("name", [](Bench& bench) { bench.name = "Curlew Hours"; });
    QVERIFY(window_->windowTitle().startsWith("Curlew Hours"));
    window_->workspace().model().undo_stack().undo();
    QVERIFY(!window_->windowTitle().startsWith("Curlew Hours"));
  }

  /// The README's table has the key of every page.
  void the_readme_knows_the_keys() {
    QFile readme(QString(HEATHMIST_SOURCE) + "/README.md");
    QVERIFY(readme.open(QIODevice::ReadOnly));
    const QString text = QString::fromUtf8(readme.readAll());
    for (const Page& page : pages())
      QVERIFY2(text.contains(as_written(page.shortcut)), qPrintable(page.title + ": " + as_written(page.shortcut)));
    const QRegularExpression written("`(F\\d+|(?:Shift|Ctrl) F\\d+)`");
    std::set<QString> known;
    for (const Command& command : window_->commands())
      for (const QKeySequence& key : command.keys) known.insert(as_written(key));
    for (auto found = written.globalMatch(text); found.hasNext();) {
      const QString key = found.next().captured(0);
      QVERIFY2(known.count(key), qPrintable(key));  // and none that does nothing
    }
  }

  /// Rows go out as they are shown: heads, tabs, hidden columns and hidden rows left out.
  void a_table_is_copied_as_it_is_shown() {
    put_pairs();
    window_->show();
    window_->show_page("loudness");
    auto* table = window_->part<LoudnessView>()->table();
    QTRY_COMPARE(table->shown(), 3);
    QTRY_VERIFY_WITH_TIMEOUT(!window_->loudness().is_running() && window_->loudness().waiting() == 0, 30000);
    const auto lines = [&](bool chosen) { return table->text(chosen).split('\n', Qt::SkipEmptyParts); };
    QCOMPARE(lines(false).size(), 4);
    const auto heads = lines(false)[0].split('\t');
    QCOMPARE(heads.size(), int(LoudnessView::columns));
    for (const QString& line : lines(false)) QCOMPARE(line.count('\t'), heads.size() - 1);
    table->selectionModel()->select(table->model()->index(1, 0),
                                    QItemSelectionModel::ClearAndSelect | QItemSelectionModel::Rows);
    QCOMPARE(lines(true).size(), 2);
    QCOMPARE(lines(true)[1].section('\t', 0, 0), table->text_at(1, LoudnessView::name_column).trimmed());
    table->setColumnHidden(LoudnessView::range_column, true);
    QVERIFY(!lines(false)[0].contains("Range"));
    QCOMPARE(lines(false)[0].count('\t'), heads.size() - 2);
    table->setColumnHidden(LoudnessView::range_column, false);
    window_->part<LoudnessView>()->filter()->setText("slack");
    QCOMPARE(lines(false).size(), 2);
    table->clearSelection();
    table->setFocus();
    QTest::keyClick(table, Qt::Key_C, Qt::ControlModifier);
    QCOMPARE(QGuiApplication::clipboard()->text(), table->text(false));
  }

  /// A plot's menu holds commands, as all menus do; and the palette knows them for the plot that was used last.
  void every_plot_has_its_menu() {
    put_pairs();
    window_->show();
    QVERIFY(QTest::qWaitForWindowActive(window_.get()));
    const auto saves = [&] {
      return std::count_if(window_->commands().begin(), window_->commands().end(),
                           [](const Command& c) { return c.of_plot && c.submenu == "The plot in use" && c.enabled(); });
    };
    window_->show_page("matrix");
    QCOMPARE(saves(), 0);
    window_->show_page("null");
    QTRY_VERIFY_WITH_TIMEOUT(window_->workspace().current_result(), 30000);
    auto* lanes = window_->part<NullView>()->lanes();
    QStringList seen;
    QTimer::singleShot(0, window_.get(), [&] {
      auto* menu = qobject_cast<QMenu*>(QApplication::activePopupWidget());
      QVERIFY(menu);
      for (QAction* action : menu->actions()) seen << action->text();
      menu->close();
    });
    emit lanes->menu_wanted(QPoint(10, 10));
    QVERIFY(seen.contains("Save the plot's numbers as CSV…") && seen.size() >= 3);
    QCOMPARE(saves(), 3);
    window_->show_page("matrix");
    QCOMPARE(saves(), 0);  // it is not seen any more
  }

  /// What was said to the user stands in the log with what was measured, in one line each, and can be read.
  void the_log_tells_what_happened() {
    const auto file = std::filesystem::path(folder_ / "log" / "heathmist.log");
    begin_log(file);
    keep_log_of(*window_);
    put_pairs();
    QTRY_VERIFY_WITH_TIMEOUT(read_log(file).contains("measured "), 30000);
    window_->notice()->say("A file\nis gone.");
    qWarning("a warning of the library");
    const QStringList lines = read_log(file).split('\n', Qt::SkipEmptyParts);
    QVERIFY(lines.first().contains("Heathmist "));
    QVERIFY(lines.filter("A file is gone.").size() == 1 && lines.filter("a warning of the library").size() == 1);
    for (const QString& line : lines)
      QVERIFY2(QRegularExpression("^\\d{4}-\\d\\d-\\d\\d [\\d:]{8} (info|warning): ").match(line).hasMatch(),
               qPrintable(line));
    std::filesystem::create_directories(folder_ / "in the way");
    begin_log(folder_ / "in the way");  // a folder is no file: no log, and no end of the program
    log_line(LogLevel::note, "nowhere");
  }

  void the_palette_finds_pages_commands_and_trials() {
    put_pairs();
    Finder* finder = opened_finder();
    QVERIFY(finder);
    finder->edit()->setText("word lengths");
    QVERIFY(finder->titles().contains("Word lengths"));
    finder->edit()->setText("at half");
    QCOMPARE(finder->titles().first(), QString("Mill Race: At half"));
    window_->workspace().look_at("b");
    QTest::keyClick(finder->edit(), Qt::Key_Return);
    QCOMPARE(window_->workspace().current(), "t");
  }

  void the_palette_stands_in_the_middle_with_groups_and_what_was_chosen_last() {
    QSettings().remove("finder");
    put_pairs();
    Finder* finder = opened_finder();
    QVERIFY(finder);
    QCOMPARE(finder->isSizeGripEnabled(), false);
    QVERIFY(std::abs(finder->geometry().center().x() - window_->geometry().center().x()) < 3);
    QCOMPARE(finder->list()->item(0)->flags(), Qt::NoItemFlags);  // a group's name, which the keys go over
    QCOMPARE(finder->list()->currentRow(), 1);
    finder->edit()->setText("show the log");
    finder->close();
    finder = opened_finder();
    const QString first = finder->titles().first();
    finder->edit()->setText("outlets what each place");
    QCOMPARE(finder->titles(), QStringList("Outlets"));
    QTest::keyClick(finder->edit(), Qt::Key_Return);
    QCOMPARE(window_->page_stack()->current().key, "outlets");
    finder = opened_finder();
    QCOMPARE(finder->list()->item(0)->text(), QString("Chosen last"));
    QCOMPARE(finder->titles().first(), QString("Outlets"));
    QVERIFY(first != "Outlets");
    QTest::keyClick(finder->edit(), Qt::Key_Down);  // over the next group's name
    QVERIFY(finder->list()->currentItem()->flags() & Qt::ItemIsSelectable);
    QCOMPARE(finder->list()->currentRow(), 3);
    QTest::keyClick(finder->edit(), Qt::Key_Up);
    QCOMPARE(finder->list()->currentRow(), 1);
    finder->edit()->setText("qqqzzz");
    QVERIFY(finder->titles().isEmpty() && finder->list()->count() == 1);
    QTest::keyClick(finder->edit(), Qt::Key_Return);  // and nothing happens
    QVERIFY(finder->isVisible());
    finder->close();
  }

  void the_palette_finds_findings_outlets_chapters_and_terms() {
    put_pairs();
    QTRY_VERIFY_WITH_TIMEOUT(window_->workspace().current_result(), 30000);
    const QString finding = window_->findings()->sentences().first();
    Finder* finder = opened_finder();
    QVERIFY(finder);
    QVERIFY2(finder->titles().contains(finding), qPrintable(finding));
    const Outlet outlet = known_outlets().back();
    finder->edit()->setText(QString::fromStdString(outlet.name));
    QVERIFY(finder->titles().contains(QString::fromStdString(outlet.name)));
    QTest::keyClick(finder->edit(), Qt::Key_Return);
    QCOMPARE(window_->page_stack()->current().key, "outlets");
    finder = opened_finder();
    finder->edit()->setText("true peak");
    QVERIFY(finder->titles().contains("True peak"));
    const auto rows = finder->titles();
    while (finder->list()->currentItem()->text() != "True peak") QTest::keyClick(finder->edit(), Qt::Key_Down);
    QTest::keyClick(finder->edit(), Qt::Key_Return);
    auto* handbook = window_->part<Handbook>();
    QVERIFY(handbook && handbook->isVisible());
    QCOMPARE(handbook->chapter(), QString("terms"));
    QCOMPARE(handbook->text()->textCursor().block().text(), QString("True peak"));
    handbook->close();
  }

  void letters_fit_better_at_the_beginning_of_words() {
    QCOMPARE(how_well("", "anything", ""), 1.0);
    QVERIFY(how_well("res", "Response", "") > how_well("res", "The response", ""));
    QVERIFY(how_well("response", "The response", "") > how_well("pons", "The response", ""));
    QVERIFY(how_well("pons", "The response", "") > how_well("pons", "Path", "the response"));
    QVERIFY(how_well("sba", "Save bench as…", "") > 0);  // the beginnings of its words
    QCOMPARE(how_well("sbx", "Save bench as…", ""), 0.0);
    QCOMPARE(how_well("save trial", "Save bench as…", ""), 0.0);  // every word must be there
    QVERIFY(how_well("bench save", "Save bench as…", "") > 0);    // in any order
  }

 private:
  Finder* opened_finder() {
    window_->show();
    window_->activateWindow();
    if (!QTest::qWaitForWindowActive(window_.get())) return nullptr;
    QTest::keySequence(window_.get(), QKeySequence("Ctrl+K"));
    for (auto* finder : window_->findChildren<Finder*>())
      if (finder->isVisible()) return finder;
    return nullptr;
  }
  void put_pairs() {
    window_->workspace().model().edit("pairs", [&](Bench& bench) {
      bench.masters = {{"a", "Mill Race", {first_, ""}, {{"t", "At half", {back_, ""}, {}}}},
                       {"b", "Slack Water", {second_, ""}, {}}};
    });
    window_->workspace().look_at("t");
  }
  std::filesystem::path first_, second_, back_;
};

QTEST_MAIN(TestShell)
#include "test_shell.moc"
