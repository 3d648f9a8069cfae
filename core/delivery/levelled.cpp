#include "core/delivery/levelled.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "core/audio/write.hpp"
#include "core/printable.hpp"

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

namespace {

/// What the coding history of a copy gains (EBU R 98).
std::string history_line(const ClipFormat& f, const LevelPlan& plan, double gain_db) {
  const std::string mode = f.channels == 1 ? "mono" : f.channels == 2 ? "stereo" : fmt::format("{}ch", f.channels);
  return fmt::format("A=PCM,F={},W={},M={},T=Heathmist {}; {:+.2f} dB\r\n", f.sample_rate_hz, plan.bits, mode,
                     plan.bits >= 32 ? "float" : plan.dither + " dither", gain_db);
}

BroadcastExtension extension_for(const Clip& master, const ClipFormat& f, const LevelPlan& plan, const Levelled& made,
                                 const LoudnessTags& tags) {
  auto bext = read_broadcast_extension(master.path()).value_or(BroadcastExtension{});
  if (bext.originator.empty()) bext.originator = "Heathmist";
  if (!bext.coding_history.empty() && !bext.coding_history.ends_with('\n')) bext.coding_history += "\r\n";
  bext.coding_history += history_line(f, plan, made.gain_db);
  bext.loudness = tags;
  bext.loudness.album_lufs.reset(), bext.loudness.album_peak_dbtp.reset();
  return bext;
}

/// The master's words and pictures, without the loudness that no longer holds.
Tags carried_tags(const Clip& master, bool flac, const LoudnessTags& loudness) {
  Tags tags = read_tags(master.path());
  std::erase_if(tags.words, [](const auto& entry) {
    return entry.first.starts_with("REPLAYGAIN_") || entry.first.starts_with("R128_") || entry.first == "ENCODING" ||
           entry.first == "ENCODEDBY";
  });
  if (flac)
    for (const auto& [key, value] : replay_gain_comments(loudness)) tags.words[key] = {value};
  return tags;
}

std::string lost_tag(const Tags& wanted, const std::filesystem::path& written, bool flac) {
  const Tags there = read_tags(written, flac);
  for (const auto& [key, values] : wanted.words)
    if (const auto at = there.words.find(key); at == there.words.end() || at->second != values) return key;
  return there.pictures.size() == wanted.pictures.size() ? "" : "a picture";
}

/// Under another ending a file is still read for what it is.
std::shared_ptr<const Clip> open_part(const std::filesystem::path& part, const std::filesystem::path& file,
                                      const Job& job) {
  try {
    return Clip::open(part, job);
  } catch (const InputError& error) {
    throw InputError(file, "the copy cannot be read back, so it is not kept; the disk may be full");
  }
}

}  // namespace

Levelled write_levelled(std::shared_ptr<const Clip> master, const Loudness& loudness, const LevelPlan& plan,
                        Destination to, const std::vector<const Loudness*>& album, const Job& job) {
  const auto file = to.file;
  const bool flac = file.extension() == ".flac";
  if (file.extension() != ".wav" && !flac)
    throw InputError(file, "a levelled copy is written as .wav or .flac; choose one of these endings");
  if (flac && plan.bits > 24)
    throw InputError(file, "FLAC holds at most 24 bits; write a .wav or choose 16 or 24 bits");
  to.inputs.push_back(master->path());
  check(to);
  const bool alone = album.empty();
  const Loudness whole = alone ? Loudness() : album_of(album);
  Levelled made{file, 0, false, {}, {}, {}};
  plan_gain(alone ? loudness : whole, plan, made);
  const Passed passed = pass(master, chain_for(plan, made, alone), job.part(0, 0.4));
  const auto before = measure_loudness(*passed.ret, {}, job.part(0.4, 0.55));
  if (plan.limiter && alone && before.integrated_lufs && loudness.integrated_lufs && !passed.stages.empty())
    made.gain_db = *before.integrated_lufs - *loudness.integrated_lufs;
  const LoudnessTags loudness_tags = tags_for(before, whole, alone, made.gain_db);

  const auto& f = passed.ret->format();
  ClipWriter out(to, f.sample_rate_hz, f.channels,
                 plan.bits <= 16   ? WordFormat::pcm16
                 : plan.bits <= 24 ? WordFormat::pcm24
                                   : WordFormat::float32);
  out.describe(extension_for(*master, f, plan, made, loudness_tags));
  write_clip(out, *passed.ret, job.part(0.55, 0.8));
  const auto part = out.close();
  const Tags tags = carried_tags(*master, flac, loudness_tags);
  if (!tags.empty()) write_tags(part, flac, tags);

  made.loudness = measure_loudness(*open_part(part, file, job.part(0.8, 0.85)), {}, job.part(0.85, 1));
  made.tags = read_loudness_tags(part, flac);
  made.fault = fault_of(made, plan, alone);
  if (const auto lost = lost_tag(tags, part, flac); made.fault.empty() && !lost.empty())
    made.fault = "its tags lack " + lost;
  out.finish();
  return made;
}

std::vector<std::filesystem::path> copy_names(const std::vector<std::filesystem::path>& files,
                                              const std::filesystem::path& folder, bool flac) {
  const auto named = [&](const std::string& stem) { return folder / (stem + (flac ? ".flac" : ".wav")); };
  const auto ending = [](const std::filesystem::path& file) {
    const auto text = file.extension().string();
    return text.empty() ? text : text.substr(1);
  };
  std::vector<std::filesystem::path> names;
  for (const auto& file : files) {
    bool shared = false, same_ending = false;
    for (const auto& other : files) {
      if (&other == &file || other.stem() != file.stem()) continue;
      shared = true;
      same_ending |= other.extension() == file.extension();
    }
    std::string stem = file.stem().string();
    if (shared && !same_ending && !ending(file).empty()) stem += " (" + ending(file) + ")";
    if (same_ending) {
      const auto home = std::filesystem::absolute(file).lexically_normal().parent_path().filename().string();
      stem += home.empty() ? "" : " (" + home + ")";
    }
    std::string tried = stem;
    for (int n = 2; std::find(names.begin(), names.end(), named(tried)) != names.end(); ++n)
      tried = fmt::format("{} {}", stem, n);
    names.push_back(named(tried));
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
