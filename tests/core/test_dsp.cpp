// The primitives against definitions: transforms by direct sums, vector loops by plain ones, chance by its moments.
#include <QtTest>
#include <cmath>
#include <numbers>
#include <numeric>
#include <thread>

#include "core/dsp/fft.hpp"
#include "core/dsp/full_band.hpp"
#include "core/dsp/interpolator.hpp"
#include "core/dsp/noise.hpp"
#include "core/dsp/shared_tables.hpp"
#include "core/dsp/simd.hpp"
#include "core/job.hpp"

using namespace heathmist;

class TestDsp : public QObject {
  Q_OBJECT

 private slots:
  void transforms_agree_with_the_definition_data() {
    QTest::addColumn<int>("size");
    for (const int size : {2, 6, 10, 64, 90, 250}) QTest::addRow("%d points", size) << size;
  }
  void transforms_agree_with_the_definition() {
    QFETCH(int, size);
    dsp::Noise chance{uint64_t(size)};
    dsp::RealFft<double> fft{size_t(size)};
    std::vector<double> in(static_cast<size_t>(size));
    for (double& x : in) x = chance.between(-1, 1);
    std::copy(in.begin(), in.end(), fft.time().begin());
    fft.forward();
    for (size_t k = 0; k < fft.bins(); ++k) {
      std::complex<double> sum = 0;
      for (size_t n = 0; n < in.size(); ++n)
        sum += in[n] * std::polar(1.0, -2 * std::numbers::pi * double(k) * double(n) / size);
      QVERIFY(std::abs(sum - fft.spectrum()[k]) < 1e-11);
    }
    fft.inverse();
    for (size_t n = 0; n < in.size(); ++n) QVERIFY(std::abs(fft.time()[n] / size - in[n]) < 1e-13);
  }

  void a_cosine_transform_is_its_sum() {
    for (const size_t size : {2, 6, 36, 512, 960}) {
      dsp::Dct4 dct(size);
      dsp::Noise chance(9);
      std::vector<double> in(size);
      for (double& v : in) v = chance.between(-1, 1);
      std::copy(in.begin(), in.end(), dct.values().begin());
      dct.run();
      for (size_t k = 0; k < size; ++k) {
        double sum = 0;
        for (size_t n = 0; n < size; ++n)
          sum += in[n] * std::cos(std::numbers::pi / double(size) * (double(n) + 0.5) * (double(k) + 0.5));
        QVERIFY2(std::abs(sum - dct.values()[k]) < 1e-11, qPrintable(QString("%1 %2").arg(size).arg(k)));
      }
      dct.run();  // and back
      for (size_t n = 0; n < size; ++n) QVERIFY(std::abs(dct.values()[n] * 2 / double(size) - in[n]) < 1e-12);
    }
  }

  void float_transforms_agree_with_double_ones() {
    dsp::Noise chance(4);
    dsp::RealFft<float> single(1000);
    dsp::RealFft<double> twice(1000);
    for (size_t n = 0; n < 1000; ++n) single.time()[n] = float(twice.time()[n] = float(chance.between(-1, 1)));
    single.forward();
    twice.forward();
    for (size_t k = 0; k < single.bins(); ++k)
      QVERIFY(std::abs(std::complex<double>(single.spectrum()[k]) - twice.spectrum()[k]) < 1e-3);
  }

  /// Plans and tables are shared by all transforms of a size, on all threads; their buffers are not.
  void transforms_of_one_size_do_not_disturb_each_other() {
    const auto energies_of = [](uint64_t seed) {
      dsp::Noise chance{seed};
      dsp::RealFft<double> fft(360);
      dsp::Dct4 dct(120);
      std::vector<double> energies;
      for (int round = 0; round < 200; ++round) {
        double before = 0, after = 0;
        for (double& x : fft.time()) x = chance.between(-1, 1), before += x * x;
        for (double& x : dct.values()) x = chance.between(-1, 1), before += x * x;
        fft.forward(), dct.run();
        for (size_t k = 0; k < fft.bins(); ++k)
          after += std::norm(fft.spectrum()[k]) * (k == 0 || k == 180 ? 1.0 : 2.0) / 360;
        for (const double x : dct.values()) after += x * x / 60;
        if (std::abs(before - after) > 1e-9) return std::vector<double>{};  // Parseval
        energies.push_back(after);
      }
      return energies;
    };
    std::vector<std::vector<double>> alone, together(8);
    for (size_t n = 0; n < 8; ++n) alone.push_back(energies_of(n));
    {
      std::vector<std::jthread> threads;
      for (size_t n = 0; n < 8; ++n) threads.emplace_back([&, n] { together[n] = energies_of(n); });
    }
    for (size_t n = 0; n < 8; ++n) QVERIFY(alone[n].size() == 200 && together[n] == alone[n]);
  }
  /// A plan that is let go, for want of room, lives on where it is used.
  void a_transform_outlives_what_is_kept_for_its_size() {
    dsp::RealFft<double> first(1000);
    for (size_t size = 30000; size < 30100; size += 2) dsp::RealFft<double>{size};  // more than is kept
    std::fill(first.time().begin(), first.time().end(), 1.0);
    first.forward();
    QVERIFY(std::abs(first.spectrum()[0] - 1000.0) < 1e-9 && std::abs(first.spectrum()[1]) < 1e-9);
    dsp::RealFft<double> again(1000);
    std::fill(again.time().begin(), again.time().end(), 1.0);
    again.forward();
    QCOMPARE(again.spectrum()[0], first.spectrum()[0]);
  }
  void tables_are_made_once_for_each_key() {
    dsp::SharedTables<int> tables(100);
    int made = 0;
    const auto table = [&](const char* key, size_t bytes) {
      return tables.get(key, bytes, [&] { return std::make_shared<const int>(++made); });
    };
    const auto first = table("a", 25);
    QVERIFY(*first == 1 && table("a", 25) == first);
    for (const char* key : {"b", "c", "d", "e"}) table(key, 25);  // "a" is let go for the last of them
    QVERIFY(made == 5 && *table("e", 25) == 5);
    QVERIFY(*first == 1 && *table("a", 25) == 6);
    QVERIFY(*table("large", 26) == 7 && *table("large", 26) == 8 && *table("e", 25) == 5);  // takes nobody's place
  }
  void good_sizes_have_small_factors() {
    for (const size_t n : {1u, 7u, 11u, 97u, 1023u, 4099u, 100003u}) {
      size_t size = dsp::good_fft_size(n), rest = size;
      QVERIFY(size >= n && size % 2 == 0);
      for (const size_t factor : {2u, 3u, 5u})
        while (rest % factor == 0) rest /= factor;
      QCOMPARE(rest, size_t(1));
    }
  }

  void windows_have_their_sums() {
    const auto hann = dsp::hann(512), harris = dsp::blackman_harris(512);
    QVERIFY(std::abs(std::reduce(hann.begin(), hann.end()) / 512 - 0.5) < 1e-12);
    QVERIFY(std::abs(std::inner_product(hann.begin(), hann.end(), hann.begin(), 0.0) / 512 - 0.375) < 1e-12);
    QVERIFY(std::abs(std::reduce(harris.begin(), harris.end()) / 512 - 0.35875) < 1e-12);
  }

  void vector_loops_agree_with_plain_ones() {
    dsp::Noise chance(6);
    for (const int64_t count : {1, 3, 15, 16, 33, 200, 1001}) {
      std::vector<double> in(size_t(count) + 159), h(160), other(160), out(static_cast<size_t>(count));
      for (auto* v : {&in, &h, &other})
        for (double& x : *v) x = chance.between(-1, 1);
      dsp::simd::convolve(in.data(), h.data(), 160, out.data(), count);
      for (size_t n = 0; n < out.size(); ++n)
        QVERIFY(std::abs(std::inner_product(h.begin(), h.end(), in.begin() + long(n), 0.0) - out[n]) < 1e-12);
      double blend = 0;
      for (size_t k = 0; k < 160; ++k) blend += in[k] * (0.3 * h[k] + 0.7 * other[k]);
      QVERIFY(std::abs(dsp::simd::blend_dot(in.data(), h.data(), other.data(), 0.7, 160) - blend) < 1e-12);
      const auto s = dsp::simd::summarize(in.data(), int64_t(in.size()));
      QCOMPARE(s.low, *std::min_element(in.begin(), in.end()));
      QCOMPARE(s.high, *std::max_element(in.begin(), in.end()));
      QVERIFY(std::abs(s.sum - std::reduce(in.begin(), in.end())) < 1e-11);
      QVERIFY(std::abs(s.square_sum - std::inner_product(in.begin(), in.end(), in.begin(), 0.0)) < 1e-11);
    }
    std::vector<double> bad(40, 0.1);
    bad[23] = NAN;
    QVERIFY(!std::isfinite(dsp::simd::summarize(bad.data(), 40).square_sum));
  }

  /// As many followers as fill a vector and some more, each as if it stood alone.
  void followers_side_by_side_follow_as_one_does() {
    dsp::Noise chance(16);
    constexpr int64_t piece = 7;
    for (const int count : {1, 2, 9, 24, 33, 72, 90})
      for (const int64_t frames : {1, 6, 7, 350, 1001}) {
        std::vector<float> values(static_cast<size_t>(frames)), weights(values.size()), up, down;
        for (size_t n = 0; n < values.size(); ++n)
          values[n] = float(chance.between(0, 1)), weights[n] = float(chance.between(0.1, 1));
        for (int k = 0; k < count; ++k) up.push_back(float(chance.between(0, 1))), down.push_back(up.back() / 50);
        const auto pieces = size_t((frames + piece - 1) / piece);
        std::vector<float> means(pieces * size_t(count), NAN);
        dsp::simd::follow({up.data(), down.data(), count, 0.3f}, values.data(), weights.data(), frames, piece,
                          means.data());
        for (size_t k = 0; k < size_t(count); ++k) {
          double now = 0.3f;
          for (size_t m = 0; m < pieces; ++m) {
            double sum = 0, all = 0;
            for (size_t n = m * piece; n < std::min(values.size(), (m + 1) * piece); ++n) {
              now += (values[n] - now) * (values[n] > now ? up[k] : down[k]);
              sum += now * weights[n], all += weights[n];
            }
            QVERIFY(std::abs(means[m * size_t(count) + k] - sum / all) < 2e-6);
          }
        }
      }
  }

  void a_shift_by_nothing_copies() {
    dsp::Noise chance(7);
    std::vector<double> in(500), out(in.size() - dsp::Interpolator::taps + 1);
    for (double& x : in) x = chance.between(-1, 1);
    dsp::Interpolator::shift(in, 0, out);
    for (size_t n = 0; n < out.size(); ++n) QCOMPARE(out[n], in[n + dsp::Interpolator::before]);
  }

  void stretching_reads_a_tone_at_any_place() {
    std::vector<double> in(6000), out(4000);
    auto tone = [](double n) { return std::sin(2 * std::numbers::pi * 0.21 * n); };
    for (size_t n = 0; n < in.size(); ++n) in[n] = tone(double(n));
    for (const double step : {1.00005, 0.99991, 1.3}) {
      dsp::Interpolator::stretch(in, 0.4, step, out);
      for (size_t n = 0; n < out.size(); ++n)
        QVERIFY(std::abs(out[n] - tone(0.4 + double(n) * step + dsp::Interpolator::before)) < 4e-6);
    }
  }

  /// Tones up to 0.998 of half the rate, at the block's ends too: one block, many blocks, few samples.
  void the_whole_band_is_read_between_samples() {
    dsp::Noise chance(11);
    for (const double share : {0.001, 0.4, 0.94, 0.985, 0.998}) {
      const double turn = std::numbers::pi * share, phase = chance.between(0, 6);
      auto tone = [&](double n) { return std::sin(turn * n + phase); };
      for (const size_t frames : {3, 4097, 5000, 40000}) {
        std::vector<double> in(frames + dsp::FullBand::taps - 1), out(frames);
        for (size_t n = 0; n < in.size(); ++n) in[n] = tone(double(n) - dsp::FullBand::before);
        const double fraction = chance.between(0.01, 0.99);
        dsp::FullBand(fraction).shift(in, out);
        double worst = 0;
        for (size_t n = 0; n < frames; ++n) worst = std::max(worst, std::abs(out[n] - tone(double(n) + fraction)));
        QVERIFY2(worst < 2e-6, qPrintable(QString("%1 at %2: %3").arg(share).arg(frames).arg(worst)));
        const double step = 1 + chance.between(-1e-3, 1e-3);
        using Stretch = dsp::FullBandStretch;
        in.resize(size_t(std::ceil(double(frames) * step)) + Stretch::before + Stretch::after + 2);
        for (size_t n = 0; n < in.size(); ++n) in[n] = tone(double(n) - Stretch::before);
        Stretch(step).stretch(in, fraction, out);
        if (share > 0.995) continue;  // what is read at another speed ends where the faster one does
        worst = 0;
        for (size_t n = 0; n < frames; ++n)
          worst = std::max(worst, std::abs(out[n] - tone(fraction + double(n) * step)));
        QVERIFY2(worst < 2e-6, qPrintable(QString("%1 stretched: %2").arg(share).arg(worst)));
      }
    }
  }

  void chance_is_the_same_everywhere_and_fair() {
    dsp::Noise a(42), b(42), c(43);
    QCOMPARE(a.bits(), b.bits());
    QVERIFY(a.bits() != c.bits());
    double sum = 0, squares = 0, triangular = 0, gaussian = 0;
    constexpr int count = 200000;
    for (int n = 0; n < count; ++n) {
      const double u = a.uniform(), t = a.triangular(), g = a.gaussian();
      QVERIFY(u >= 0 && u < 1 && std::abs(t) < 1);
      sum += u, squares += u * u, triangular += t * t, gaussian += g * g;
    }
    QVERIFY(std::abs(sum / count - 0.5) < 0.005);
    QVERIFY(std::abs(squares / count - 1.0 / 3) < 0.005);
    QVERIFY(std::abs(triangular / count - 1.0 / 6) < 0.005);
    QVERIFY(std::abs(gaussian / count - 1) < 0.02);
  }

  void work_is_spread_stopped_and_reported() {
    for (const int threads : {1, 2, 5}) {
      std::vector<int> done(1000, 0);
      double last = 0;
      Job job{{}, [&](double f) { last = std::max(last, f); }, threads};
      for_each_segment(
          1000, job, [] { return 0; }, [&](int&, int64_t i) { done[size_t(i)] += 1; });
      QVERIFY(std::all_of(done.begin(), done.end(), [](int n) { return n == 1; }));
      QCOMPARE(last, 1.0);
    }
    auto throwing = [] {
      for_each_segment(
          100, Job{{}, {}, 3}, [] { return 0; },
          [](int&, int64_t i) {
            if (i == 50) throw std::runtime_error("fifty");
          });
    };
    QVERIFY_EXCEPTION_THROWN(throwing(), std::runtime_error);
    std::stop_source stop;
    stop.request_stop();
    auto stopped = [&] {
      for_each_segment(
          10, Job{stop.get_token(), {}, 2}, [] { return 0; }, [](int&, int64_t) {});
    };
    QVERIFY_EXCEPTION_THROWN(stopped(), Cancelled);
    double part = 0;
    Job whole{{}, [&](double f) { part = f; }, 1};
    whole.part(0.2, 0.6).report(0.5);
    QVERIFY(std::abs(part - 0.4) < 1e-12);
  }
};

QTEST_GUILESS_MAIN(TestDsp)
#include "test_dsp.moc"
