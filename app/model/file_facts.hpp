// What tells at once that a file was touched.
#pragma once
#include <sys/stat.h>

#include <QFile>
#include <QString>
#include <optional>

namespace heathmist::app {

/// Times in ns: when its bytes were last written (a copy may keep that of its origin), and when anything of it was.
struct FileFacts {
  qint64 bytes = 0, written_ns = 0, touched_ns = 0;
  quint64 inode = 0;
  bool operator==(const FileFacts&) const = default;
};

/// Nothing: it is not there.
inline std::optional<FileFacts> facts_of(const QString& file) {
  struct stat s {};
  if (::stat(QFile::encodeName(file).constData(), &s) != 0 || !S_ISREG(s.st_mode)) return {};
  const auto ns = [](const timespec& t) { return qint64(t.tv_sec) * 1'000'000'000 + t.tv_nsec; };
  return FileFacts{s.st_size, ns(s.st_mtim), ns(s.st_ctim), quint64(s.st_ino)};
}

}  // namespace heathmist::app
