#include "core/audio/cue_points.hpp"

#include <limits>
#include <stdexcept>

#include "core/audio/little_endian.hpp"

namespace heathmist {

namespace {

/// A chunk within a list, filled up to whole groups of four bytes: what a list ends in besides is read as a chunk.
void put_chunk(std::string& to, const char* id, std::string content) {
  content.resize((content.size() + 3) / 4 * 4);
  to += id;
  put_little_endian(to, content.size(), 4);
  to += content;
}

std::string with_id(size_t id, const std::string& rest) {
  std::string bytes;
  put_little_endian(bytes, id, 4);
  return bytes + rest;
}

std::string region(int64_t frames) {
  std::string bytes;
  put_little_endian(bytes, uint64_t(frames), 4);
  bytes += "rgn ";
  put_little_endian(bytes, 0, 8);  // country, language, dialect and code page: not told
  return bytes;
}

}  // namespace

std::vector<std::pair<std::string, std::string>> cue_chunks(std::span<const CuePoint> points) {
  if (points.empty()) return {};
  std::string cue, list = "adtl";
  put_little_endian(cue, points.size(), 4);
  for (size_t n = 0; n < points.size(); ++n) {
    const CuePoint& p = points[n];
    if (p.frame < 0 || p.frames < 0 || p.frame + p.frames > std::numeric_limits<uint32_t>::max())
      throw std::invalid_argument("a cue point lies beyond what a WAV file can tell");
    const size_t id = n + 1;
    put_little_endian(cue, id, 4), put_little_endian(cue, uint64_t(p.frame), 4);
    cue += "data";
    put_little_endian(cue, 0, 4), put_little_endian(cue, 0, 4), put_little_endian(cue, uint64_t(p.frame), 4);
    put_chunk(list, "labl", with_id(id, p.label + '\0'));
    if (p.frames > 0) put_chunk(list, "ltxt", with_id(id, region(p.frames)));
  }
  return {{"cue ", cue}, {"LIST", list}};
}

}  // namespace heathmist
