// The table of results: what sorting, choosing, filtering, hiding and copying come to, whatever its rows are.
#include <QClipboard>
#include <QGuiApplication>
#include <QHeaderView>
#include <QMenu>
#include <QSignalSpy>
#include <QTest>
#include <random>

#include "app/widgets/result_table.hpp"

using namespace heathmist::app;

class TestTables : public QObject {
  Q_OBJECT

  struct Row {
    QString name;
    std::optional<double> level;
  };
  std::vector<Row> rows_;
  std::unique_ptr<ResultTable> table_;
  int asked_ = 0;

  void set() {
    table_->set_rows(rows_.size(), [this](size_t n) { return rows_[n].name; });
  }
  QStringList names() const {
    QStringList all;
    for (int place = 0; place < table_->shown(); ++place) all << table_->text_at(place, 0);
    return all;
  }
  QStringList chosen() const {
    QStringList all;
    for (const size_t n : table_->chosen()) all << rows_[n].name;
    return all;
  }

 private slots:
  void init() {
    rows_ = {{"Mill Race", -9.5}, {"Slack Water", {}}, {"Weir", -100}, {"Sluice", 2}};
    table_ = std::make_unique<ResultTable>("rows", nullptr);
    asked_ = 0;
    table_->set_columns(
        {{"Name", "what it is called", [this](size_t n) { return Cell{rows_[n].name}; }},
         {"Level", "dB", [this](size_t n) { return ++asked_, number_cell(rows_[n].level, 1); }, true, 80},
         {"Kind",
          {},
          [](size_t) {
            return Cell{"a\tb\nc", {}, "a hint", Role::rust};
          },
          false,
          Column::stretch}});
    set();
  }
  void cleanup() { table_.reset(); }

  void rows_stand_as_they_came_until_they_are_sorted() {
    QCOMPARE(names(), QStringList({"Mill Race", "Slack Water", "Weir", "Sluice"}));
    QCOMPARE(table_->text_at(1, 1), QString::fromUtf8("\u2013"));
    QCOMPARE(table_->text_at(0, 1), QString::fromUtf8("\u22129.5"));
    QCOMPARE(table_->model()->headerData(1, Qt::Horizontal, Qt::ToolTipRole).toString(), QString("dB"));
    QCOMPARE(table_->model()->index(0, 1).data(Qt::TextAlignmentRole).toInt() & Qt::AlignRight, int(Qt::AlignRight));
    QCOMPARE(table_->model()->index(0, 2).data(Qt::ForegroundRole).value<QBrush>().color(), colour(Role::rust));
    QCOMPARE(table_->model()->index(0, 2).data(Qt::ToolTipRole).toString(), QString("a hint"));
  }

  /// Numbers go by their size and not by their words; what has none stands last, up or down.
  void sorting_goes_by_numbers() {
    table_->sort_by(1, Qt::AscendingOrder);
    QCOMPARE(names(), QStringList({"Weir", "Mill Race", "Sluice", "Slack Water"}));
    table_->sort_by(1, Qt::DescendingOrder);
    QCOMPARE(names(), QStringList({"Sluice", "Mill Race", "Weir", "Slack Water"}));
    table_->sort_by(0, Qt::AscendingOrder);
    QCOMPARE(names(), QStringList({"Mill Race", "Slack Water", "Sluice", "Weir"}));
    QCOMPARE(table_->row_at(3), size_t(2));
  }

  /// Whichever came first, and whichever way it is sorted.
  void rows_that_are_alike_keep_their_own_order() {
    std::mt19937 chance(3);
    for (const Qt::SortOrder order : {Qt::AscendingOrder, Qt::DescendingOrder}) {
      table_->sort_by(1, order);
      std::vector<Row> all;
      for (int n = 0; n < 24; ++n) all.push_back({QString("row %1").arg(n, 2, 10, QChar('0')), double(n % 3)});
      std::vector<bool> in(all.size());
      for (size_t came = 0; came < all.size(); ++came) {  // measured one by one, in any order
        for (size_t n = chance() % all.size();; n = (n + 1) % all.size())
          if (!in[n]) {
            in[n] = true;
            break;
          }
        rows_.clear();
        for (size_t n = 0; n < all.size(); ++n)
          if (in[n]) rows_.push_back(all[n]);
        set();
      }
      const QStringList shown = names();
      QCOMPARE(shown.size(), qsizetype(24));
      for (qsizetype part = 0; part < 3; ++part)
        QVERIFY2(std::is_sorted(shown.begin() + 8 * part, shown.begin() + 8 * (part + 1)), qPrintable(shown.join(' ')));
    }
  }

  void what_is_chosen_stays_so_wherever_it_comes_to_stand() {
    QSignalSpy changed(table_.get(), &ResultTable::chosen_changed);
    table_->choose({1, 3});
    QCOMPARE(chosen(), QStringList({"Slack Water", "Sluice"}));
    const int heard = int(changed.count());
    QVERIFY(heard > 0);
    rows_.insert(rows_.begin(), {"Tide Table", 0});
    set();
    QCOMPARE(chosen(), QStringList({"Slack Water", "Sluice"}));
    table_->sort_by(1, Qt::DescendingOrder);
    QCOMPARE(chosen(), QStringList({"Sluice", "Slack Water"}));
    QCOMPARE(changed.count(), heard);  // it is the same choice
    std::erase_if(rows_, [](const Row& r) { return r.name == "Sluice"; });
    set();
    QCOMPARE(chosen(), QStringList({"Slack Water"}));
    QVERIFY(changed.count() > heard);
    rows_.clear();
    set();
    QVERIFY(table_->chosen().empty() && table_->shown() == 0);
  }

  void other_columns_keep_the_choice() {
    table_->choose({2});
    table_->set_columns({{"Name", {}, [this](size_t n) { return Cell{rows_[n].name}; }}});
    QCOMPARE(table_->shown(), 0);
    set();
    QCOMPARE(chosen(), QStringList({"Weir"}));
    QCOMPARE(table_->columns(), 1);
  }

  void a_filter_hides_rows_and_their_choice() {
    table_->choose({0});
    table_->set_filter([this](size_t n) { return rows_[n].level.has_value(); });
    QCOMPARE(names(), QStringList({"Mill Race", "Weir", "Sluice"}));
    QCOMPARE(chosen(), QStringList({"Mill Race"}));
    table_->set_filter([this](size_t n) { return !rows_[n].level; });
    QVERIFY(chosen().isEmpty());
    table_->set_filter({});
    QCOMPARE(table_->shown(), 4);
    QCOMPARE(table_->rows(), size_t(4));
  }

  /// A cell is worked out once for what its row is; and anew when rows are set.
  void cells_are_never_stale_and_made_once() {
    for (int n = 0; n < 3; ++n) (void)names(), (void)table_->text_at(0, 1);
    QCOMPARE(asked_, 1);
    rows_[0].level = -1;
    set();
    QCOMPARE(table_->text_at(0, 1), QString::fromUtf8("\u22121.0"));
    QCOMPARE(asked_, 2);
  }

  void it_is_copied_as_it_is_shown() {
    table_->sort_by(1, Qt::AscendingOrder);
    table_->setColumnHidden(1, true);
    table_->choose({0});
    QCOMPARE(table_->text(true), QString("Name\tKind\nMill Race\ta b c\n"));
    QCOMPARE(table_->text(false).count('\n'), 5);
    QCOMPARE(table_->text(false).section('\n', 1, 1).section('\t', 0, 0), QString("Weir"));
    table_->show();
    table_->setFocus();
    QTest::keyClick(table_.get(), Qt::Key_C, Qt::ControlModifier);
    QCOMPARE(QGuiApplication::clipboard()->text(), table_->text(true));
  }

  void enter_opens_the_row_that_is_seen_there() {
    table_->sort_by(1, Qt::AscendingOrder);
    QSignalSpy opened(table_.get(), &ResultTable::opened);
    table_->show();
    table_->choose({2});
    QTest::keyClick(table_.get(), Qt::Key_Return);
    QCOMPARE(opened.count(), 1);
    QCOMPARE(opened[0][0].value<size_t>(), size_t(2));
  }

  /// Rows come and go at random, in any order, sorted and filtered: it shows what there is, and the choice stays.
  void it_shows_what_there_is() {
    std::mt19937 random(11);
    for (int round = 0; round < 200; ++round) {
      const auto before = chosen();
      std::vector<Row> next;
      for (const Row& r : rows_)
        if (random() % 5) next.push_back(r);
      for (unsigned n = random() % 4; n > 0; --n)
        next.push_back(
            {QString::number(random()), random() % 3 ? std::optional(double(random() % 100)) : std::nullopt});
      std::shuffle(next.begin(), next.end(), random);
      rows_ = std::move(next);
      set();
      QStringList still;
      for (const Row& r : rows_)
        if (before.contains(r.name)) still << r.name;
      auto now = chosen();
      still.sort(), now.sort();
      QCOMPARE(now, still);
      QCOMPARE(table_->shown(), int(rows_.size()));
      if (random() % 2) table_->sort_by(int(random() % 3), random() % 2 ? Qt::AscendingOrder : Qt::DescendingOrder);
      if (random() % 3 == 0 && !rows_.empty()) table_->choose({random() % rows_.size()});
      for (int place = 0; place < table_->shown(); ++place)
        QCOMPARE(table_->text_at(place, 0), rows_[table_->row_at(place)].name);
    }
  }

  /// Where room is short those that can be spared go, one after the other, and come back in turn; what somebody hid
  /// stays away, and no width makes the table scroll sideways while one could still go.
  void columns_that_can_be_spared_fold_away() {
    const auto text = [](const char* words) { return [words](size_t) { return Cell{words}; }; };
    table_->set_columns({{"Name", {}, text("the name of it"), false, 120},
                         {"A", {}, text("one"), false, 100, nullptr, 1},
                         {"B", {}, text("two"), false, 100, nullptr, 3},
                         {"C", {}, text("three"), false, 100, nullptr, 2},
                         {"D", {}, text("four"), false, 100}});
    set();
    table_->show();
    const auto shown = [this] {
      QString all;
      for (int n = 0; n < table_->columns(); ++n)
        if (!table_->isColumnHidden(n)) all += table_->title(n).left(1);
      return all;
    };
    const auto at_width = [&](int width) {
      table_->resize(width, 200);
      QCoreApplication::processEvents();
      return shown();
    };
    QCOMPARE(at_width(560), QString("NABCD"));
    QCOMPARE(at_width(480), QString("NACD"));
    QCOMPARE(at_width(360), QString("NAD"));
    QCOMPARE(at_width(260), QString("ND"));
    QCOMPARE(at_width(120), QString("ND"));  // those do not go
    QCOMPARE(at_width(560), QString("NABCD"));
    table_->hide_by_hand(3, true);
    QCOMPARE(at_width(561), QString("NABD"));
    QCOMPARE(at_width(360), QString("NAD"));
    table_->fold(1, true);
    QCOMPARE(at_width(600), QString("NBD"));
    table_->fold(1, false), table_->hide_by_hand(3, false);
    QCOMPARE(at_width(260), QString("NCD"));  // shown by hand, it stays, and another goes
    QCOMPARE(table_->text(false).split('\n').first(), QString("Name\tA\tB\tC\tD"));  // copied is all, wherever it was
    table_->set_columns({{"Name", {}, text("the name of it"), false, 120},
                         {"A", {}, text("one"), false, 100, nullptr, 1},
                         {"B", {}, text("two"), false, 100, nullptr, 2}});
    set();
    for (int width = 600; width > 240; width -= 7) {
      at_width(width);
      QVERIFY2(table_->horizontalHeader()->length() <= table_->viewport()->width(), qPrintable(QString::number(width)));
    }
  }
};

QTEST_MAIN(TestTables)
#include "test_tables.moc"
