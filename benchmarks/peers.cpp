#include "benchmarks/peers.hpp"

#include <ebur128.h>
#include <fftw3.h>
#include <sndfile.h>

#include <cmath>
#include <complex>
#include <vector>

#include "core/audio/write.hpp"
#include "core/dsp/noise.hpp"
#include "core/stages/encoder.hpp"

namespace heathmist::peers {

namespace {

std::vector<double> read_mono(const std::filesystem::path& file, std::vector<double>* interleaved) {
  SF_INFO info{};
  SNDFILE* sound = sf_open(file.c_str(), SFM_READ, &info);
  interleaved->resize(size_t(info.frames) * size_t(info.channels));
  sf_readf_double(sound, interleaved->data(), info.frames);
  sf_close(sound);
  std::vector<double> mono(size_t(info.frames), 0.0);
  for (size_t n = 0; n < mono.size(); ++n)
    for (int c = 0; c < info.channels; ++c) mono[n] += (*interleaved)[n * size_t(info.channels) + size_t(c)];
  return mono;
}

double welch(const std::vector<double>& interleaved, size_t channels) {
  constexpr size_t size = 16384;
  std::vector<double> window(size), sum(size / 2 + 1, 0.0);
  for (size_t n = 0; n < size; ++n) window[n] = 0.5 - 0.5 * std::cos(2 * M_PI * double(n) / size);
  double* in = fftw_alloc_real(size);
  fftw_complex* out = fftw_alloc_complex(size / 2 + 1);
  fftw_plan plan = fftw_plan_dft_r2c_1d(size, in, out, FFTW_ESTIMATE);
  for (size_t at = 0; (at + size) * channels <= interleaved.size(); at += size / 2)
    for (size_t c = 0; c < channels; ++c) {
      for (size_t n = 0; n < size; ++n) in[n] = window[n] * interleaved[(at + n) * channels + c];
      fftw_execute(plan);
      for (size_t k = 0; k < sum.size(); ++k) sum[k] += out[k][0] * out[k][0] + out[k][1] * out[k][1];
    }
  fftw_destroy_plan(plan);
  fftw_free(in);
  fftw_free(out);
  return sum[100];
}

}  // namespace

double whole_file_correlation(const std::filesystem::path& master, const std::filesystem::path& ret) {
  std::vector<double> m_all, r_all;
  const auto m = read_mono(master, &m_all), r = read_mono(ret, &r_all);
  size_t size = 1;
  while (size < m.size() + r.size()) size *= 2;
  double* time = fftw_alloc_real(size);
  auto* a = fftw_alloc_complex(size / 2 + 1);
  auto* b = fftw_alloc_complex(size / 2 + 1);
  auto transform = [&](const std::vector<double>& x, fftw_complex* out) {
    std::fill(time, time + size, 0.0);
    std::copy(x.begin(), x.end(), time);
    fftw_plan plan = fftw_plan_dft_r2c_1d(int(size), time, out, FFTW_ESTIMATE);
    fftw_execute(plan);
    fftw_destroy_plan(plan);
  };
  transform(m, a);
  transform(r, b);
  for (size_t k = 0; k <= size / 2; ++k) {
    const auto cross = std::conj(std::complex(a[k][0], a[k][1])) * std::complex(b[k][0], b[k][1]);
    a[k][0] = cross.real();
    a[k][1] = cross.imag();
  }
  fftw_plan back = fftw_plan_dft_c2r_1d(int(size), a, time, FFTW_ESTIMATE);
  fftw_execute(back);
  fftw_destroy_plan(back);
  size_t best = 0;
  for (size_t n = 0; n < size; ++n)
    if (std::abs(time[n]) > std::abs(time[best])) best = n;
  fftw_free(time);
  fftw_free(a);
  fftw_free(b);
  volatile double kept = welch(m_all, 2) + welch(r_all, 2);
  (void)kept;
  return best > size / 2 ? double(best) - double(size) : double(best);
}

void bare_encode_and_decode(const std::filesystem::path& master, const Chain& chain,
                            const std::filesystem::path& folder) {
  if (chain.stages.size() != 1 || chain.stages[0].type != "codec") return;
  struct Known {
    const char *codec, *encoder, *ending;
  };
  const Json& v = chain.stages[0].values;
  for (const auto& [codec, encoder, ending] : {Known{"aac", "aac", ".m4a"},
                                               {"mp3", "libmp3lame", ".mp3"},
                                               {"opus", "libopus", ".opus"},
                                               {"vorbis", "libvorbis", ".ogg"},
                                               {"adpcm_ima", "adpcm_ima_wav", ".wav"}}) {
    if (v["codec"] != codec) continue;
    Encoding encoding{encoder, v.contains("bit_rate_kbps") ? 1000 * v["bit_rate_kbps"].get<int>() : 0};
    if (v.contains("quality")) encoding.quality = v["quality"].get<double>();
    auto clip = Clip::open(master);
    clip = Clip::at_rate(clip, rate_for_encoder(encoder, clip->format().sample_rate_hz));
    const auto file = folder / (std::string("bare") + ending);
    encode(*clip, encoding, file);
    Clip::open(file);
  }
}

double witness_measure(const std::filesystem::path& file) {
  SF_INFO info{};
  SNDFILE* sound = sf_open(file.c_str(), SFM_READ, &info);
  ebur128_state* state = ebur128_init(unsigned(info.channels), unsigned(info.samplerate),
                                      EBUR128_MODE_I | EBUR128_MODE_LRA | EBUR128_MODE_TRUE_PEAK);
  std::vector<double> block(size_t(info.channels) * 16384);
  for (sf_count_t got; (got = sf_readf_double(sound, block.data(), 16384)) > 0;)
    ebur128_add_frames_double(state, block.data(), size_t(got));
  sf_close(sound);
  double loudness = 0, range = 0;
  ebur128_loudness_global(state, &loudness);
  ebur128_loudness_range(state, &range);
  ebur128_destroy(&state);
  return loudness + 0 * range;
}

double plain_read(const std::filesystem::path& file) {
  SF_INFO info{};
  SNDFILE* sound = sf_open(file.c_str(), SFM_READ, &info);
  std::vector<double> block(size_t(info.channels) * 16384);
  double sum = 0;
  for (sf_count_t got; (got = sf_readf_double(sound, block.data(), 16384)) > 0;) sum += block[0];
  sf_close(sound);
  return sum;
}

void write_pair(const std::filesystem::path& master, const std::filesystem::path& ret, int rate_hz, double seconds,
                int delay, int channels) {
  dsp::Noise programme(1), hiss(2);
  ClipWriter m({master, true}, rate_hz, channels, WordFormat::pcm24),
      r({ret, true}, rate_hz, channels, WordFormat::pcm24);
  const auto frames = int64_t(seconds * rate_hz);
  constexpr int64_t block = 1 << 16;
  Planar out(channels, block), late(channels, block);
  const auto width = size_t(channels);
  std::vector<double> tail(size_t(delay) * width, 0.0), low(width, 0.0);  // what the return still owes, of all channels
  double level = 0.5;
  for (int64_t at = 0; at < frames; at += block) {
    const int64_t count = std::min(block, frames - at);
    for (int64_t n = 0; n < count; ++n) {
      if ((at + n) % (rate_hz / 8) == 0) level = programme.between(0.05, 1);
      for (size_t c = 0; c < width; ++c) {
        low[c] += 0.2 * (level * programme.between(-1, 1) - low[c]);
        out.channel(int(c))[size_t(n)] = low[c];
        const size_t place = size_t((at + n) % delay) * width + c;
        late.channel(int(c))[size_t(n)] = tail[place] + 1e-4 * hiss.between(-1, 1);
        tail[place] = low[c];
      }
    }
    m.write(out, count);
    r.write(late, count);
  }
  m.finish();
  r.finish();
}

}  // namespace heathmist::peers
