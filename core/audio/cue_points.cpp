#include "core/audio/cue_points.hpp"

#include <limits>
#include <stdexcept>

namespace heathmist {

namespace {

void put(std::string& to, uint64_t value, int bytes = 4) {
  for (int n = 0; n < bytes; ++n) to += char(value >> (8 * n) & 0xff);
}

/// A chunk within a list, filled up to whole groups of four bytes: what a list ends in besides is read as a chunk.
void put_chunk(std::string& to, const char* id, std::string content) {
  content.resize((content.size() + 3) / 4 * 4);
  to += id;
  put(to, content.size());
  to += content;
}

std::string with_id(size_t id, const std::string& rest) {
  std::string bytes;
  put(bytes, id);
  return bytes + rest;
}

std::string region(int64_t frames) {
  std::string bytes;
  put(bytes, uint64_t(frames));
  bytes += "rgn ";
  put(bytes, 0, 8);  // country, language, dialect and code page: not told
  return bytes;
}

}  // namespace

std::vector<std::pair<std::string, std::string>> cue_chunks(std::span<const CuePoint> points) {
  if (points.empty()) return {};
  std::string cue, list = "adtl";
  put(cue, points.size());
  for (size_t n = 0; n < points.size(); ++n) {
    const CuePoint& p = points[n];
    if (p.frame < 0 || p.frames < 0 || p.frame + p.frames > std::numeric_limits<uint32_t>::max())
      throw std::invalid_argument("a cue point lies beyond what a WAV file can tell");
    const size_t id = n + 1;
    put(cue, id), put(cue, uint64_t(p.frame));
    cue += "data";
    put(cue, 0), put(cue, 0), put(cue, uint64_t(p.frame));
    put_chunk(list, "labl", with_id(id, p.label + '\0'));
    if (p.frames > 0) put_chunk(list, "ltxt", with_id(id, region(p.frames)));
  }
  return {{"cue ", cue}, {"LIST", list}};
}

}  // namespace heathmist
