// The bench as a file: opened, saved, left behind and recovered, and never let go with changes unasked.
#pragma once
#include <QMenu>

#include "app/model/workspace.hpp"

namespace heathmist::app {

class BenchFiles : public QObject {
  Q_OBJECT

 public:
  BenchFiles(Workspace& workspace, QWidget* window);
  void start_anew();
  void open(const QString& file);
  void choose();
  /// Asks for a name where there is none, or `elsewhere`.
  bool save(bool elsewhere);
  bool save_to(const QString& file);
  /// Asks what is to become of changes; false: the bench stays.
  bool may_let_go();
  /// Offers what earlier runs left behind that did not end orderly.
  void offer_recovery();
  void fill_recent(QMenu* menu);
  static QStringList recent();  ///< the last one first

 signals:
  void about_to_save();                   ///< what goes with the bench besides its trials is to be kept in it now
  void opened(const QStringList& notes);  ///< what was mended on the way, a sentence each
  void begun_anew();

 private:
  void remember(const QString& file);
  Workspace& workspace_;
  QWidget* window_;
};

}  // namespace heathmist::app
