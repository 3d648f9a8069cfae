#include "core/bench/marks.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "core/audio/clip.hpp"
#include "core/audio/tags.hpp"
#include "core/audio/write.hpp"

namespace heathmist {

void put_mark(Master& master, Mark mark) {
  drop_mark(master, mark.id);
  const auto place = std::upper_bound(master.marks.begin(), master.marks.end(), mark, is_before);
  master.marks.insert(place, std::move(mark));
}

bool drop_mark(Master& master, const std::string& id) {
  return std::erase_if(master.marks, [&](const Mark& m) { return m.id == id; }) > 0;
}

const Mark* mark_of(const Master& master, const std::string& id) {
  const auto it = std::find_if(master.marks.begin(), master.marks.end(), [&](const Mark& m) { return m.id == id; });
  return it == master.marks.end() ? nullptr : &*it;
}

const Mark* mark_after(const Master& master, double at_s) {
  const auto it = std::find_if(master.marks.begin(), master.marks.end(), [&](const Mark& m) { return m.at_s > at_s; });
  return it == master.marks.end() ? nullptr : &*it;
}

const Mark* mark_before(const Master& master, double at_s) {
  const auto it =
      std::find_if(master.marks.rbegin(), master.marks.rend(), [&](const Mark& m) { return m.at_s < at_s; });
  return it == master.marks.rend() ? nullptr : &*it;
}

std::vector<Json> marks_rows(const Bench& bench) {
  std::vector<Json> rows;
  for (const Master& m : bench.masters)
    for (const Mark& mark : m.marks) {
      const Trial* trial = bench.trial(mark.trial);
      rows.push_back({{"master", m.name},
                      {"at_s", mark.at_s},
                      {"until_s", mark.until_s ? Json(*mark.until_s) : Json(nullptr)},
                      {"text", mark.text},
                      {"trial", trial ? Json(title_of(*trial)) : Json(nullptr)}});
    }
  return rows;
}

std::vector<CuePoint> cue_points_of(const Master& master, int sample_rate_hz) {
  std::vector<CuePoint> points;
  for (const Mark& m : master.marks) {
    const auto frame = int64_t(std::llround(m.at_s * sample_rate_hz));
    points.push_back({frame, m.until_s ? int64_t(std::llround(*m.until_s * sample_rate_hz)) - frame : 0, m.text});
  }
  return points;
}

void write_with_marks(const Clip& audio, const Master& master, const Destination& to, const Job& job) {
  if (to.file.extension() != ".wav") throw InputError(to.file, "cue points are written to WAV files; end it in .wav");
  for (const Mark& m : master.marks)
    if (m.until_s.value_or(m.at_s) > audio.format().duration_s())
      throw InputError(audio.path(),
                       fmt::format("its mark \"{}\" lies behind its end; take that mark away first", m.text));
  Destination safe = to;
  safe.inputs.push_back(audio.path());
  const ClipFormat& f = audio.format();
  ClipWriter out(safe, f.sample_rate_hz, f.channels, word_that_holds(f));
  if (const auto bext = read_broadcast_extension(audio.path())) out.describe(*bext);
  out.mark(cue_points_of(master, f.sample_rate_hz));
  out.expect(f.frames);
  write_clip(out, audio, job);
  const auto part = out.close();
  if (const Tags tags = read_tags(audio.path()); !tags.empty()) write_tags(part, false, tags);
  out.finish();
}

}  // namespace heathmist
