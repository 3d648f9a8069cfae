// Copies of unsaved benches: each run of the program keeps one of its own while there is something unsaved; what a run
// that did not end orderly left behind is found by the next. A copy goes away when its content was saved or thrown
// away, and at no other time.
#pragma once
#include "core/bench/document.hpp"

namespace heathmist {

/// One run's copy, held by a lock while this object lives.
class UnsavedCopy {
 public:
  /// A copy that does not exist yet.
  explicit UnsavedCopy(std::filesystem::path folder);
  ~UnsavedCopy();
  UnsavedCopy(UnsavedCopy&& other) noexcept;
  UnsavedCopy& operator=(UnsavedCopy&& other) noexcept;

  /// Copies of runs that are no more, the newest first, each now held by the caller. The copy that versions before 0.2
  /// left behind is among them.
  static std::vector<UnsavedCopy> left_behind(const std::filesystem::path& folder);

  const std::filesystem::path& file() const { return file_; }
  bool exists() const;
  /// Writes the bench, and which file it belongs to (empty: it has none yet). Throws InputError.
  void keep(const Bench& bench, const std::filesystem::path& of);
  struct Content {
    Bench bench;
    std::filesystem::path of;  ///< the bench's own file; empty: it had none
  };
  /// Throws InputError where it is cut short, broken or of a newer version; it stays where it is.
  Content read() const;
  /// Takes it away: its content was saved, or somebody chose to throw it away.
  void drop();

 private:
  UnsavedCopy(std::filesystem::path file, int lock)
      : folder_(file.parent_path()), file_(std::move(file)), lock_(lock) {}
  void let_go();
  std::filesystem::path folder_, file_;
  int lock_ = -1;
};

}  // namespace heathmist
