// Any bytes as an audio file: opened, surveyed, a probe looked for in it, its tags read. Whatever they are, it ends
// soon, in a clip or a sentence.
#include <fstream>

#include "core/audio/tags.hpp"
#include "core/audio/temporary.hpp"
#include "core/measure/survey.hpp"
#include "core/probes/probe.hpp"

using namespace heathmist;

namespace {

constexpr const char* endings[] = {".wav",  ".flac", ".aiff", ".caf", ".w64", ".mp3", ".m4a", ".ogg",
                                   ".opus", ".wv",   ".ac3",  ".mkv", ".au",  ".aac", ".mp2", ""};
constexpr int64_t most_frames = 1 << 18;

/// A short look at what was opened.
void look_at(const Clip& clip, bool for_a_probe) {
  const auto reader = clip.reader();
  Planar block;
  const int64_t frames = clip.format().frames;
  for (const int64_t at : {int64_t(0), frames / 2, frames - 100, int64_t(-50)}) reader->read(at, 200, block);
  if (frames * clip.format().channels >= most_frames) return;
  survey(clip);
  if (for_a_probe && frames < most_frames / 8) find_probe(clip, "tone");  // takes its time: seldom
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const uint8_t* bytes, size_t count) {
  static const TemporaryFolder folder;
  if (count < 2) return 0;
  const auto file = folder.path() / (std::string("x") + endings[bytes[0] % std::size(endings)]);
  std::ofstream(file, std::ios::binary).write(reinterpret_cast<const char*>(bytes) + 1, std::streamsize(count - 1));
  try {
    look_at(*Clip::open(file), bytes[0] >> 4 == 1);
  } catch (const InputError& error) {
    if (std::string(error.what()).find('\n') != std::string::npos) __builtin_trap();
  }
  read_tags(file);
  read_broadcast_extension(file);
  std::filesystem::remove(file);
  return 0;
}
