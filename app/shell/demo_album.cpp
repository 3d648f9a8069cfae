#include "app/shell/demo_album.hpp"

#include <QFileInfo>
#include <QStandardPaths>

#include "demo/writer.hpp"

namespace heathmist::app {

DemoAlbum::DemoAlbum(Queue& queue, QObject* parent) : QObject(parent), work_(queue) {
  connect(&work_, &LongWork::progressed, this,
          [this](double fraction) { emit progressed(work_.in_words(tr("making it"), fraction)); });
  connect(&work_, &LongWork::ended, this, [this](Outcome outcome, const QString& failure) {
    emit ended(how_it_ended(outcome, failure));
    if (outcome == Outcome::done) emit made(bench_);
  });
}

/// One that has a demo which is no longer whole stays as it is: somebody may have worked in it.
QString DemoAlbum::folder() {
  const QString base = QStandardPaths::writableLocation(QStandardPaths::AppDataLocation) + "/demo";
  QString folder = base;
  for (int n = 2; QFileInfo::exists(QString::fromStdString(demo::bench_in(folder.toStdString()).string())) &&
                  !demo::is_whole(folder.toStdString());
       ++n)
    folder = base + QString(" %1").arg(n);
  return folder;
}

void DemoAlbum::make(const QString& in) {
  work_.start([this, in](const Job& job, const Tell& tell) {
    const QString bench = QString::fromStdString(demo::write_demo(in.toStdString(), job).string());
    tell([this, bench] { bench_ = bench; });
  });
}

}  // namespace heathmist::app
