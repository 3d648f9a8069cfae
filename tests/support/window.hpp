// What every test of the real window starts with: settings, caches and autosave of its own, the day variant.
#pragma once
#include <QObject>

#include "app/window/main_window.hpp"
#include "tests/support/signals.hpp"

namespace heathmist::test {

void prepare_window(const Folder& folder);

/// A fresh window for every case, let go without a question.
class WindowTest : public QObject {
  Q_OBJECT

 protected slots:
  void init();
  void cleanup();

 protected:
  Folder folder_;
  std::unique_ptr<app::MainWindow> window_;
};

}  // namespace heathmist::test
