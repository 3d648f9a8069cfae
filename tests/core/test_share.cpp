// Shares of a test's functions: together they are all of them, each once.
#include <QtTest>

#include "tests/support/share.hpp"

using namespace heathmist::test;

class FiveFunctions : public QObject {
  Q_OBJECT

 public slots:
  void is_no_test() {}
 private slots:
  void initTestCase() {}
  void init() {}
  void a_data() {}
  void a() {}
  void b() {}
  void c() {}
  void d() {}
  void e() {}
  void cleanup() {}
};

class TestShare : public QObject {
  Q_OBJECT

 private slots:
  void shares_together_are_all() {
    for (int n = 1; n <= 5; ++n) {
      QStringList all;
      for (int k = 0; k < n; ++k) {
        const QStringList share = share_of(FiveFunctions::staticMetaObject, k, n);
        QVERIFY(share.size() == 5 / n || share.size() == 5 / n + 1);
        all += share;
      }
      all.sort();
      QCOMPARE(all, QStringList({"a", "b", "c", "d", "e"}));
    }
  }
  void none_is_empty_and_each_function_is_in_one_of_as_many_as_there_are() {
    for (int k = 0; k < 9; ++k) QCOMPARE(share_of(FiveFunctions::staticMetaObject, k, 9).size(), 1);
  }
};

QTEST_APPLESS_MAIN(TestShare)
#include "test_share.moc"
