#include "core/bench/analysis.hpp"

#include <fmt/format.h>

#include "core/audio/fingerprint.hpp"
#include "core/json.hpp"

namespace heathmist {

namespace {

constexpr size_t floor_points = 16384;
constexpr int floor_blocks = 2000;
constexpr size_t fit_bytes = 512;

size_t bytes_of(const Clip& clip) {
  const auto& f = clip.format();
  return size_t(f.frames) * size_t(f.channels) * sizeof(float);
}

/// What was compared: the same content in files of other names has another report, which names them.
std::string key_of_pair(const AnalysisResult& result) {
  return fmt::format("{}|{}|{}|{}|{}", result.master->path().native(), result.master_print, result.ret->path().native(),
                     result.ret_print, result.disarmed);
}

std::string key_of(const std::optional<double>& value) { return value ? fmt::format("{:.17g}", *value) : "-"; }

std::string key_of(const FitOptions& fit) {
  return fmt::format("{} {} {}", key_of(fit.delay_samples), key_of(fit.gain_db), fit.drift);
}

std::string key_of(const std::optional<FitBy>& by) {
  return by ? fmt::format("{} {} {:.17g} {:.17g}", int(by->part), by->channel, by->low_hz, by->high_hz) : "-";
}

std::string key_of_fit(const std::string& pair, const AnalysisInput& input, const std::optional<FitBy>& by) {
  return pair + "|" + key_of(input.fit) + "|" + key_of(by);
}

std::string key_of(const AnalysisInput& input) {
  const FitHold& h = input.hold;
  return fmt::format("{}|{}|{} {} {} {} {}", key_of(input.fit), key_of(h.by), key_of(h.delay_samples),
                     key_of(h.drift_ppm), key_of(h.gain_db), h.inverted ? int(*h.inverted) : -1,
                     h.swapped ? int(*h.swapped) : -1);
}

std::string key_of(const std::optional<Floor>& floor) {
  if (!floor) return "-";
  return fingerprint(floor->recording.file) + (floor->master ? "/" + fingerprint(floor->master->file) : "");
}

/// The files hold what they held. What is worked out while one changes is of neither content: it is shown until it is
/// measured anew, and not kept.
bool holds(const AnalysisInput& input, const AnalysisResult& result) {
  return fingerprint(input.master) == result.master_print &&
         (input.chain ? chain_fingerprint(*input.chain) : fingerprint(input.ret)) == result.ret_print;
}

template <class T>
size_t of_vector(const std::vector<T>& v) {
  return v.size() * sizeof(T);
}

size_t of(const Spectrum& s) { return of_vector(s.power); }

}  // namespace

size_t bytes_of(const NullReport& r) {
  const auto& s = r.sums;
  size_t bytes = sizeof(NullReport) + of(s.master_spectrum) + of(s.return_spectrum) + of(s.residual_spectrum) +
                 of(s.remainder_spectrum) + of_vector(s.depth.master) + of_vector(s.depth.residual) +
                 of_vector(s.short_pieces.mm) + of_vector(s.short_pieces.mr) + of_vector(s.short_pieces.rr);
  for (const Overview* o : {&r.master_overview, &r.return_overview, &s.residual_overview}) bytes += o->bytes();
  for (const LoudnessPieces* p : {&s.master_pieces, &s.return_pieces, &s.residual_pieces}) bytes += of_vector(*p);
  return bytes;
}

size_t bytes_of(const Explanation& why) {
  constexpr size_t each_layer = 1 << 20;  // a gain's course over the pair, a response
  const auto& split = why.split;
  return sizeof(Explanation) + 3 * (of(split.master) + of(split.residual) + of(split.linear) + of(split.remainder)) +
         of_vector(why.mask.over_db) + why.layers.layers.size() * each_layer;
}

Analysis::Opened Analysis::open(const std::filesystem::path& file, const Job& job) {
  const std::string print = fingerprint(file), key = file.native() + "|" + print;
  if (const auto kept = clips_.find(key)) return *kept;
  const Opened opened{print, Clip::open(file, job)};
  ++steps_.opened;
  if (fingerprint(file) == print) clips_.keep(key, opened, bytes_of(*opened.clip));  // else it changed meanwhile
  return opened;
}

void Analysis::keep(const std::string& key, const AnalysisInput& input, const AnalysisResult& result) {
  if (!holds(input, result)) return;
  done_.keep(key, {result.report, result.why, result.measured},
             bytes_of(*result.report) + (result.why ? bytes_of(*result.why) : 0));
}

Comparable Analysis::comparable_of(const AnalysisInput& input, const AnalysisResult& result, const std::string& key,
                                   const Job& job) {
  if (const auto kept = pairs_.find(key)) return *kept;
  const Comparable pair = comparable(result.master, result.ret, job);
  ++steps_.compared;
  if (holds(input, result)) pairs_.keep(key, pair, bytes_of(*pair.master) + bytes_of(*pair.ret));
  return pair;
}

/// As it is measured, by the part of the signal that was asked for.
Fit Analysis::fit_of(const AnalysisInput& input, const AnalysisResult& result, const std::string& key, const Job& job) {
  const auto kept = [&](const std::optional<FitBy>& by, const std::function<Fit()>& find) {
    const std::string of = key_of_fit(key, input, by);
    if (const auto before = fits_.find(of)) return *before;
    const Fit fit = find();
    if (holds(input, result)) fits_.keep(of, fit, fit_bytes);
    return fit;
  };
  const Comparable& pair = result.pair;
  const Fit whole = kept({}, [&] { return find_fit(*pair.master, *pair.ret, input.fit, job.part(0, 0.6)); });
  if (!input.hold.by) return whole;
  return kept(input.hold.by,
              [&] { return find_fit_by(pair.master, pair.ret, whole, *input.hold.by, job.part(0.6, 1)); });
}

AnalysisResult Analysis::null(const AnalysisInput& input, const Grant& grant, const Job& job) {
  AnalysisResult result;
  const Opened master = open(input.master, job.part(0, 0.1));
  result.master = master.clip, result.master_print = master.print;
  if (input.chain) {
    result.ret_print = chain_fingerprint(*input.chain);
    auto made = returns_.make(result.master, master.print, *input.chain, job.part(0.1, 0.25), grant);
    result.ret = made.ret, result.stages = std::move(made.stages);
    result.disarmed = disarmed_stages(*input.chain, grant).size();
  } else {
    const Opened ret = open(input.ret, job.part(0.1, 0.25));
    result.ret = ret.clip, result.ret_print = ret.print;
  }
  const std::string key = key_of_pair(result);
  result.pair = comparable_of(input, result, key, job.part(0.25, 0.5));
  const std::string whole_key = key + "|" + key_of(input);
  if (const auto kept = done_.find(whole_key)) {
    result.report = kept->report, result.measured = kept->measured;
    return result;
  }
  NullOptions options{input.fit, {}};
  if (input.hold.any())
    options.held_fit = with_hold(result.measured = fit_of(input, result, key, job.part(0.5, 0.7)), input.hold);
  result.report = std::make_shared<NullReport>(
      null_test(*result.master, *result.ret, result.pair, options, job.part(input.hold.any() ? 0.7 : 0.5, 1)));
  if (!input.hold.any()) result.measured = result.report->fit;
  if (!input.hold.any() && holds(input, result)) fits_.keep(key_of_fit(key, input, {}), result.measured, fit_bytes);
  ++steps_.nulled;
  keep(whole_key, input, result);
  return result;
}

AnalysisResult Analysis::explained(const AnalysisInput& input, const AnalysisResult& null, const Job& job) {
  AnalysisResult result = null;
  const std::string key = key_of_pair(null) + "|" + key_of(input) + "|why|" + key_of(input.floor);
  if (const auto kept = done_.find(key)) {
    result.report = kept->report, result.why = kept->why;
    return result;
  }
  ExplainOptions options;
  if (input.floor) options.floor = spectrum_of(*input.floor, *null.report, job.part(0, 0.1));
  auto report = std::make_shared<NullReport>(*null.report);
  result.why =
      std::make_shared<Explanation>(explain(*null.master, *null.ret, null.pair, *report, options, job.part(0.1, 1)));
  result.report = std::move(report);
  ++steps_.explained;
  keep(key, input, result);
  return result;
}

/// What the route alone leaves, at the master's level: of a recording of silence, or of one that is nulled with its
/// master.
Spectrum Analysis::spectrum_of(const Floor& floor, const NullReport& report, const Job& job) {
  const auto recording = open(floor.recording.file, job.part(0, 0.2)).clip;
  if (floor.master)
    return null_test(open(floor.master->file, job.part(0.2, 0.3)).clip, recording, {}, job.part(0.3, 1))
        .sums.residual_spectrum;
  const auto at_rate = Clip::at_rate(recording, report.master.sample_rate_hz, job.part(0.2, 0.6));
  auto spectrum = average_spectrum(*at_rate, floor_points, 0, -1, floor_blocks, job.part(0.6, 1));
  for (double& power : spectrum.power) power /= report.fit.gain() * report.fit.gain();
  return spectrum;
}

}  // namespace heathmist
