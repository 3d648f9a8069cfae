// The parts a report is put together from. Inside core/bench only.
#pragma once
#include "core/bench/report.hpp"
#include "core/delivery/measured.hpp"
#include "core/delivery/outlet.hpp"

namespace heathmist {

/// A trial as far as it came: a result, or the sentence that says why there is none.
struct ReportedTrial {
  const Master* master = nullptr;
  const Trial* trial = nullptr;
  ReportAnswer answer;
  std::vector<ReportBlock> proof;  ///< without its heading
  std::string master_print, ret_print;
};

/// "MP3, 96 kbit/s, 44.1 kHz, stereo"
std::string format_text(const ClipFormat& format);
/// The name of a file as the reader of a report may know it: without its folders.
std::string file_text(const std::filesystem::path& file);
/// "1.4", or a dash where there is none.
std::string value_text(std::optional<double> value, int decimals);

/// What was done, what changed, whether it matters.
ReportAnswer answer_of(const Master& master, const Trial& trial, const AnalysisResult& result);
ReportAnswer failed_answer(const Trial& trial, const std::string& sentence);
/// The findings with their charts, the budget, the fit, the settings: of one trial.
std::vector<ReportBlock> proof_of(const Trial& trial, const AnalysisResult& result, const ReportChoice& choice,
                                  const Job& job);

/// Loudness of a master, of what came back, and of its album. `measured` by name; none: `failure` says why.
struct ReportedLoudness {
  std::string name;
  std::optional<Measured> measured;
  std::string failure;
};
ReportTable loudness_table(const std::vector<ReportedLoudness>& lines);
ReportTable outlets_table(const Master& master, const Measured& measured, const std::vector<Outlet>& outlets,
                          const AlbumLevels* album);
ReportTable marks_table(const Master& master);
std::vector<ReportBlock> blind_blocks(const Bench& bench, const Master& master);

}  // namespace heathmist
