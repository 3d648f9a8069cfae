// The one way a file of the user's is written: never onto an input, never over a file that is there unless that was
// allowed, whole or not at all.
//
//   AtomicFile out({"copy.wav", /*replace*/ false, {"master.wav"}});
//   out.write(bytes);
//   out.commit();   // without it nothing is left behind
//
// Bytes go to a passing file in the same folder (temporary.hpp), which takes the place of the wanted one in one step.
#pragma once
#include <concepts>
#include <filesystem>
#include <stdexcept>
#include <string>
#include <string_view>
#include <vector>

namespace heathmist {

/// A file that may not be written as things are: one sentence that names it, says why and what to do.
struct OutputRefused : std::invalid_argument {
  OutputRefused(const std::filesystem::path& file, const std::string& wrong_and_remedy);
};

struct Destination {
  template <class Path>
  requires std::convertible_to<Path, std::filesystem::path> Destination(Path&& path, bool may_replace = false,
                                                                        std::vector<std::filesystem::path> never = {})
      : file(std::forward<Path>(path)), replace(may_replace), inputs(std::move(never)) {}

  std::filesystem::path file;
  bool replace;                               ///< a file that is there may go
  std::vector<std::filesystem::path> inputs;  ///< what must never be written over, whatever is allowed
};

/// Whether two names lead to one file: the same inode, by any spelling, symbolic or hard link.
bool same_file(const std::filesystem::path& a, const std::filesystem::path& b);

/// The question before anything is written; AtomicFile asks it again. Throws OutputRefused where the destination is an
/// input, no plain file, or is there already and may not be replaced.
void check(const Destination& to);

class AtomicFile {
 public:
  /// Makes missing folders. Throws OutputRefused, InputError.
  explicit AtomicFile(Destination to);
  ~AtomicFile();
  AtomicFile(const AtomicFile&) = delete;
  AtomicFile& operator=(const AtomicFile&) = delete;

  const std::filesystem::path& file() const { return to_.file; }  ///< the wanted one
  const std::filesystem::path& part() const { return part_; }     ///< the passing one, for libraries that write by name
  int descriptor() const { return descriptor_; }                  ///< of the passing one
  /// How much is to be written in all, for the sentence where the disk is too small for it.
  void expect(int64_t bytes) { expected_ = bytes; }

  /// Appends. Throws InputError.
  void write(std::string_view bytes);
  /// Throws the InputError for a write that failed with this errno.
  [[noreturn]] void fail(int error) const;
  /// To the disk and into place, at once. Throws InputError; OutputRefused where a file has come there meanwhile.
  void commit();

 private:
  Destination to_;
  std::filesystem::path part_;
  int descriptor_ = -1;
  int64_t expected_ = 0;
};

/// A small file at once. Throws as AtomicFile does.
void write_whole(const Destination& to, std::string_view content);

}  // namespace heathmist
