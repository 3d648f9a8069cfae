// Tests of much sound take hours of a processor in all: where HEATHMIST_SHARE says "k/n" (k from 0), each of them runs
// only the k-th of n shares of its functions. Shares 0/n to (n-1)/n together are all of it.
#pragma once
#include <QObject>
#include <QStringList>

namespace heathmist::test {

/// The names of a test's functions that are in the k-th of n shares, at least one of them.
QStringList share_of(const QMetaObject& test, int k, int n);

/// Runs the share that is asked for; all where none is, or where the command line says what to run.
int run_share(QObject& test, int argc, char** argv);

}  // namespace heathmist::test

/// main() of such a test, in place of QTEST_GUILESS_MAIN; and of one with a window, in place of QTEST_MAIN.
#define SHARED_MAIN(Test) SHARED_MAIN_OF(QCoreApplication, Test)
#define SHARED_WINDOW_MAIN(Test) SHARED_MAIN_OF(QApplication, Test)
#define SHARED_MAIN_OF(Application, Test)                \
  int main(int argc, char** argv) {                      \
    Application app(argc, argv);                         \
    app.setAttribute(Qt::AA_Use96Dpi, true);             \
    Test test;                                           \
    return heathmist::test::run_share(test, argc, argv); \
  }
