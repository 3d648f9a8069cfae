// A sheet: many files against one set of rules, pass or fail.
//
//   Rules rules = load_rules("house.json");
//   Checked c = check_file("track 1.wav", rules);
//   for (const Fault& f : c.faults) ...
#pragma once
#include "core/delivery/measured.hpp"
#include "core/delivery/rules.hpp"
#include "core/measure/coding.hpp"
#include "core/measure/condition.hpp"

namespace heathmist {

struct Checked {
  Measured measured;
  bool is_origin_known = false;          ///< `coding` was looked for: where a rule asks, or by know_origin()
  std::optional<CodingTrace> coding{};   ///< of a lossless file
  std::optional<Condition> condition{};  ///< this and what follows only where a rule asks for it
  std::optional<int64_t> flat_tops{};
  std::optional<double> flat_tops_at_s{};
  std::optional<int> upsampled_from_hz{};  ///< its band ends there, steeply, as one of a lower rate does
  std::optional<double> band_end_hz{};
  std::vector<Fault> faults{};
  bool passes() const { return faults.empty(); }
};

/// Measures what the rules ask for, and judges it. Throws InputError, Cancelled.
Checked check_file(const std::filesystem::path& file, const Rules& rules, const Job& job = {});
/// The same as a member of an album: the rules of loudness are held against all of it (check_album), those of peaks
/// and of everything else against each file.
Checked check_track(const std::filesystem::path& file, const Rules& rules, const Job& job = {});
std::vector<Fault> check_album(const std::vector<const Loudness*>& tracks, const Rules& rules);

/// Looks for a coder's traces where no rule asked for them: it takes longer than all the rest of a short file.
void know_origin(const std::filesystem::path& file, Checked& checked, const Job& job = {});

/// {"path", "passes", "faults": [{"code", "text", "value", "limit", "unit", "at_s"}], ...measured}.
Json checked_json(const std::string& path, const Checked& checked);
Json faults_json(const std::vector<Fault>& faults);

/// A sheet's entries as CSV (a line each: path, passes, the faults' sentences, what was measured), and as a page of
/// HTML that needs nothing else, those that fail in front.
std::string sheet_csv(const std::vector<Json>& entries);
std::string sheet_html(const std::string& title, const std::vector<Json>& entries);

}  // namespace heathmist
