// Every dialog as it opens, by day and by night and with the desktop's text larger: nothing is cut off or too low to
// hit, all of it has a name, one action is the main one, and Escape leaves it.
#include <QLabel>
#include <QMenuBar>
#include <QPushButton>
#include <QTableWidget>

#include "app/pages/deliverables/deliverables_view.hpp"
#include "app/pages/deliverables/plan_form.hpp"
#include "app/pages/loudness/copies_form.hpp"
#include "app/pages/null/arm_dialog.hpp"
#include "app/pages/outlets/outlet_form.hpp"
#include "app/pages/sheet/rules_form.hpp"
#include "app/shell/finder.hpp"
#include "app/shell/handbook.hpp"
#include "app/shell/key_sheet.hpp"
#include "app/shell/log_window.hpp"
#include "app/shell/tempo_form.hpp"
#include "app/theme/theme.hpp"
#include "tests/support/layout.hpp"
#include "tests/support/window.hpp"

using namespace heathmist;
using namespace heathmist::app;
using namespace heathmist::test;

namespace {

Outlet an_outlet() {
  Outlet o;
  o.name = "Tide radio", o.target_lufs = -20, o.tolerance_lu = 0.5, o.max_true_peak_dbtp = -1;
  return o;
}

Stage a_program() { return {.type = "external", .values = {{"command", "sox {in} {out} gain -1"}}}; }

using Make = std::function<std::unique_ptr<QDialog>(MainWindow&)>;

const std::map<std::string, Make>& dialogs() {
  static const std::map<std::string, Make> all{
      {"plan", [](MainWindow& w) { return std::make_unique<PlanForm>(usual_plan(), &w); }},
      {"copies", [](MainWindow& w) { return std::make_unique<CopiesForm>(-18, 2, &w); }},
      {"arm", [](MainWindow& w) { return std::make_unique<ArmDialog>(a_program(), &w); }},
      {"outlet", [](MainWindow& w) { return std::make_unique<OutletForm>(an_outlet(), std::vector<Chain>{}, &w); }},
      {"rules", [](MainWindow& w) { return std::make_unique<RulesForm>(Rules{}, &w); }},
      {"tempo",
       [](MainWindow& w) {
         return std::make_unique<TempoForm>(Tempo{97.5, 3, 1.25}, 7.5, &w);
       }},
      {"handbook", [](MainWindow& w) { return std::make_unique<Handbook>(&w); }},
      {"keys", [](MainWindow& w) { return std::make_unique<KeySheet>(*w.menuBar(), &w); }},
      {"log", [](MainWindow& w) { return std::make_unique<LogWindow>(&w); }},
      {"finder",
       [](MainWindow& w) {
         return std::make_unique<Finder>(
             std::vector<FinderEntry>{{"Pages", "Null", "Compare", "F1"}, {"Terms", "Residual", "what is left"}}, &w);
       }},
  };
  return all;
}

}  // namespace

class TestDialogs : public QObject {
  Q_OBJECT

 private slots:
  void initTestCase() {
    prepare_window(folder_);
    window_ = std::make_unique<MainWindow>(simulated_output());
    window_->set_quiet(true);
    window_->resize(1024, 700);
    window_->show();
    QVERIFY(QTest::qWaitForWindowActive(window_.get()));
  }
  void cleanupTestCase() {
    window_.reset();
    Theme::instance().apply(false);
    qApp->setFont(font_);
  }

  void nothing_is_cut_off_data() {
    QTest::addColumn<std::string>("name");
    QTest::addColumn<bool>("night");
    QTest::addColumn<double>("text");
    for (const auto& [name, make] : dialogs()) QTest::addRow("%s, day", name.c_str()) << name << false << 1.0;
    for (const auto& [name, make] : dialogs())
      QTest::addRow("%s, night, larger text", name.c_str()) << name << true << 1.25;
  }
  void nothing_is_cut_off() {
    QFETCH(std::string, name);
    QFETCH(bool, night);
    QFETCH(double, text);
    dress(night, text);
    const auto dialog = dialogs().at(name)(*window_);
    dialog->show();
    QVERIFY(QTest::qWaitForWindowExposed(dialog.get()));
    QTest::qWait(50);
    if (const auto to = qEnvironmentVariable("HEATHMIST_SHOTS"); !to.isEmpty())
      dialog->grab().save(QString("%1/%2-%3.png").arg(to, name.c_str(), night ? "night" : "day"));
    QVERIFY(dialog->width() <= 1024 && dialog->height() <= 700);
    QVERIFY2(!dialog->windowTitle().isEmpty() || name == "finder", name.c_str());
    const auto faults = lasting_faults_of(*dialog);
    QVERIFY2(faults.isEmpty(), qPrintable(faults.mid(0, 8).join('\n')));
    for (const auto* label : dialog->findChildren<QLabel*>())  // what wraps has its height
      if (label->isVisible() && label->wordWrap())
        QVERIFY2(label->height() + 1 >= label->heightForWidth(label->width()), qPrintable(label->text()));
    for (const auto* table : dialog->findChildren<QTableWidget*>())
      for (int row = 0; row < table->rowCount(); ++row)
        for (int column = 0; column < table->columnCount(); ++column)
          if (const auto* cell = table->item(row, column))
            QVERIFY2(table->fontMetrics().horizontalAdvance(cell->text()) + 8 <= table->columnWidth(column),
                     qPrintable(cell->text()));
    const auto [count, nameless] = told_to_a_reader(*dialog);
    QVERIFY2(nameless.isEmpty(), qPrintable(nameless.join('\n')));
    QVERIFY(count > 0);
    int main_actions = 0;
    for (const auto* button : dialog->findChildren<QPushButton*>())
      if (button->property("main").toBool()) {
        ++main_actions;
        QVERIFY(button->isDefault());
        const QColor seen = dialog->grab().toImage().pixelColor(button->mapTo(dialog.get(), QPoint(5, 5)));
        const bool filled = seen.name() == colour(button->isEnabled() ? Role::ink : Role::rule).name();
        QVERIFY2(filled, qPrintable(seen.name()));
      }
    const QStringList forms{"copies", "outlet", "plan", "rules", "tempo"};
    QCOMPARE(main_actions, int(forms.contains(QString::fromStdString(name))));
    QTest::keyClick(dialog.get(), Qt::Key_Escape);
    QTRY_VERIFY(!dialog->isVisible());
    QCOMPARE(dialog->result(), int(QDialog::Rejected));
  }

 private:
  /// The whole window is dressed anew: only where it is another.
  void dress(bool night, double text) {
    QFont font = font_;
    font.setPointSizeF(font.pointSizeF() * text);
    if (qApp->font() != font) qApp->setFont(font);
    if (Theme::instance().is_night() != night) Theme::instance().apply(night);
  }
  Folder folder_;
  std::unique_ptr<MainWindow> window_;
  const QFont font_ = qApp->font();
};

QTEST_MAIN(TestDialogs)
#include "test_dialogs.moc"
