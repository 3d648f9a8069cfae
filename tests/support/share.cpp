#include "tests/support/share.hpp"

#include <QMetaMethod>
#include <QtTest>

namespace heathmist::test {

namespace {

QStringList functions_of(const QMetaObject& test) {
  static const QStringList of_all{"initTestCase", "cleanupTestCase", "init", "cleanup"};
  QStringList names;
  for (int n = test.methodOffset(); n < test.methodCount(); ++n) {
    const QMetaMethod m = test.method(n);
    const QString name = m.name();
    if (m.methodType() == QMetaMethod::Slot && m.access() == QMetaMethod::Private && m.parameterCount() == 0 &&
        !name.endsWith("_data") && !of_all.contains(name))
      names.push_back(name);
  }
  return names;
}

/// So that not every test's first function is in the same share.
int turned_by(const QMetaObject& test) {
  int sum = 0;
  for (const char* c = test.className(); *c; ++c) sum += *c;
  return sum;
}

}  // namespace

QStringList share_of(const QMetaObject& test, int k, int n) {
  const QStringList all = functions_of(test);
  const auto parts = std::min<qsizetype>(n, all.size());
  QStringList share;
  for (qsizetype i = 0; i < all.size(); ++i)
    if ((i + turned_by(test)) % parts == k % parts) share.push_back(all[i]);
  return share;
}

int run_share(QObject& test, int argc, char** argv) {
  const QStringList asked = qEnvironmentVariable("HEATHMIST_SHARE").split('/');
  const int k = asked.value(0).toInt(), n = asked.value(1).toInt();
  if (argc > 1 || n < 2 || k < 0 || k >= n) return QTest::qExec(&test, argc, argv);
  return QTest::qExec(&test, QStringList{argv[0]} + share_of(*test.metaObject(), k, n));
}

}  // namespace heathmist::test
