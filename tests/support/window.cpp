#include "tests/support/window.hpp"

#include <QSettings>
#include <QStandardPaths>
#include <QtTest>

#include "app/model/bench_model.hpp"
#include "app/theme/theme.hpp"
#include "app/widgets/terms.hpp"

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

QString column_without_term(const QWidget& window) {
  for (const auto* table : window.findChildren<app::ResultTable*>())
    for (int c = 0; c < table->columns(); ++c) {
      const int side = table->model()->headerData(c, Qt::Horizontal, Qt::TextAlignmentRole).toInt();
      const char* term = table->term(c);
      if (side & Qt::AlignRight && !(term && app::term_of(term)))
        return table->accessibleName() + ": " + table->title(c);
    }
  return {};
}

void WindowTest::init() {
  window_ = std::make_unique<app::MainWindow>(app::simulated_output());
  window_->show();
}

void FolderTest::init() {
  WindowTest::init();
  std::filesystem::remove_all(folder_ / "in");
  std::filesystem::create_directories(folder_ / "in" / "below");
}

QString FolderTest::file(const char* name, const Planar& sound) const {
  return QString::fromStdString(save(folder_ / name, sound, rate, WordFormat::pcm24).string());
}

void WindowTest::cleanup() {
  const QString missing = window_ ? column_without_term(*window_) : QString();
  if (window_) window_->workspace().model().undo_stack().setClean();
  window_.reset();
  QCOMPARE(missing, QString());
}

}  // namespace heathmist::test
