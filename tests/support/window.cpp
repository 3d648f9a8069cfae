#include "tests/support/window.hpp"

#include <QSettings>
#include <QStandardPaths>

#include "app/model/bench_model.hpp"
#include "app/theme/theme.hpp"

namespace heathmist::test {

void prepare_window(const Folder& folder) {
  qputenv("XDG_CACHE_HOME", QByteArray((folder / "cache").c_str()));
  qputenv("HEATHMIST_AUDIO", "simulated");
  QStandardPaths::setTestModeEnabled(true);
  QCoreApplication::setOrganizationName("Heathmist tests");
  QSettings::setPath(QSettings::NativeFormat, QSettings::UserScope,
                     QString::fromStdString((folder / "settings").string()));
  std::filesystem::remove_all(app::BenchModel::unsaved_folder());
  app::Theme::instance().apply(false);
}

void WindowTest::init() {
  window_ = std::make_unique<app::MainWindow>(app::simulated_output());
  window_->show();
}

void WindowTest::cleanup() {
  window_->workspace().model().undo_stack().setClean();
  window_.reset();
}

}  // namespace heathmist::test
