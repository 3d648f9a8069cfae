// What is seen where nothing is on the bench yet: ways to begin, and the benches of before.
#pragma once
#include <QGridLayout>
#include <QLabel>
#include <QPushButton>
#include <QScrollArea>

#include "app/pages/page.hpp"
#include "app/shell/demo_album.hpp"

namespace heathmist::app {

class Welcome : public QScrollArea {
  Q_OBJECT

 public:
  Welcome(Queue& queue, QWidget* parent);
  /// The commands that say how one begins with them.
  void offer(const std::vector<Command>& commands);
  void show_recent(const QStringList& benches);
  /// Makes the demo album where it is not there yet, and opens it.
  void open_demo(const QString& in = DemoAlbum::folder());
  QList<QPushButton*> ways() const { return ways_; }
  QPushButton* stop() const { return stop_; }
  QString note() const { return note_->text(); }

 signals:
  void bench_wanted(const QString& file);

 private:
  DemoAlbum demo_;
  QWidget* page_;
  QGridLayout* grid_;
  QVBoxLayout* recent_;
  QLabel *recent_title_, *note_;
  QPushButton* stop_;
  QList<QPushButton*> ways_;
};

}  // namespace heathmist::app
