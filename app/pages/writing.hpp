// Something that is written off the interface thread, with a dialog that shows how far it is and stops it.
#pragma once
#include <QProgressDialog>

#include "app/model/long_work.hpp"

namespace heathmist::app {

class Writing : public QObject {
  Q_OBJECT

 public:
  /// `window`: over which the dialog stands.
  Writing(Queue& queue, QWidget* window, QObject* parent);
  /// `what`: "Writing the return"; the dialog comes where it takes a moment, and not where it is `quiet`.
  void start(const QString& what, bool quiet, std::function<void(const Job& job, const Tell& tell)> work);
  bool is_running() const { return work_.is_running(); }

 signals:
  void ended(heathmist::app::Outcome outcome, const QString& sentence);  ///< the sentence: of a failure

 private:
  void show(double fraction);
  QWidget* window_;
  QString what_;
  std::unique_ptr<QProgressDialog> dialog_;
  LongWork work_;
};

}  // namespace heathmist::app
