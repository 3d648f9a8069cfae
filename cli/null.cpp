// null: a return laid on its master, and what is left.
#include <charconv>
#include <cmath>

#include "cli/verbs.hpp"
#include "core/audio/write.hpp"
#include "core/bench/analysis.hpp"
#include "core/compare/json.hpp"

namespace heathmist::cli {

namespace {

struct NullCall {
  Shared shared;
  std::string master, ret, align = "auto", gain = "auto", drift = "auto", residual, floor;
};

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

void write_residual(const Destination& to, const Comparable& pair, const Fit& fit) {
  ClipWriter out(to, pair.master->format().sample_rate_hz, int(fit.pairs.size()), WordFormat::float32);
  out.expect(fit.last - fit.first);
  ResidualReader residual(*pair.master, *pair.ret, fit);
  Planar e;
  for (int64_t at = fit.first; at < fit.last; at += 1 << 16) {
    residual.read(at, std::min<int64_t>(1 << 16, fit.last - at), e);
    out.write(e);
  }
  out.finish();
}

void print_null(const Session& session, const NullReport& r) {
  session.say("{}\n", r.findings.front().text);
  session.say(
      "  kind       {}\n  delay      {:.4f} samples\n  drift      {:.3f} ppm\n  gain       {:.4f} dB\n  polarity   "
      "{}\n",
      name_of(r.kind), r.fit.delay_samples, r.fit.drift_ppm, r.fit.gain_db, r.fit.polarity());
  session.say("  residual   {}, peak {}\n  remainder  {}\n", shown(r.residual_relative_db(), 2, "dBr"),
              shown(power_db(r.sums.residual_peak * r.sums.residual_peak), 2, "dBFS"),
              shown(r.sums.remainder_relative_db(), 2, "dBr"));
  for (size_t n = 1; n < r.findings.size(); ++n)
    session.say("  {:<8} {} {}\n", name_of(r.findings[n].severity), r.findings[n].text, r.findings[n].detail);
}

FitOptions options_of(const NullCall& call) {
  FitOptions options;
  options.delay_samples = held("--align", call.align, "samples");
  options.gain_db = held("--gain", call.gain, "dB");
  if (call.drift != "auto" && call.drift != "none")
    throw std::invalid_argument(fmt::format("--drift takes auto or none, not '{}'", call.drift));
  options.drift = call.drift == "auto";
  if (!call.residual.empty() && call.residual != "-" && !call.residual.ends_with(".wav"))
    throw std::invalid_argument(fmt::format("--residual writes a .wav file, not '{}'", call.residual));
  return options;
}

void null(const NullCall& call) {
  AnalysisInput input;
  input.fit = options_of(call);
  Session session(call.shared);
  const Source master = session.source(call.master), ret = session.source(call.ret);
  const auto floor = call.floor.empty() ? std::nullopt : std::optional(session.source(call.floor));
  session.check_output(call.residual);
  const Job job = session.watched("null");
  input.master = master.file, input.ret = ret.file;
  if (floor) input.floor = Floor{"", {floor->file, {}}, {}};
  Analysis analysis;
  const auto null = analysis.null(input, grant_nothing, job.part(0, 0.6));
  const auto result = analysis.explained(input, null, job.part(0.6, 1));
  const NullReport& report = *result.report;
  if (!call.residual.empty())
    session.write_file(call.residual, ".wav",
                       [&](const Destination& to) { write_residual(to, result.pair, report.fit); });
  if (!call.shared.wants_json()) return call.residual == "-" ? void() : print_null(session, report);
  Json json = null_json(report);
  json["paths"] = {{"master", master.name}, {"return", ret.name}};
  json["explanation"] = explanation_json(report, *result.why);
  print(json, call.shared);
}

}  // namespace

void add_null(CLI::App& app) {
  auto call = std::make_shared<NullCall>();
  auto* verb = app.add_subcommand("null", "lay a return on its master and measure what is left");
  verb->add_option("MASTER", call->master, "the audio under test (- for standard input)")->required();
  verb->add_option("RETURN", call->ret, "what came back (- for standard input)")->required();
  verb->add_option("--align", call->align, "auto, none, or the return's delay in samples")->capture_default_str();
  verb->add_option("--gain", call->gain, "auto, none, or the return's gain in dB")->capture_default_str();
  verb->add_option("--drift", call->drift, "auto or none")->capture_default_str();
  verb->add_option("--residual", call->residual,
                   "write the residual to this .wav, 32-bit float (- for standard output)");
  verb->add_option("--floor", call->floor, "a recording of silence through the same route: its baseline");
  add_common(*verb, call->shared);
  add_force(*verb, call->shared);
  verb->callback([call] { null(*call); });
}

}  // namespace heathmist::cli
