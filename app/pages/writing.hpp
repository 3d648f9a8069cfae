// Something that is written off the interface thread, with a dialog that shows how far it is and stops it.
#pragma once
#include <QProgressDialog>

#include "app/model/task.hpp"

namespace heathmist::app {

class Writing : public QObject {
  Q_OBJECT

 public:
  /// `window`: over which the dialog stands.
  Writing(QWidget* window, QObject* parent);
  /// `what`: "Writing the return"; the dialog comes where it takes a moment, and not where it is `quiet`.
  void start(const QString& what, bool quiet, std::function<void(const Job&)> work);
  bool is_running() const { return task_.is_running(); }

 signals:
  void ended(bool whole, const QString& failure);  ///< whole: neither cancelled nor failed

 private:
  void show(double fraction);
  QWidget* window_;
  QString what_;
  std::unique_ptr<QProgressDialog> dialog_;
  Task task_;
};

}  // namespace heathmist::app
