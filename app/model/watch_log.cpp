#include "app/model/watch_log.hpp"

#include <QFile>
#include <QStandardPaths>

#include "core/compare/json.hpp"

namespace heathmist::app {

bool WatchLog::add(const Line& line) {
  lines_.push_front(line);
  if (lines_.size() > most_in_memory) lines_.pop_back();
  const Json json{{"time", line.when.toString(Qt::ISODate).toStdString()},
                  {"file", line.file.toStdString()},
                  {"verdict", line.verdict.toStdString()},
                  {"what", line.what.toStdString()}};
  std::string text = csv_of({json}, {"time", "file", "verdict", "what"});
  std::error_code trouble;
  std::filesystem::create_directories(folder_, trouble);
  QFile file(QString::fromStdString(file_of(line.when).string()));
  if (file.exists()) text.erase(0, text.find('\n') + 1);  // the head stands there
  const bool open = file.open(QIODevice::Append);
  return open && file.write(text.data(), qint64(text.size())) == qint64(text.size()) && file.flush();
}

std::filesystem::path WatchLog::file_of(const QDateTime& when) const {
  return folder_ / ("watched-" + when.toString("yyyy-MM").toStdString() + ".csv");
}

std::filesystem::path watch_log_folder() {
  return QStandardPaths::writableLocation(QStandardPaths::AppDataLocation).toStdString();
}

}  // namespace heathmist::app
