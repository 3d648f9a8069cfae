// Recordings that are under way, noted where the next run finds them: what a run that was killed left behind is offered
// as the file that it is.
#pragma once
#include <filesystem>
#include <string>
#include <vector>

namespace heathmist {

struct Unfinished {
  std::filesystem::path file;
  std::string master_name;         ///< what was recorded of; empty: of nothing that is known
  std::filesystem::path master{};  ///< its file
};

/// Notes a recording in a folder of notes, and holds the note as long as it lives. Where nothing can be noted there it
/// does nothing.
class RecordingNote {
 public:
  RecordingNote(const std::filesystem::path& folder, const Unfinished& what);
  ~RecordingNote();  ///< the note stays where it was not done: the next run offers what was recorded
  void done();       ///< the recording was taken up
  RecordingNote(const RecordingNote&) = delete;
  RecordingNote& operator=(const RecordingNote&) = delete;

 private:
  std::filesystem::path note_;
  int lock_ = -1;
};

/// What runs that are no more were recording, where that file is still there; notes of others go.
std::vector<Unfinished> unfinished_recordings(const std::filesystem::path& folder);
/// It was taken up, or is not wanted: its note goes, and the file stays.
void forget_recording(const std::filesystem::path& folder, const std::filesystem::path& file);

}  // namespace heathmist
