#include "core/bench/summary.hpp"

#include <fmt/format.h>

#include <fstream>

#include "core/audio/clip.hpp"
#include "core/audio/write.hpp"
#include "core/bench/json.hpp"

namespace heathmist {

namespace {

constexpr int rules_version = 2;  // raised when the rules of kind or findings change

std::filesystem::path place_of(const FileRef& master, const FileRef& ret, const FitHold& hold) {
  const auto folder = cache_folder();
  const auto from = content_mark(master.file), to = content_mark(ret.file);
  if (folder.empty() || from.empty() || to.empty()) return {};
  const auto held = [](const auto& value) { return value ? fmt::format("{}", *value) : std::string("m"); };
  return folder / fmt::format("{}-{}-{}_{}_{}_{}_{}-{}.trial", from, to, held(hold.delay_samples), held(hold.drift_ppm),
                              held(hold.gain_db), held(hold.inverted), held(hold.swapped), rules_version);
}

}  // namespace

TrialSummary summary_of(const NullReport& report) {
  return {name_of(report.kind),
          report.residual_relative_db(),
          report.fit.trusted,
          report.findings.front().text,
          integrated_lufs(report.sums.master_pieces),
          report.master.duration_s(),
          report.master.sample_rate_hz,
          report.master.container_bits.value_or(0),
          report.master.sample_format == SampleFormat::real};
}

std::optional<TrialSummary> kept_summary(const FileRef& master, const FileRef& ret, const FitHold& hold) {
  const auto place = place_of(master, ret, hold);
  std::ifstream in(place);
  if (place.empty() || !in) return {};
  try {
    const Json json = Json::parse(in);
    const auto maybe = [&](const char* key) {
      return json.at(key).is_null() ? std::nullopt : std::optional<double>(json.at(key).get<double>());
    };
    return TrialSummary{json.at("kind"),           maybe("residual_relative_db"), json.at("trusted"),
                        json.at("headline"),       maybe("master_lufs"),          json.at("master_s"),
                        json.at("master_rate_hz"), json.at("master_bits"),        json.at("master_real")};
  } catch (const std::exception&) {
    return {};
  }
}

void keep_summary(const FileRef& master, const FileRef& ret, const FitHold& hold, const TrialSummary& summary) {
  const auto place = place_of(master, ret, hold);
  if (place.empty()) return;
  const Json json{{"kind", summary.kind},
                  {"residual_relative_db", number_or_null(summary.residual_relative_db)},
                  {"trusted", summary.trusted},
                  {"headline", summary.headline},
                  {"master_lufs", number_or_null(summary.master_lufs)},
                  {"master_s", summary.master_s},
                  {"master_rate_hz", summary.master_rate_hz},
                  {"master_bits", summary.master_bits},
                  {"master_real", summary.master_real}};
  try {
    write_whole(place, json.dump());
  } catch (const InputError&) {  // a cache that cannot be written only costs time
  }
}

}  // namespace heathmist
