#include "core/delivery/responses.hpp"

#include <fmt/format.h>

#include <chrono>

#include "core/audio/scratch.hpp"
#include "core/compare/json.hpp"
#include "core/dsp/noise.hpp"
#include "core/stages/chain.hpp"

namespace heathmist {

namespace {

/// Some seconds of noise through the convolution itself, on one thread.
class Workload {
 public:
  explicit Workload(int rate_hz) {
    dsp::Noise chance(1);
    Planar noise(2, int64_t(seconds) * rate_hz);
    for (int c = 0; c < 2; ++c)
      for (double& v : noise.channel(c)) v = 0.1 * chance.gaussian();
    noise_ = made_clip(noise, rate_hz, "noise");
  }
  /// `length_s`: of the response that is used; 0: all of it.
  double work(const std::filesystem::path& response, double length_s, const Job& job) const {
    Chain chain;
    chain.stages = {{"convolution", {{"response", response.string()}, {"length_ms", 1000 * length_s}}}};
    const auto begun = std::chrono::steady_clock::now();
    pass(noise_, chain, Job{job.stop, {}, 1});
    return std::chrono::duration<double>(std::chrono::steady_clock::now() - begun).count() / seconds;
  }

 private:
  static constexpr int seconds = 5;
  std::shared_ptr<const Clip> noise_;
};

}  // namespace

std::shared_ptr<const Spectrum> programme_spectrum(const std::filesystem::path& master, const Job& job) {
  constexpr size_t fft_size = 8192;
  constexpr int most_blocks = 400;
  const auto clip = Clip::open(master, job.part(0, 0.5));
  return std::make_shared<const Spectrum>(average_spectrum(*clip, fft_size, 0, -1, most_blocks, job.part(0.5, 1)));
}

ResponseStudy study_response_file(const std::filesystem::path& file, const Spectrum* programme, const Job& job) {
  const auto clip = Clip::open(file, job.part(0, 0.1));
  const int rate_hz = clip->format().sample_rate_hz;
  ResponseStudy study;
  study.reading = study_response(*clip, job.part(0.1, 0.2));
  for (const auto& frames : enough_frames(*clip, response_cuts_db, programme, job.part(0.2, 0.7)))
    study.cuts.push_back({frames, {}});
  if (clip->format().channels > 2) return study;
  const Workload load(rate_hz);
  study.work = load.work(file, 0, job);
  for (size_t n = 0; n < study.cuts.size(); ++n) {
    auto& cut = study.cuts[n];
    if (cut.frames) cut.work = load.work(file, double(*cut.frames) / rate_hz, job);
    job.part(0.7, 1).report(double(n + 1) / double(study.cuts.size()));
  }
  return study;
}

Json response_json(const std::filesystem::path& file, const ResponseStudy& s) {
  const ImpulseResponse& r = s.reading;
  Json line{{"response", file.filename().string()},
            {"rate_hz", r.sample_rate_hz},
            {"channels", r.channels},
            {"length_s", r.length_s},
            {"onset_s", r.onset_s},
            {"edt_s", number_or_null(r.edt_s)},
            {"t20_s", number_or_null(r.t20_s)},
            {"t30_s", number_or_null(r.t30_s)},
            {"clarity_db", number_or_null(r.clarity_db)},
            {"noise_dbr", number_or_null(r.noise_dbr)},
            {"work_share", number_or_null(s.work)}};
  for (size_t n = 0; n < s.cuts.size(); ++n) {
    const std::string key = fmt::format("enough_at_{:g}_", -response_cuts_db[n]);
    const auto& cut = s.cuts[n];
    line[key + "s"] = cut.frames ? Json(double(*cut.frames) / r.sample_rate_hz) : Json(nullptr);
    line[key + "work_share"] = number_or_null(cut.work);
  }
  return line;
}

}  // namespace heathmist
