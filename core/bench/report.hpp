// The report on a bench: what somebody reads who has neither the program nor the time.
//
//   ReportChoice choice;                       // everything of the whole bench
//   Report r = make_report(bench, choice);     // measures what was not measured yet
//
// First a page for the client: of each trial what was done, what changed in one sentence, how deep the residual lies
// and whether it matters. Then master by master the proof, and at the end what it rests on: files with the hashes of
// their content, version, date. A file that is missing or cannot be read is said in its place; the rest goes on.
#pragma once
#include <array>
#include <functional>

#include "core/bench/analysis.hpp"
#include "core/bench/report_content.hpp"

namespace heathmist {

enum class ReportPart { findings, plots, loudness, outlets, settings, blind, marks, files };
inline constexpr std::array report_parts{ReportPart::findings, ReportPart::plots,    ReportPart::loudness,
                                         ReportPart::outlets,  ReportPart::settings, ReportPart::blind,
                                         ReportPart::marks,    ReportPart::files};
/// "findings", "plots" …
const char* name_of(ReportPart part);
std::optional<ReportPart> report_part_named(const std::string& name);

struct ReportChoice {
  std::string heading{};         ///< empty: the bench's name
  std::filesystem::path logo{};  ///< empty: none
  std::vector<std::string> masters{}, trials{},
      albums{};  ///< by id, by id, by name; none of all three: the whole bench
  std::vector<ReportPart> without{};
  std::string date{};  ///< empty: today's
  bool has(ReportPart part) const;
  bool operator==(const ReportChoice&) const = default;
};

/// What a report is made with.
struct ReportSources {
  Grant grant = grant_nothing;
  /// What a trial came to where that is known already, explained; nullptr: it is measured. None: nothing is known.
  std::function<std::shared_ptr<const AnalysisResult>(const Trial& trial)> known{};
  Analysis* analysis = nullptr;  ///< one that keeps what it measures for the next report; none: one for this alone
};

/// A picture for the head of a report. Throws InputError where it is no whole PNG or JPEG file of under 4 MB.
ReportLogo read_logo(const std::filesystem::path& file);

/// Throws InputError as read_logo() does, std::invalid_argument for a master, a trial or an album
/// that the bench does not hold, Cancelled. A few hundred trials hold no more memory than their blocks: one trial is
/// measured at a time.
Report make_report(const Bench& bench, const ReportChoice& choice, const ReportSources& sources = {},
                   const Job& job = {});

}  // namespace heathmist
