// What a report says of one trial.
#include <fmt/format.h>

#include <set>

#include "core/bench/put_aside.hpp"
#include "core/bench/report_charts.hpp"
#include "core/bench/report_parts.hpp"
#include "core/bench/versions.hpp"
#include "core/compare/phrases.hpp"
#include "core/printable.hpp"

namespace heathmist {

namespace {

constexpr size_t most_spots = 3;

std::string origin_text(const Trial& trial, const AnalysisResult& result) {
  return (trial.chain ? "Made here" : file_text(trial.ret.file)) + "; " + format_text(result.ret->format());
}

/// Whether it can be heard, as far as anything measured can say so.
std::string matter_of(const AnalysisResult& result) {
  const NullReport& report = *result.report;
  if (report.kind == Kind::identical) return "It does not matter: every sample is the same.";
  if (report.kind == Kind::unrelated || !report.fit.trusted)
    return "Nothing can be said: the two do not lie on each other well enough.";
  if (!report.residual_relative_db()) return "With that taken out nothing is left: no sample differs.";
  if (!result.why || result.why->mask.bands() < 1) return {};
  const MaskMap& mask = result.why->mask;
  const double share = 100 * mask.covered_share;
  if (mask.worst_db <= 0 || share > 99.95)
    return "By a model of hearing the music covers what was changed, throughout.";
  return fmt::format(
      "By a model of hearing the music covers {} % of what was changed; it stands out most at {}, between "
      "{} and {}.",
      number_text(share, share > 99 ? 1 : 0), clock_text(mask.worst_at_s), hertz_text(mask.worst_low_hz),
      hertz_text(mask.worst_high_hz));
}

ReportTable compared(const AnalysisResult& result) {
  const NullReport& r = *result.report;
  const auto row = [](std::string what, std::string master, std::string ret) {
    return std::vector<ReportCell>{{std::move(what)}, {std::move(master)}, {std::move(ret)}};
  };
  ReportTable table{"What was compared", {{""}, {"Master"}, {"Return"}}, {}};
  table.rows.push_back(row("File", file_text(result.master->path()),
                           result.ret->is_made() ? "made by the chain" : file_text(result.ret->path())));
  table.rows.push_back(row("Format", format_text(r.master), format_text(r.ret)));
  table.rows.push_back(row("Length", clock_text(r.master.duration_s()), clock_text(r.ret.duration_s())));
  const auto bits = [](const std::optional<int>& used) {
    return used ? fmt::format("{} bit", *used) : std::string("–");
  };
  table.rows.push_back(row("Bits really used", bits(r.master_levels.bits_used), bits(r.return_levels.bits_used)));
  const auto top = [](const std::optional<double>& hz) { return hz ? hertz_text(*hz) : std::string("–"); };
  table.rows.push_back(row("Bandwidth", top(r.master_bandwidth_hz), top(r.return_bandwidth_hz)));
  return table;
}

ReportTable laid(const Fit& fit, const FitHold& hold) {
  const auto row = [](std::string what, std::string value, bool is_held) {
    return std::vector<ReportCell>{{std::move(what)}, {std::move(value) + (is_held ? ", held by hand" : "")}};
  };
  ReportTable table{"How the return was laid on the master", {{""}, {""}}, {}};
  table.rows.push_back(row("Delay", delay_text(fit.delay_samples), hold.delay_samples.has_value()));
  table.rows.push_back(row("Drift", number_text(fit.drift_ppm, 2) + " ppm", hold.drift_ppm.has_value()));
  table.rows.push_back(row("Gain", number_text(fit.gain_db, 2) + " dB", hold.gain_db.has_value()));
  table.rows.push_back(row("Polarity", fit.polarity(), hold.inverted.has_value()));
  table.rows.push_back(row("Channels", fit.swapped() ? "exchanged" : "as they were", hold.swapped.has_value()));
  table.rows.push_back(row("Agreement", number_text(100 * fit.agreement, 2) + " %", false));
  return table;
}

std::string setting_text(const StageType* type, const std::string& key, const Json& value) {
  const Parameter* parameter = type ? type->parameter(key) : nullptr;
  if (parameter && parameter->kind == Parameter::Kind::file && value.is_string())
    return file_text(value.get<std::string>());  // and not where it lies
  if (value.is_string()) return printable(value.get<std::string>());
  if (value.is_number_float()) return fmt::format("{:g}", value.get<double>());
  return printable(value.dump(-1, ' ', false, Json::error_handler_t::replace));
}

ReportTable settings_table(const Chain& chain, const std::vector<StageReport>& reports) {
  ReportTable table{chain.rounds > 1 ? fmt::format("The chain, {} times over", chain.rounds) : "The chain",
                    {{"Stage"}, {"Settings"}, {"What it did"}},
                    {}};
  size_t ran = 0;
  for (const Stage& stage : chain.stages) {
    const StageType* type = stage_type(stage.type);
    std::string settings;
    for (const auto& [key, value] : stage.values.items())
      settings += fmt::format("{}{}: {}", settings.empty() ? "" : ", ", key, setting_text(type, key, value));
    std::string did = stage.on ? "" : "switched off";
    if (stage.on && ran < reports.size()) {
      const StageReport& r = reports[ran++];
      did = r.note;
      if (r.bit_rate_bps)
        did += fmt::format("{}{} kbit/s", did.empty() ? "" : ", ", number_text(double(*r.bit_rate_bps) / 1000, 0));
    }
    table.rows.push_back({{type ? type->title : stage.type}, {settings}, {did}});
  }
  return table;
}

/// Each chart once, behind the first finding that it proves; the first few spots as their samples.
class Proof {
 public:
  Proof(const AnalysisResult& result, const Job& job) : result_(result), job_(job) {
    for (const Finding& f : result.report->findings)
      if (f.at_s && f.severity > Severity::clean) marks_.push_back({*f.at_s, clock_text(*f.at_s)});
    if (marks_.size() > 6) marks_.resize(6);
  }
  void add(const Finding& f, bool with_charts, std::vector<ReportBlock>& to) {
    ReportFinding told{f.severity, f.text, f.detail};
    to.push_back(std::move(told));
    if (!with_charts) return;
    if (shown_.insert(f.evidence == Evidence::fit ? Evidence::lanes : f.evidence).second)
      if (auto chart = chart_of(f.evidence, result_)) {
        const bool is_time =
            f.evidence == Evidence::lanes || f.evidence == Evidence::fit || f.evidence == Evidence::course;
        if (is_time) chart->marks = marks_;
        to.push_back(std::move(*chart));
      }
    const bool is_of_samples = f.evidence == Evidence::lanes || f.evidence == Evidence::words;
    if (f.at_s && is_of_samples && f.severity >= Severity::caution && is_new_spot(*f.at_s))
      to.push_back(spot_chart(result_, *f.at_s, f.text, job_));
  }
  bool has_shown(Evidence evidence) const { return shown_.contains(evidence); }

 private:
  bool is_new_spot(double at_s) {
    if (spots_.size() == most_spots || result_.report->kind == Kind::unrelated) return false;
    for (const double spot : spots_)
      if (std::abs(spot - at_s) < 0.05) return false;
    spots_.push_back(at_s);
    return true;
  }
  const AnalysisResult& result_;
  const Job& job_;
  std::vector<ChartMark> marks_;
  std::set<Evidence> shown_;
  std::vector<double> spots_;
};

}  // namespace

std::string file_text(const std::filesystem::path& file) { return printable(file.filename()); }

std::string value_text(std::optional<double> value, int decimals) {
  return value ? number_text(*value, decimals) : std::string("–");
}

std::string format_text(const ClipFormat& f) {
  std::string text = codec_text(f.codec);
  if (f.container_bits && !f.lossy)
    text += fmt::format(" {} bit{}", *f.container_bits, f.sample_format == SampleFormat::real ? " float" : "");
  if (f.lossy && f.bit_rate_bps) text += fmt::format(", {} kbit/s", number_text(double(*f.bit_rate_bps) / 1000, 0));
  text += fmt::format(", {:g} kHz", f.sample_rate_hz / 1000.0);
  return text + (f.channels == 1 ? ", mono" : f.channels == 2 ? ", stereo" : fmt::format(", {} channels", f.channels));
}

ReportAnswer answer_of(const Master& master, const Trial& trial, const AnalysisResult& result) {
  ReportAnswer answer;
  answer.done = printable(title_of(trial));
  answer.of = printable(origin_text(trial, result));
  const NullReport& report = *result.report;
  if (!report.findings.empty()) {
    answer.changed = report.findings.front().text;
    answer.severity = report.findings.front().severity;
  }
  answer.matters = matter_of(result);
  answer.is_measured = report.kind != Kind::unrelated;
  answer.depth_db = report.residual_relative_db();
  if (const auto old = finding_of_version(master, trial)) {
    answer.severity = std::max(answer.severity, old->severity);
    answer.matters += (answer.matters.empty() ? "" : " ") + old->text;
  }
  return answer;
}

ReportAnswer failed_answer(const Trial& trial, const std::string& sentence) {
  ReportAnswer answer;
  answer.done = printable(title_of(trial));
  answer.changed = "It could not be measured: " + printable(sentence);
  answer.severity = Severity::fault;
  answer.is_measured = false;
  return answer;
}

std::vector<ReportBlock> proof_of(const Trial& trial, const AnalysisResult& result, const ReportChoice& choice,
                                  const Job& job) {
  std::vector<ReportBlock> blocks{compared(result), laid(result.report->fit, trial.hold)};
  const bool has_residual = result.report->residual_relative_db().has_value();
  const bool plots = choice.has(ReportPart::plots) && has_residual, findings = choice.has(ReportPart::findings);
  Proof proof(result, job);
  if (findings) {
    blocks.push_back(ReportHeading{"Findings", 3});
    const auto& all = result.report->findings;
    const auto aside = [&](size_t n) { return n > 0 ? aside_of(trial, all[n]) : nullptr; };  // the verdict stays
    for (size_t n = 0; n < all.size(); ++n)
      if (!aside(n)) proof.add(all[n], plots, blocks);
    for (size_t n = 0; n < all.size(); ++n)
      if (const PutAside* a = aside(n))
        blocks.push_back(ReportFinding{Severity::note, all[n].text, "Put aside: " + printable(a->reason)});
  }
  for (const Evidence evidence : {Evidence::lanes, Evidence::spectra, Evidence::parts})
    if (plots && !proof.has_shown(evidence))
      if (auto chart = chart_of(evidence, result)) blocks.push_back(std::move(*chart));
  if (choice.has(ReportPart::settings) && trial.chain) blocks.push_back(settings_table(*trial.chain, result.stages));
  return blocks;
}

}  // namespace heathmist
