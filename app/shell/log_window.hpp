// The log, to be read and sent.
#pragma once
#include <QDialog>

namespace heathmist::app {

class MainWindow;

/// From here on what happens to the window's trials and files, and every sentence it says, stands in the log.
void keep_log_of(MainWindow& window);

class LogWindow : public QDialog {
  Q_OBJECT

 public:
  explicit LogWindow(QWidget* parent);
};

}  // namespace heathmist::app
