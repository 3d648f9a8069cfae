#include "core/measure/impulse_response.hpp"

#include <algorithm>
#include <cmath>
#include <complex>

#include "core/dsp/fft.hpp"

namespace heathmist {

namespace {

constexpr double longest_s = 60, early_s = 0.08;  // as the stage `convolution` takes them

Planar all_of(const Clip& clip) {
  if (clip.format().duration_s() > longest_s)
    throw InputError(clip.path(), "it lasts over a minute, and no impulse response does; bring in the response itself");
  Planar sound;
  clip.reader()->read(0, clip.format().frames, sound);
  return sound;
}

/// Energy by frame, all channels together.
std::vector<double> energy_of(const Planar& sound) {
  std::vector<double> e(size_t(sound.frames()), 0);
  for (int c = 0; c < sound.channels(); ++c)
    for (size_t n = 0; n < e.size(); ++n) e[n] += sound.channel(c)[n] * sound.channel(c)[n];
  return e;
}

double mean(const std::vector<double>& e, size_t from, size_t until) {
  double sum = 0;
  for (size_t n = from; n < until; ++n) sum += e[n];
  return until > from ? sum / double(until - from) : 0;
}

/// Mean energy a frame of what is steady at the end: the last tenth is as loud as the one before it.
double noise_of(const std::vector<double>& e) {
  const size_t tenth = e.size() / 10;
  if (tenth < 100) return 0;
  const double last = mean(e, e.size() - tenth, e.size()), before = mean(e, e.size() - 2 * tenth, e.size() - tenth);
  return last > 0 && std::abs(10 * std::log10(before / last)) < 1.5 ? last : 0;
}

/// Where the decay comes within 5 dB of the noise, by means over 10 ms.
size_t knee_of(const std::vector<double>& e, size_t from, double noise, double rate) {
  if (noise == 0) return e.size();
  const auto span = std::max<size_t>(1, size_t(0.01 * rate));
  for (size_t n = from; n + span <= e.size(); n += span)
    if (mean(e, n, n + span) < noise * std::pow(10, 0.5)) return n;
  return e.size();
}

size_t onset_of(const std::vector<double>& e, size_t peak) {
  size_t n = 0;
  while (n < peak && e[n] < 0.01 * e[peak]) ++n;
  return n;
}

/// Slope of the decay between two levels, as the time of 60 dB (least squares, ISO 3382-1). None: it does not fall so
/// far.
std::optional<double> time_of(const std::vector<std::pair<double, double>>& decay, double range_db, double from_db,
                              double until_db) {
  if (decay.empty() || decay.back().second > until_db - 10 || range_db < 10 - until_db) return {};
  double count = 0, t = 0, l = 0, tt = 0, tl = 0;
  for (const auto& [at, db] : decay) {
    if (db > from_db || db < until_db) continue;
    ++count, t += at, l += db, tt += at * at, tl += at * db;
  }
  const double det = count * tt - t * t;
  if (count < 3 || det <= 0) return {};
  const double slope = (count * tl - t * l) / det;
  return slope < 0 ? std::optional(-60 / slope) : std::nullopt;
}

std::vector<std::pair<double, double>> decay_of(const std::vector<double>& e, size_t onset, size_t knee, double noise,
                                                double rate) {
  std::vector<double> left(knee - onset + 1, 0);
  for (size_t n = knee; n-- > onset;) left[n - onset] = left[n - onset + 1] + std::max(0.0, e[n] - noise);
  std::vector<std::pair<double, double>> decay;
  constexpr size_t points = 1000;
  const size_t stride = std::max<size_t>(1, left.size() / points);
  for (size_t n = 0; n + 1 < left.size() && left[n] > 1e-14 * left[0]; n += stride)
    decay.emplace_back(double(n) / rate, 10 * std::log10(left[n] / left[0]));
  return decay;
}

SpectrumLine gain_of(const Planar& sound, double rate) {
  dsp::RealFft<double> fft(dsp::good_fft_size(size_t(std::max<int64_t>(4096, sound.frames()))));
  Spectrum spectrum{rate / double(fft.size()), std::vector<double>(fft.bins(), 0)};
  for (int c = 0; c < sound.channels(); ++c) {
    std::copy_n(sound.channel(c).begin(), sound.frames(), fft.time().begin());
    std::fill(fft.time().begin() + sound.frames(), fft.time().end(), 0.0);
    fft.forward();
    for (size_t k = 0; k < fft.bins(); ++k) spectrum.power[k] += std::norm(fft.spectrum()[k]) / sound.channels();
  }
  SpectrumLine line = smoothed(spectrum, 20, 20000, response_lines, true, 6);
  for (size_t n = 0; n < line.hz.size(); ++n)
    if (line.hz[n] > rate / 2) line.db[n] = -200;
  return line;
}

}  // namespace

ImpulseResponse study_response(const Clip& clip, const Job& job) {
  const Planar sound = all_of(clip);
  const auto e = energy_of(sound);
  job.check();
  const double rate = clip.format().sample_rate_hz;
  const auto peak = size_t(std::max_element(e.begin(), e.end()) - e.begin());
  if (e.empty() || e[peak] == 0) throw InputError(clip.path(), "it is silent; bring in the response itself");
  ImpulseResponse r;
  r.sample_rate_hz = clip.format().sample_rate_hz, r.channels = clip.format().channels;
  r.length_s = clip.format().duration_s(), r.peak_s = double(peak) / rate;
  const size_t onset = onset_of(e, peak);
  r.onset_s = double(onset) / rate;
  const double noise = noise_of(e);
  const size_t knee = knee_of(e, peak, noise, rate);
  if (noise > 0) r.noise_dbr = 10 * std::log10(noise / e[peak]);
  r.decay = decay_of(e, onset, std::max(knee, onset + 1), noise, rate);
  const double begins = mean(e, onset, std::min(e.size(), onset + size_t(0.03 * rate) + 1));
  const double range_db = noise > 0 ? 10 * std::log10(begins / noise) : 400;
  r.edt_s = time_of(r.decay, range_db, 0, -10), r.t20_s = time_of(r.decay, range_db, -5, -25);
  r.t30_s = time_of(r.decay, range_db, -5, -35);
  const size_t border = std::min(e.size(), onset + size_t(early_s * rate));
  double early = 0, late = 0;
  for (size_t n = onset; n < knee; ++n) (n < border ? early : late) += std::max(0.0, e[n] - noise);
  if (late > 0 && early > 0) r.clarity_db = 10 * std::log10(early / late);
  r.gain = gain_of(sound, rate);
  job.report(1);
  return r;
}

namespace {

/// Power of a programme in each bin of a transform; white where there is none.
std::vector<double> weights_of(const Spectrum* programme, size_t bins, double bin_hz) {
  std::vector<double> weights(bins, 1);
  if (!programme) return weights;
  const auto& power = programme->power;
  for (size_t k = 0; k < bins; ++k) {
    const double place = double(k) * bin_hz / programme->bin_hz;
    const auto at = size_t(place);
    weights[k] = at + 1 < power.size() ? power[at] + (place - double(at)) * (power[at + 1] - power[at]) : 0;
  }
  return weights;
}

/// Mean power that a programme has behind a stretch of a response of so many frames at most.
class Through {
 public:
  Through(int64_t most_frames, double rate, const Spectrum* programme)
      : fft_(dsp::good_fft_size(size_t(std::max<int64_t>(64, most_frames)))),
        weights_(weights_of(programme, fft_.bins(), rate / double(fft_.size()))) {}
  double power(const Planar& response, int64_t from, int64_t until) {
    double sum = 0;
    for (int c = 0; c < response.channels(); ++c) {
      std::fill(fft_.time().begin(), fft_.time().end(), 0.0);
      std::copy_n(response.channel(c).begin() + from, until - from, fft_.time().begin());
      fft_.forward();
      for (size_t k = 0; k < fft_.bins(); ++k)
        sum += weights_[k] * std::norm(fft_.spectrum()[k]) * (k == 0 || k + 1 == fft_.bins() ? 0.5 : 1);
    }
    return sum;
  }

 private:
  dsp::RealFft<double> fft_;
  std::vector<double> weights_;
};

/// `one` less `other`, which is as good as silent behind its end; one channel stands for all.
Planar difference(const Planar& one, const Planar& other) {
  Planar apart(std::max(one.channels(), other.channels()), std::max(one.frames(), other.frames()));
  for (int c = 0; c < apart.channels(); ++c) {
    const auto x = one.channel(std::min(c, one.channels() - 1)), y = other.channel(std::min(c, other.channels() - 1));
    for (size_t n = 0; n < size_t(apart.frames()); ++n)
      apart.channel(c)[n] = (n < x.size() ? x[n] : 0) - (n < y.size() ? y[n] : 0);
  }
  return apart;
}

}  // namespace

std::vector<std::optional<int64_t>> enough_frames(const Clip& clip, std::span<const double> under_db,
                                                  const Spectrum* programme, const Job& job) {
  const Planar response = all_of(clip);
  const int64_t frames = response.frames(), close = std::max(1, clip.format().sample_rate_hz / 2000);
  Through through(frames, clip.format().sample_rate_hz, programme);
  const double whole = through.power(response, 0, frames);
  std::vector<std::optional<int64_t>> enough;
  for (const double db : under_db) {
    int64_t low = 0, high = frames;  // behind `high` there is little enough
    while (high - low > close) {
      job.check();
      const int64_t middle = (low + high) / 2;
      (through.power(response, middle, frames) <= whole * std::pow(10, db / 10) ? high : low) = middle;
    }
    enough.push_back(high < frames ? std::optional(high) : std::nullopt);
    job.report(double(enough.size()) / double(under_db.size()));
  }
  return enough;
}

ResponseNull null_responses(std::shared_ptr<const Clip> a, std::shared_ptr<const Clip> b, const Spectrum* programme,
                            const Job& job) {
  const int rate = a->format().sample_rate_hz;
  if (b->format().sample_rate_hz != rate) b = Clip::at_rate(std::move(b), rate, job.part(0, 0.3));
  const Planar first = all_of(*a), apart = difference(first, all_of(*b));
  const auto e = energy_of(first);
  const auto peak = size_t(std::max_element(e.begin(), e.end()) - e.begin());
  if (e.empty() || e[peak] == 0) throw InputError(a->path(), "it is silent; bring in the response itself");
  Through through(apart.frames(), rate, programme);
  const double whole = through.power(first, 0, first.frames()) * apart.channels() / first.channels();
  const int64_t border = std::min(apart.frames(), int64_t(onset_of(e, peak)) + int64_t(early_s * rate));
  const auto db = [&](int64_t from, int64_t until) {
    return 10 * std::log10(std::max(through.power(apart, from, until) / whole, 1e-30));
  };
  const ResponseNull null{db(0, apart.frames()), db(0, border), db(border, apart.frames())};
  job.report(1);
  return null;
}

WrongRate at_wrong_rate(int its_hz, int taken_for_hz) {
  const double factor = double(taken_for_hz) / its_hz;
  return {1200 * std::log2(factor), 1 / factor};
}

}  // namespace heathmist
