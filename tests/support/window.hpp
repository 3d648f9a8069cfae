// What every test of the real window starts with: settings, caches and autosave of its own, the day variant.
#pragma once
#include <QObject>

#include "app/pages/aliasing/fold_view.hpp"
#include "app/pages/ceiling/ceiling_view.hpp"
#include "app/pages/converters/converters_view.hpp"
#include "app/pages/loudness/loudness_controller.hpp"
#include "app/pages/matrix/matrix_controller.hpp"
#include "app/pages/null/chain_controller.hpp"
#include "app/pages/null/null_view.hpp"
#include "app/pages/outlets/outlets_view.hpp"
#include "app/pages/spectrum/spectrum_view.hpp"
#include "app/pages/trials/trials_view.hpp"
#include "app/pages/word_lengths/word_lengths_view.hpp"
#include "app/shell/main_window.hpp"
#include "tests/support/signals.hpp"

namespace heathmist::test {

void prepare_window(const Folder& folder);
/// A column of numbers, of any table of the window, that does not say what they are; empty: there is none.
QString column_without_term(const QWidget& window);

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

/// The same beside a folder of files: "in", and "in/below", empty for every case.
class FolderTest : public WindowTest {
  Q_OBJECT

 protected slots:
  void init();

 protected:
  static constexpr int rate = 48000;
  QString path(const char* name) const { return QString::fromStdString((folder_ / name).string()); }
  /// A file of 24 bits in the folder.
  QString file(const char* name, const Planar& sound) const;
};

}  // namespace heathmist::test
