#include "core/bench/levelled.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "core/audio/write.hpp"

namespace heathmist {

namespace {

constexpr double target_off_lu = 0.05, tag_off = 0.011;

std::optional<double> range_of(const Loudness& l) { return l.range ? std::optional(l.range->lu()) : std::nullopt; }

/// Gain and, for the album, what it will be; the gain is one for all of it.
void plan_gain(const Loudness& whole, const LevelPlan& plan, Levelled& made) {
  if (!whole.integrated_lufs) return;  // silence stays as it is
  made.gain_db = plan.target_lufs - *whole.integrated_lufs;
  if (plan.limiter || !whole.true_peak_dbtp) return;
  const double room = plan.ceiling_dbtp - *whole.true_peak_dbtp;
  made.stopped = made.gain_db > room;
  made.gain_db = std::min(made.gain_db, room);
}

Chain chain_for(const LevelPlan& plan, const Levelled& made, bool alone) {
  Chain chain;
  if (plan.limiter && alone)
    chain.stages.push_back(
        {"level", {{"target_lufs", plan.target_lufs}, {"limiter", true}, {"ceiling_dbtp", plan.ceiling_dbtp}}});
  else
    chain.stages.push_back({"gain", {{"gain_db", std::clamp(made.gain_db, -144.0, 60.0)}}});
  if (plan.limiter && !alone) chain.stages.push_back({"limiter", {{"ceiling_dbtp", plan.ceiling_dbtp}}});
  if (plan.bits < 32) chain.stages.push_back({"word_length", {{"bits", plan.bits}, {"dither", plan.dither}}});
  return chain;
}

LoudnessTags tags_for(const Loudness& l, const Loudness& album, bool alone, double gain_db) {
  LoudnessTags tags{
      l.integrated_lufs, range_of(l), l.true_peak_dbtp, l.momentary_max_lufs, l.short_term_max_lufs, {}, {}};
  if (alone) return tags;
  if (album.integrated_lufs) tags.album_lufs = *album.integrated_lufs + gain_db;
  if (album.true_peak_dbtp) tags.album_peak_dbtp = *album.true_peak_dbtp + gain_db;
  return tags;
}

bool near(std::optional<double> a, std::optional<double> b, double off) {
  return a.has_value() == b.has_value() && (!a || std::abs(*a - *b) <= off);
}

std::string fault_of(const Levelled& made, const LevelPlan& plan, bool alone) {
  const Loudness& l = made.loudness;
  if (!near(made.tags.integrated_lufs, l.integrated_lufs, tag_off) ||
      !near(made.tags.true_peak_dbtp, l.true_peak_dbtp, tag_off))
    return "its tags do not say what was measured of it";
  if (l.true_peak_dbtp && *l.true_peak_dbtp > plan.ceiling_dbtp + 0.05)
    return fmt::format("its true peak is {:.2f} dBTP, over the ceiling", *l.true_peak_dbtp);
  if (alone && !made.stopped && l.integrated_lufs && std::abs(*l.integrated_lufs - plan.target_lufs) > target_off_lu)
    return fmt::format("it came out at {:.2f} LUFS", *l.integrated_lufs);
  return "";
}

}  // namespace

Levelled write_levelled(std::shared_ptr<const Clip> master, const Loudness& loudness, const LevelPlan& plan,
                        const std::filesystem::path& file, const std::vector<const Loudness*>& album, const Job& job) {
  if (file.extension() != ".wav" && file.extension() != ".flac")
    throw InputError(file, "a levelled copy is written as .wav or .flac; choose one of these endings");
  if (std::error_code none; std::filesystem::equivalent(file, master->path(), none))
    throw InputError(file, "a copy would take its master's place; choose another name or folder");
  if (file.extension() == ".flac" && plan.bits > 24)
    throw InputError(file, "FLAC holds at most 24 bits; write a .wav or choose 16 or 24 bits");
  const bool alone = album.empty();
  const Loudness whole = alone ? Loudness() : album_of(album);
  Levelled made{file, 0, false, {}, {}, {}};
  plan_gain(alone ? loudness : whole, plan, made);
  const Passed passed = pass(master, chain_for(plan, made, alone), job.part(0, 0.4));
  const auto before = measure_loudness(*passed.ret, {}, job.part(0.4, 0.55));
  if (plan.limiter && alone && before.integrated_lufs && loudness.integrated_lufs && !passed.stages.empty())
    made.gain_db = *before.integrated_lufs - *loudness.integrated_lufs;
  const LoudnessTags tags = tags_for(before, whole, alone, made.gain_db);

  const auto& f = passed.ret->format();
  ClipWriter out(file, f.sample_rate_hz, f.channels,
                 plan.bits <= 16   ? WordFormat::pcm16
                 : plan.bits <= 24 ? WordFormat::pcm24
                                   : WordFormat::float32);
  out.tag(tags);
  write_clip(out, *passed.ret, job.part(0.55, 0.8));
  out.finish();
  if (file.extension() == ".flac") write_comments(file, replay_gain_comments(tags));

  made.loudness = measure_loudness(*Clip::open(file, job.part(0.8, 0.85)), {}, job.part(0.85, 1));
  made.tags = read_tags(file);
  made.fault = fault_of(made, plan, alone);
  return made;
}

std::vector<std::filesystem::path> copy_names(const std::vector<std::filesystem::path>& files,
                                              const std::filesystem::path& folder, bool flac) {
  std::vector<std::filesystem::path> names;
  for (const auto& file : files) {
    auto name_of = [&](int number) {
      return folder /
             (file.stem().string() + (number > 1 ? fmt::format(" {}", number) : "") + (flac ? ".flac" : ".wav"));
    };
    int number = 1;
    while (std::find(names.begin(), names.end(), name_of(number)) != names.end()) ++number;
    names.push_back(name_of(number));
  }
  return names;
}

Json levelled_json(const Levelled& l) {
  return {{"output", l.file.string()},
          {"gain_db", l.gain_db},
          {"stopped_by_ceiling", l.stopped},
          {"integrated_lufs", number_or_null(l.loudness.integrated_lufs)},
          {"true_peak_dbtp", number_or_null(l.loudness.true_peak_dbtp)},
          {"verified", l.fault.empty()},
          {"fault", l.fault.empty() ? Json(nullptr) : Json(l.fault)}};
}

}  // namespace heathmist
