#include "core/bench/summary.hpp"

#include <fmt/format.h>

#include "core/audio/clip.hpp"
#include "core/audio/fingerprint.hpp"
#include "core/audio/kept.hpp"
#include "core/compare/json.hpp"
#include "core/compare/waterfall.hpp"
#include "core/rules.hpp"
#include "core/stages/returns.hpp"

namespace heathmist {

namespace {

constexpr int format_version = 12;  // raised when what is kept of a trial changes

/// Empty where a file cannot be read.
std::string name_of(const FileRef& master, const Trial& trial) {
  const FitHold& hold = trial.hold;
  const auto from = fingerprint(master.file),
             to = trial.chain ? chain_fingerprint(*trial.chain) : fingerprint(trial.ret.file);
  if (from.empty() || to.empty()) return {};
  const auto by =
      hold.by ? fmt::format("{}-{}-{}-{}", int(hold.by->part), hold.by->channel, hold.by->low_hz, hold.by->high_hz)
              : std::string("m");
  const auto held = [](const auto& value) { return value ? fmt::format("{}", *value) : std::string("m"); };
  return fmt::format("{}-{}-{}_{}_{}_{}_{}_{}-{}-{}.trial", from, to, held(hold.delay_samples), held(hold.drift_ppm),
                     held(hold.gain_db), held(hold.inverted), held(hold.swapped), by, format_version,
                     rules_fingerprint);
}

}  // namespace

std::optional<double> depth_between(const TrialSummary& s, double low_hz, double high_hz) {
  double sum = 0, count = 0;
  for (size_t n = 0; n < s.band_hz.size(); ++n)
    if (s.band_hz[n] >= low_hz && s.band_hz[n] < high_hz) sum += s.band_db[n], count += 1;
  return count > 0 ? std::optional(sum / count) : std::nullopt;
}

TrialSummary summary_of(const NullReport& report) {
  TrialSummary s{name_of(report.kind),
                 report.residual_relative_db(),
                 report.fit.trusted,
                 report.findings.front().text,
                 integrated_lufs(report.sums.master_pieces),
                 report.master.duration_s(),
                 report.master.sample_rate_hz,
                 report.master.container_bits.value_or(0),
                 report.master.sample_format == SampleFormat::real};
  s.delay_samples = report.fit.delay_samples;
  s.drift_ppm = report.fit.drift_ppm;
  s.gain_db = report.fit.gain_db;
  s.remainder_relative_db = report.sums.remainder_relative_db();
  s.bandwidth_hz = report.return_bandwidth_hz;
  s.bits_used = report.return_levels.bits_used.value_or(0);
  s.codec = report.ret.codec;
  s.causes = top_causes(report);
  for (const auto& band : third_octave_depth(report.sums))
    s.band_hz.push_back(band.centre_hz), s.band_db.push_back(std::max(-200.0, band.depth_db.value_or(-200)));
  return s;
}

namespace {

TrialSummary summary_from(const Json& json) {
  TrialSummary s{json.at("kind"),
                 number_from(json.at("residual_relative_db")),
                 json.at("trusted"),
                 json.at("headline"),
                 number_from(json.at("master_lufs")),
                 json.at("master_s"),
                 json.at("master_rate_hz"),
                 json.at("master_bits"),
                 json.at("master_real")};
  s.delay_samples = json.at("delay_samples");
  s.drift_ppm = json.at("drift_ppm");
  s.gain_db = json.at("gain_db");
  s.remainder_relative_db = number_from(json.at("remainder_relative_db"));
  s.bandwidth_hz = number_from(json.at("bandwidth_hz"));
  s.bits_used = json.at("bits_used");
  s.codec = json.at("codec");
  s.causes = json.at("causes");
  s.band_hz = json.at("band_hz").get<std::vector<double>>();
  s.band_db = json.at("band_db").get<std::vector<double>>();
  s.encoded_bytes = number_from<int64_t>(json.at("encoded_bytes"));
  s.bit_rate_bps = number_from<int64_t>(json.at("bit_rate_bps"));
  if (s.band_hz.size() != s.band_db.size()) throw std::runtime_error("as many bands as levels");
  return s;
}

}  // namespace

std::optional<TrialSummary> kept_summary(const FileRef& master, const Trial& trial) {
  return kept_value(name_of(master, trial), summary_from);
}

void keep_summary(const FileRef& master, const Trial& trial, const TrialSummary& summary) {
  const auto name = name_of(master, trial);
  if (name.empty()) return;
  const Json json{{"kind", summary.kind},
                  {"residual_relative_db", number_or_null(summary.residual_relative_db)},
                  {"trusted", summary.trusted},
                  {"headline", summary.headline},
                  {"master_lufs", number_or_null(summary.master_lufs)},
                  {"master_s", summary.master_s},
                  {"master_rate_hz", summary.master_rate_hz},
                  {"master_bits", summary.master_bits},
                  {"master_real", summary.master_real},
                  {"delay_samples", summary.delay_samples},
                  {"drift_ppm", summary.drift_ppm},
                  {"gain_db", summary.gain_db},
                  {"remainder_relative_db", number_or_null(summary.remainder_relative_db)},
                  {"bandwidth_hz", number_or_null(summary.bandwidth_hz)},
                  {"bits_used", summary.bits_used},
                  {"codec", summary.codec},
                  {"causes", summary.causes},
                  {"encoded_bytes", summary.encoded_bytes ? Json(*summary.encoded_bytes) : Json(nullptr)},
                  {"bit_rate_bps", summary.bit_rate_bps ? Json(*summary.bit_rate_bps) : Json(nullptr)},
                  {"band_hz", summary.band_hz},
                  {"band_db", summary.band_db}};
  keep_value(name, json);
}

}  // namespace heathmist
