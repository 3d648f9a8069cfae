// A sentence that must not be missed and asks for nothing: it stands above the listening bar until it is dismissed.
#pragma once
#include <QFrame>
#include <QLabel>

namespace heathmist::app {

class Notice : public QFrame {
  Q_OBJECT

 public:
  explicit Notice(QWidget* parent = nullptr);
  /// The same sentence twice is said once.
  void say(const QString& sentence);
  QString text() const { return isHidden() ? QString() : label_->text(); }
  void dismiss() { hide(); }

 signals:
  void said(const QString& sentence);

 private:
  QLabel* label_;
};

}  // namespace heathmist::app
