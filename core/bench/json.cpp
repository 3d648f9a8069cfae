#include "core/bench/json.hpp"

#include <cmath>

namespace heathmist {

Json number_or_null(std::optional<double> value) {
  if (!value || !std::isfinite(*value)) return nullptr;
  return *value == 0 ? 0.0 : *value;  // no negative zero
}

namespace {

template <class T>
Json or_null(const std::optional<T>& value) {
  return value ? Json(*value) : Json(nullptr);
}

std::optional<double> dbfs_of_peak(double peak) { return power_db(peak * peak); }

}  // namespace

Json facts_json(const std::string& path, const ClipFormat& format, const Levels& levels,
                std::optional<double> bandwidth_hz) {
  return {{"path", path},
          {"codec", format.codec},
          {"sample_rate_hz", format.sample_rate_hz},
          {"channels", format.channels},
          {"frames", format.frames},
          {"container_bits", or_null(format.container_bits)},
          {"sample_format", format.sample_format == SampleFormat::integer ? "int" : "float"},
          {"bits_used", or_null(levels.bits_used)},
          {"bandwidth_hz", number_or_null(bandwidth_hz)},
          {"bit_rate_bps", or_null(format.bit_rate_bps)},
          {"duration_s", format.duration_s()}};
}

Json null_json(const NullReport& r) {
  Json channels = Json::array(), findings = Json::array();
  for (size_t p = 0; p < r.fit.pairs.size(); ++p) {
    const auto& pair = r.fit.pairs[p];
    const PairSums sums = p < r.sums.pairs.size() ? r.sums.pairs[p] : PairSums{};
    channels.push_back({{"master", pair.master},
                        {"return", pair.ret},
                        {"delay_samples", number_or_null(pair.delay_samples)},
                        {"gain_db", number_or_null(pair.gain_db)},
                        {"polarity", pair.inverted ? "inverted" : "normal"},
                        {"residual_rms_dbfs", number_or_null(power_db(sums.residual))},
                        {"residual_relative_db", number_or_null(sums.residual_relative_db())}});
  }
  for (const auto& f : r.findings)
    findings.push_back({{"code", f.code},
                        {"severity", name_of(f.severity)},
                        {"text", f.text},
                        {"detail", f.detail},
                        {"value", number_or_null(f.value)},
                        {"unit", f.unit},
                        {"at_s", number_or_null(f.at_s)}});
  return {{"identical", r.identical},
          {"kind", name_of(r.kind)},
          {"delay_samples", number_or_null(r.fit.delay_samples)},
          {"drift_ppm", number_or_null(r.fit.drift_ppm)},
          {"gain_db", number_or_null(r.fit.gain_db)},
          {"polarity", r.fit.polarity()},
          {"agreement", r.fit.agreement},
          {"overlap_s", r.sums.seconds},
          {"master_rms_dbfs", number_or_null(power_db(r.sums.master))},
          {"residual_rms_dbfs", number_or_null(power_db(r.sums.residual))},
          {"residual_peak_dbfs", number_or_null(dbfs_of_peak(r.sums.residual_peak))},
          {"residual_relative_db", number_or_null(r.residual_relative_db())},
          {"residual_integrated_lufs", number_or_null(integrated_lufs(r.sums.residual_pieces))},
          {"remainder_relative_db", number_or_null(r.sums.remainder_relative_db())},
          {"bandwidth_hz",
           {{"master", number_or_null(r.master_bandwidth_hz)}, {"return", number_or_null(r.return_bandwidth_hz)}}},
          {"channels", channels},
          {"findings", findings}};
}

}  // namespace heathmist
