// What the program did and what went wrong, in a file that can be read and sent: lines with their time, the newest
// last, never more than two files of 1 MiB. It names the files of the bench; it holds no audio, and goes nowhere by
// itself.
#pragma once
#include <QString>
#include <filesystem>

namespace heathmist::app {

enum class LogLevel { note, trouble };

/// Where the log of this user lies.
std::filesystem::path log_file();
/// Begins to keep it, and to take Qt's own warnings into it. Where the file cannot be written none is kept.
void begin_log(const std::filesystem::path& file);
/// A line, from any thread; line breaks become spaces.
void log_line(LogLevel level, const QString& words);
/// The log so far; the older file first.
QString read_log(const std::filesystem::path& file);

}  // namespace heathmist::app
