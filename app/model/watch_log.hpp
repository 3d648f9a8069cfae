// What became of the files of a watched folder, a line each: kept on disk for as long as somebody wants, the last of
// them in memory.
#pragma once
#include <QDateTime>
#include <QString>
#include <deque>
#include <filesystem>

namespace heathmist::app {

class WatchLog {
 public:
  struct Line {
    QDateTime when;
    QString file, verdict, what;  ///< verdict: passes, fails, refused, or a word on the folder
  };
  static constexpr size_t most_in_memory = 500;
  /// One file a month in `folder`, CSV.
  explicit WatchLog(std::filesystem::path folder) : folder_(std::move(folder)) {}
  /// False: it could not be written to the disk; it is in memory all the same.
  bool add(const Line& line);
  const std::deque<Line>& lines() const { return lines_; }  ///< the latest first
  std::filesystem::path file_of(const QDateTime& when) const;

 private:
  std::filesystem::path folder_;
  std::deque<Line> lines_;
};

/// Where the program keeps it.
std::filesystem::path watch_log_folder();

}  // namespace heathmist::app
