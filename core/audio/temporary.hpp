// Where what is only passing through lies, and how what a killed run left behind goes away.
//
// Everything of ours that is not to stay is called heathmist-<process>-<number>..., with a dot before it beside the
// user's files, and is locked (flock) while it is in use. What belongs to no living process and is not locked is swept.
#pragma once
#include <filesystem>
#include <string>

namespace heathmist {

/// $TMPDIR, or /var/tmp. Throws InputError where that is no folder that can be written to.
std::filesystem::path temporary_folder();

/// A name for something passing that no other has, by anyone.
std::string passing_name(const std::string& ending);

/// Takes away what killed runs left in a folder; once for each folder in the life of the program.
void sweep_once(const std::filesystem::path& folder);

/// The same at once; how many things went.
int sweep(const std::filesystem::path& folder);

/// A folder that goes away with the object.
class TemporaryFolder {
 public:
  /// Throws InputError where none can be made.
  TemporaryFolder();
  ~TemporaryFolder();
  TemporaryFolder(const TemporaryFolder&) = delete;
  TemporaryFolder& operator=(const TemporaryFolder&) = delete;
  const std::filesystem::path& path() const { return path_; }

 private:
  std::filesystem::path path_;
  int lock_ = -1;
};

/// "the disk is full: /var/tmp has 0.3 MB left, about 12.0 MB are needed" (0: how much is not said), then the remedy.
/// Where `error` (an errno) is another, that is said.
std::string why_not_written(int error, const std::filesystem::path& folder, int64_t needed_bytes,
                            const std::string& remedy);

}  // namespace heathmist
