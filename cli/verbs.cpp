#include "cli/verbs.hpp"

#include <fmt/format.h>
#include <unistd.h>

#include <charconv>
#include <cmath>
#include <stdexcept>

#include "core/audio/write.hpp"
#include "core/bench/json.hpp"

namespace heathmist::cli {

namespace {

std::optional<double> number_in(const std::string& text) {
  double value = 0;
  const char* begin = text.c_str() + (text.starts_with('+') ? 1 : 0);
  const auto [end, error] = std::from_chars(begin, text.c_str() + text.size(), value);
  if (error != std::errc{} || end != text.c_str() + text.size() || !std::isfinite(value)) return {};
  return value;
}

/// auto: measured; none: held at 0; a number: held there.
std::optional<double> held(const std::string& option, const std::string& text, const char* unit) {
  if (text == "auto") return {};
  if (text == "none") return 0.0;
  const auto value = number_in(text);
  if (!value)
    throw std::invalid_argument(fmt::format("{} takes auto, none or a number of {}, not '{}'", option, unit, text));
  return value;
}

std::string shown(std::optional<double> value, int decimals, const char* unit) {
  return value ? fmt::format("{:.{}f} {}", *value, decimals, unit) : std::string("none");
}

void write_residual(const std::string& file, const Comparable& pair, const Fit& fit) {
  ClipWriter out(file, pair.master->format().sample_rate_hz, int(fit.pairs.size()), WordFormat::float32);
  ResidualReader residual(*pair.master, *pair.ret, fit);
  Planar e;
  for (int64_t at = fit.first; at < fit.last; at += 1 << 16) {
    residual.read(at, std::min<int64_t>(1 << 16, fit.last - at), e);
    out.write(e);
  }
  out.finish();
}

/// The floor of the route: the spectrum of a recording of silence, brought to the master's level.
Spectrum floor_of(const std::string& file, const Clip& master, const NullReport& report, const Job& job) {
  const auto clip = Clip::at_rate(Clip::open(file, job), master.format().sample_rate_hz, job);
  auto floor = average_spectrum(*clip, 16384, 0, -1, 2000, job);
  for (double& power : floor.power) power /= report.fit.gain() * report.fit.gain();
  return floor;
}

Json whole_json(const NullReport& report, const Explanation& why) {
  Json json = null_json(report);
  json["explanation"] = explanation_json(report, why);
  return json;
}

void print_null(const NullReport& r) {
  fmt::print("{}\n", r.findings.front().text);
  fmt::print(
      "  kind       {}\n  delay      {:.4f} samples\n  drift      {:.3f} ppm\n  gain       {:.4f} dB\n  polarity   "
      "{}\n",
      name_of(r.kind), r.fit.delay_samples, r.fit.drift_ppm, r.fit.gain_db, r.fit.polarity());
  fmt::print("  residual   {}, peak {}\n  remainder  {}\n", shown(r.residual_relative_db(), 2, "dBr"),
             shown(power_db(r.sums.residual_peak * r.sums.residual_peak), 2, "dBFS"),
             shown(r.sums.remainder_relative_db(), 2, "dBr"));
  for (size_t n = 1; n < r.findings.size(); ++n)
    fmt::print("  {:<8} {} {}\n", name_of(r.findings[n].severity), r.findings[n].text, r.findings[n].detail);
}

}  // namespace

Job watched(const std::string& what) {
  if (!isatty(STDERR_FILENO)) return {};
  Job job;
  job.progress = [what, last = -1](double fraction) mutable {
    const int percent = int(100 * fraction);
    if (percent == last) return;
    last = percent;
    fmt::print(stderr, "\r{} {} %{}", what, percent, percent >= 100 ? "\r\033[K" : "");
  };
  return job;
}

void facts(const std::vector<std::string>& files, bool json) {
  Json all = Json::array();
  for (const auto& file : files) {
    const Job job = watched(file);
    const auto clip = Clip::open(file, job.part(0, 0.5));
    const auto levels = survey(*clip, job.part(0.5, 0.9)).levels;
    const auto bandwidth = bandwidth_hz(average_spectrum(*clip, 8192, 0, -1, 400, job.part(0.9, 1)));
    all.push_back(facts_json(file, clip->format(), levels, bandwidth));
  }
  if (json) {
    fmt::print("{}\n", Json{{"files", all}}.dump(2));
    return;
  }
  for (const auto& f : all)
    fmt::print("{}: {}, {} Hz, {} ch, {:.2f} s, bits {} of {}, reaches {} Hz\n", f["path"].get<std::string>(),
               f["codec"].get<std::string>(), f["sample_rate_hz"].get<int>(), f["channels"].get<int>(),
               f["duration_s"].get<double>(), f["bits_used"].dump(), f["container_bits"].dump(),
               f["bandwidth_hz"].is_null() ? "null" : fmt::format("{:.0f}", f["bandwidth_hz"].get<double>()));
}

void null(const NullCall& call) {
  NullOptions options;
  options.fit.delay_samples = held("--align", call.align, "samples");
  options.fit.gain_db = held("--gain", call.gain, "dB");
  if (call.drift != "auto" && call.drift != "none")
    throw std::invalid_argument(fmt::format("--drift takes auto or none, not '{}'", call.drift));
  options.fit.drift = call.drift == "auto";
  if (!call.residual.empty() && !call.residual.ends_with(".wav"))
    throw std::invalid_argument(fmt::format("--residual writes a .wav file, not '{}'", call.residual));
  const Job job = watched("null");
  const auto master = Clip::open(call.master, job.part(0, 0.1)), ret = Clip::open(call.ret, job.part(0.1, 0.2));
  const auto pair = comparable(master, ret, job.part(0.2, 0.4));
  auto report = null_test(*master, *ret, pair, options, job.part(0.4, 0.6));
  ExplainOptions explaining;
  if (!call.floor.empty()) explaining.floor = floor_of(call.floor, *pair.master, report, job.part(0.6, 0.62));
  const auto why = explain(*master, *ret, pair, report, explaining, job.part(0.62, 1));
  if (!call.residual.empty()) write_residual(call.residual, pair, report.fit);
  if (call.json)
    fmt::print("{}\n", whole_json(report, why).dump(2));
  else
    print_null(report);
}

}  // namespace heathmist::cli
