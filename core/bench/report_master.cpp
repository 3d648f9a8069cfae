// What a report says of a master by itself: loudness, outlets, marks, blind tests.
#include <fmt/format.h>

#include "core/audio/fingerprint.hpp"
#include "core/bench/marks.hpp"
#include "core/bench/report_parts.hpp"
#include "core/compare/phrases.hpp"
#include "core/printable.hpp"
#include "core/stages/returns.hpp"

namespace heathmist {

namespace {

std::string fault_text(const Delivery& delivery) {
  std::string all;
  for (const Fault& fault : delivery.faults) all += (all.empty() ? "" : " ") + fault.text;
  if (!delivery.note.empty()) all += (all.empty() ? "" : " ") + delivery.note;
  return all;
}

void add_blind(const BlindTest& test, std::vector<ReportBlock>& blocks) {
  std::string heard;
  for (const BlindStimulus& s : test.stimuli) heard += (heard.empty() ? "" : ", ") + printable(s.name);
  std::string said = "It is not ended; nothing is told before it is.";
  try {
    if (is_ended(test)) said = result_of(test).sentence;
  } catch (const std::exception& error) {  // the seal does not hold
    said = error.what();
  }
  ReportTable table{fmt::format("Blind test: {}", title_of(test.design.method)), {{""}, {""}}, {}};
  table.rows = {{{"What was found"}, {printable(said)}},
                {{"Heard"}, {heard}},
                {{"Stretch"}, {clock_text(test.from_s) + " to " + clock_text(test.until_s)}},
                {{"Answers that count"}, {std::to_string(counted(test))}},
                {{"Order sealed before, SHA-256"}, {printable(test.key.hash)}}};
  blocks.push_back(std::move(table));
}

}  // namespace

ReportTable loudness_table(const std::vector<ReportedLoudness>& lines) {
  ReportTable table{"Loudness (ITU-R BS.1770, EBU R 128)",
                    {{""},
                     {"Integrated, LUFS", true},
                     {"Short-term max, LUFS", true},
                     {"Momentary max, LUFS", true},
                     {"Range, LU", true},
                     {"True peak, dBTP", true},
                     {"PLR, dB", true},
                     {"Overs", true}},
                    {}};
  for (const ReportedLoudness& line : lines) {
    if (!line.measured) {
      table.rows.push_back(
          {{printable(line.name)}, {printable(line.failure), Severity::fault}, {}, {}, {}, {}, {}, {}});
      continue;
    }
    const Loudness& l = line.measured->loudness;
    const bool over = l.true_peak_dbtp && *l.true_peak_dbtp > 0;
    table.rows.push_back({{printable(line.name)},
                          {value_text(l.integrated_lufs, 1)},
                          {value_text(l.short_term_max_lufs, 1)},
                          {value_text(l.momentary_max_lufs, 1)},
                          {value_text(l.range ? std::optional(l.range->lu()) : std::nullopt, 1)},
                          {value_text(l.true_peak_dbtp, 1), over ? std::optional(Severity::caution) : std::nullopt},
                          {value_text(l.plr_db, 1)},
                          {std::to_string(l.over_count)}});
  }
  return table;
}

ReportTable outlets_table(const Master& master, const Measured& measured, const std::vector<Outlet>& outlets,
                          const AlbumLevels* album) {
  ReportTable table{"Where it is delivered to",
                    {{"Outlet"},
                     {"Target, LUFS", true},
                     {"Player's gain, dB", true},
                     {"Heard at, LUFS", true},
                     {"True peak, dBTP", true},
                     {"Measured on"},
                     {"Verdict"}},
                    {}};
  const std::string print = fingerprint(master.audio.file);
  for (const Outlet& outlet : outlets) {
    std::optional<Measured> encoded;  // only where it was encoded before: a report encodes nothing
    if (outlet.encode && !print.empty()) encoded = kept_measured(print + chain_fingerprint(*outlet.encode));
    const Delivery d =
        deliver(outlet, measured.loudness, {album, encoded ? &encoded->loudness : nullptr, false, std::nullopt});
    const std::string why = fault_text(d);
    table.rows.push_back({{printable(outlet.name)},
                          {number_text(outlet.target_lufs, 1)},
                          {number_text(d.gain_db, 1)},
                          {value_text(d.loudness_lufs, 1)},
                          {value_text(d.true_peak_dbtp, 1)},
                          {encoded ? "its encode" : "the file"},
                          {d.passes() ? (why.empty() ? "passes" : "passes. " + why) : why,
                           d.passes() ? Severity::clean : Severity::fault}});
  }
  return table;
}

ReportTable marks_table(const Master& master) {
  ReportTable table{"Marks", {{"At"}, {"Until"}, {"Note"}, {"On"}}, {}};
  for (const Mark& mark : master.marks) {
    const auto on =
        std::find_if(master.trials.begin(), master.trials.end(), [&](const Trial& t) { return t.id == mark.trial; });
    table.rows.push_back({{clock_text(mark.at_s)},
                          {mark.until_s ? clock_text(*mark.until_s) : ""},
                          {printable(mark.text)},
                          {on == master.trials.end() ? "the master" : printable(title_of(*on))}});
  }
  return table;
}

std::vector<ReportBlock> blind_blocks(const Bench& bench, const Master& master) {
  std::vector<ReportBlock> blocks;
  for (const BlindTest& test : bench.blind)
    if (test.master == master.id) add_blind(test, blocks);
  return blocks;
}

}  // namespace heathmist
