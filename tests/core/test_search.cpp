// The pieces of the search for a fit: sketches, candidates, anchors, lines, phases.
#include <QtTest>
#include <cmath>
#include <numbers>

#include "core/compare/anchors.hpp"
#include "core/stages/encoder.hpp"
#include "tests/support/signals.hpp"

using namespace heathmist;
using namespace heathmist::test;

class TestSearch : public QObject {
  Q_OBJECT

 private slots:
  void plans_hold_long_pairs_in_little_room() {
    for (const double hours : {0.01, 0.2, 1.0, 6.0}) {
      const auto frames = int64_t(hours * 3600 * 96000);
      const auto plan = plan_sketches(96000, frames);
      QVERIFY(frames / plan.step <= (1 << 22) + 1);
      QCOMPARE(plan.kind == SketchKind::energy, 96000 / plan.step < 1500);
    }
  }

  void mixtures_cancel_nothing() {
    const auto both = uneven_mixture(2);
    QVERIFY(both[0] != both[1] && both[0] != -both[1]);
    QCOMPARE(single_channel(3, 1), (Mixture{0, 1, 0}));
  }

  void candidates_hold_the_truth_in_waveforms_and_energies() {
    const Programme programme(20, 3);
    const auto sound = programme.render(48000);
    Planar late(2, sound.frames() + 70000);
    for (int c = 0; c < 2; ++c)
      for (int64_t n = 0; n < sound.frames(); ++n)
        late.channel(c)[size_t(n + 70000)] = -0.3 * sound.channel(c)[size_t(n)];
    const auto m = Clip::open(save(folder_ / "m.wav", sound, 48000));
    const auto r = Clip::open(save(folder_ / "r.wav", with_noise(late, 0.003, 4), 48000));
    for (const SketchPlan plan : {SketchPlan{6, SketchKind::waveform}, SketchPlan{48, SketchKind::energy}}) {
      const auto from = sketch(*m, uneven_mixture(2), plan, {}), to = sketch(*r, uneven_mixture(2), plan, {});
      const auto delays = coarse_delays(from, to, {});
      const bool there = std::any_of(delays.begin(), delays.end(),
                                     [&](double d) { return std::abs(d - 70000) <= 2.0 * double(plan.step); });
      QVERIFY2(there, plan.kind == SketchKind::energy ? "energy" : "waveform");
    }
  }

  void anchors_find_themselves() {
    const Programme programme(15, 5);
    const auto m = Clip::open(save(folder_ / "m.wav", programme.render(44100), 44100));
    const auto r = Clip::open(save(folder_ / "r.wav", programme.render(44100, 321.5), 44100));
    const auto plan = plan_sketches(44100, 2 * m->format().frames);
    auto anchors =
        place_anchors(sketch(*m, uneven_mixture(2), plan, {}), m->format().frames, r->format().frames, 320, 20);
    QVERIFY(anchors.size() > 10);
    for (size_t n = 1; n < anchors.size(); ++n) QVERIFY(anchors[n].at >= anchors[n - 1].at);
    find_anchors(anchors, *m, *r, uneven_mixture(2), uneven_mixture(2), 320, 200, {});
    for (const auto& a : anchors) QVERIFY(std::abs(a.delay - 321.5) < 0.3);
    const auto line = line_through(anchors);
    QVERIFY(line.share > 0.95 && std::abs(line.delay - 321.5) < 0.3 && std::abs(line.drift_ppm) < 2);
  }

  void silence_has_no_anchors() {
    const auto clip = Clip::open(save(folder_ / "s.wav", Planar(2, 100000), 44100));
    const auto quiet = sketch(*clip, uneven_mixture(2), {5, SketchKind::waveform}, {});
    QVERIFY(place_anchors(quiet, 100000, 100000, 0, 20).empty());
    QVERIFY(place_anchors(quiet, 100000, 100000, 99999, 20).empty());
  }

  void a_line_outvotes_strays() {
    dsp::Noise chance(9);
    for (const double drift : {0.0, 40e-6, -700e-6}) {
      std::vector<Anchor> anchors;
      for (int n = 0; n < 40; ++n) {
        const int64_t at = 100000 * n;
        const bool stray = n % 4 == 1;
        anchors.push_back(
            {at, 32768, stray ? chance.between(-9000, 9000) : 77 + drift * double(at) + chance.between(-0.1, 0.1), 5});
      }
      const auto line = line_through(anchors);
      QVERIFY2(std::abs(line.delay - 77) < 1 && std::abs(line.drift_ppm - drift * 1e6) < 0.6,
               qPrintable(QString::number(line.drift_ppm)));
      QVERIFY(line.share > 0.7 && line.share < 0.85);
    }
  }

  void phases_tell_delays_and_polarity() {
    constexpr size_t size = CrossSpectra::size;
    dsp::Noise chance(10);
    for (const double delay : {0.0, 0.003, -0.49, 7.25, -300.125}) {
      for (const double sign : {1.0, -1.0}) {
        std::vector<std::complex<double>> cross(size / 2 + 1);
        std::vector<double> weights(cross.size(), 1);
        for (size_t k = 0; k < cross.size(); ++k)
          cross[k] =
              sign * std::polar(chance.between(0.5, 2), -2 * std::numbers::pi * double(k) * delay / double(size));
        weights.front() = weights.back() = 0;
        const auto found = phase_delay(cross, weights);
        QVERIFY2(std::abs(found.samples - delay) < 1e-6, qPrintable(QString::number(found.samples)));
        QCOMPARE(found.inverted, sign < 0);
      }
    }
    QCOMPARE(phase_delay(std::vector<std::complex<double>>(size / 2 + 1), std::vector<double>(size / 2 + 1)).samples,
             0.0);
  }

  void overlaps_leave_room_to_interpolate() {
    Fit fit;
    set_overlap(fit, 1000, 900);
    QCOMPARE(fit.first, int64_t(0));
    QCOMPARE(fit.last, int64_t(900));
    fit.delay_samples = -100;
    set_overlap(fit, 1000, 900);
    QCOMPARE(fit.first, int64_t(100));
    QCOMPARE(fit.last, int64_t(1000));
    // Between samples, all that the interpolator reads lies in the return; a short one gives up 1/64 at each end.
    fit.delay_samples = 10.5;
    set_overlap(fit, 1'000'000, 900'000);
    constexpr auto after = int64_t(dsp::FullBandStretch::after);
    QVERIFY(fit.first >= after && fit.last + 11 + after <= 900'000 && fit.last - fit.first > 890'000);
    set_overlap(fit, 1000, 900);
    QVERIFY(fit.first >= 14 && fit.last <= 876 && fit.last - fit.first > 850);
    fit.delay_samples = 5000;
    set_overlap(fit, 1000, 900);
    QCOMPARE(fit.first, fit.last);
  }

  /// Each transformed once, every channel against every other is what each pair by itself is, to the last bit.
  void all_against_all_is_every_pair() {
    dsp::Noise chance(6);
    Planar master(4, 60000), ret(3, 60000);
    for (Planar* p : {&master, &ret})
      for (int c = 0; c < p->channels(); ++c)
        for (double& x : p->channel(c)) x = 0.1 * chance.gaussian();
    for (int64_t n = 0; n < ret.frames(); ++n) ret.channel(1)[size_t(n)] += master.channel(2)[size_t(n)];
    const auto m = Clip::open(save(folder_ / "m.wav", master, 48000, WordFormat::float64));
    const auto r = Clip::open(save(folder_ / "r.wav", ret, 48000, WordFormat::float64));
    const std::vector<Anchor> anchors{{0, 16384, 0, 0}, {20000, 16384, 0, 0}, {43000, 16384, 0, 0}};
    std::vector<ChannelPair> pairs;
    for (int a = 0; a < 4; ++a)
      for (int b = 0; b < 3; ++b) pairs.push_back({a, b});
    const auto one_by_one = cross_spectra(anchors, *m, *r, pairs, 2.25, 0, {});
    const auto all = cross_all(anchors, *m, *r, 2.25, 0, {});
    for (size_t p = 0; p < pairs.size(); ++p) {
      const auto own = all.pair(pairs[p].master, pairs[p].ret);
      QVERIFY(own.master == one_by_one[p].master && own.ret == one_by_one[p].ret && own.cross == one_by_one[p].cross);
      QCOMPARE(own.blocks, one_by_one[p].blocks);
      QCOMPARE(own.peak_power, one_by_one[p].peak_power);
    }
  }

  /// Sixteen channels of noise come back in another order, some upside down.
  void many_channels_are_found_in_any_order() {
    constexpr int channels = 16;
    dsp::Noise chance(8);
    Planar master(channels, 96000), ret(channels, 96000);
    for (int c = 0; c < channels; ++c)
      for (double& x : master.channel(c)) x = 0.1 * chance.gaussian();
    for (int c = 0; c < channels; ++c)
      for (size_t n = 0; n < 96000; ++n)
        ret.channel((5 * c + 3) % channels)[n] = (c % 3 == 0 ? -1 : 1) * master.channel(c)[n];
    const auto fit = find_fit(*Clip::open(save(folder_ / "m.wav", master, 48000)),
                              *Clip::open(save(folder_ / "r.wav", ret, 48000)), {});
    QVERIFY(fit.trusted && fit.delay_samples == 0);
    for (const ChannelPair& p : fit.pairs) {
      QCOMPARE(p.ret, (5 * p.master + 3) % channels);
      QCOMPARE(p.inverted, p.master % 3 == 0);
    }
  }

  void skewed_channels_are_reported_not_applied() {
    const Programme programme(8, 12);
    const auto sound = programme.render(48000), late = programme.render(48000, 6.5);
    Planar ret = sound;
    for (int64_t n = 0; n < ret.frames(); ++n) ret.channel(1)[size_t(n)] = 0.9 * late.channel(1)[size_t(n)];
    const auto report = null_of(save(folder_ / "m.wav", sound, 48000), save(folder_ / "r.wav", ret, 48000));
    QVERIFY(report.fit.trusted);
    const auto& p = report.fit.pairs;
    QVERIFY2(std::abs(p[1].delay_samples - p[0].delay_samples - 6.5) < 0.01,
             qPrintable(QString::number(p[1].delay_samples)));
    QVERIFY(std::abs(p[1].gain_db - p[0].gain_db - 20 * std::log10(0.9)) < 0.05);
    QVERIFY(std::any_of(report.findings.begin(), report.findings.end(),
                        [](const auto& f) { return f.code == "channel_delay"; }));
  }

 private:
  Folder folder_;
};

QTEST_GUILESS_MAIN(TestSearch)
#include "test_search.moc"
