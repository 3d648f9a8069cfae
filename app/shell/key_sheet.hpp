// The keyboard sheet: every key by menu, and what the mouse does in plots, on one page.
#pragma once
#include <QDialog>
#include <QMenuBar>
#include <QTextBrowser>

namespace heathmist::app {

class KeySheet : public QDialog {
  Q_OBJECT

 public:
  KeySheet(const QMenuBar& menus, QWidget* parent);
  QTextBrowser* text() const { return text_; }

 private:
  QTextBrowser* text_;
};

}  // namespace heathmist::app
