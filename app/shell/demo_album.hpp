// The demo album, Curlew Hours, made on this machine when it is first asked for.
#pragma once
#include "app/model/long_work.hpp"

namespace heathmist::app {

class DemoAlbum : public QObject {
  Q_OBJECT

 public:
  DemoAlbum(Queue& queue, QObject* parent);
  /// Where it lies: among the program's own data of this user.
  static QString folder();
  /// Makes it there, where it is not whole yet.
  void make(const QString& in = folder());
  void cancel() { work_.cancel(); }
  bool is_running() const { return work_.is_running(); }

 signals:
  void progressed(const QString& words);
  void made(const QString& bench);
  void ended(const QString& sentence);  ///< of a failure, or that it was stopped; empty: it is made

 private:
  LongWork work_;
  QString bench_;
};

}  // namespace heathmist::app
