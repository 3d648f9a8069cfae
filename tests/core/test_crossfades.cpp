// Crossfades between clips of known correlation: what each law does to their level, and what is made.
#include "core/delivery/crossfades.hpp"
#include "tests/support/stages.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

/// Two channels of noise; `share` of the first clip's own is in the second.
std::pair<Planar, Planar> noises(double correlation, uint64_t seed, int64_t frames = 96000) {
  dsp::Noise chance(seed);
  Planar a(2, frames), b(2, frames);
  for (int c = 0; c < 2; ++c)
    for (size_t n = 0; n < size_t(frames); ++n) {
      const double x = 0.1 * chance.gaussian(), y = 0.1 * chance.gaussian();
      a.channel(c)[n] = x, b.channel(c)[n] = correlation * x + std::sqrt(1 - correlation * correlation) * y;
    }
  return {a, b};
}

}  // namespace

class TestCrossfades : public StageTest {
  Q_OBJECT

 private slots:
  void the_correlation_decides_the_law() {
    for (const double r : {-0.5, 0.0, 0.5, 1.0}) {
      const auto [a, b] = noises(r, 3);
      const auto study = study_crossfade(clip(a), clip(b), {0.25, 0.25, 1.5});
      QVERIFY2(std::abs(study.correlation - r) < 0.01, qPrintable(QString::number(study.correlation)));
      for (const auto& law : study.laws) {
        const double g = fade_gain(law.law, 0.5), middle = 10 * std::log10(2 * g * g * (1 + r));
        const auto& got = law.level_db[law.level_db.size() / 2];
        QVERIFY2(std::abs(got.second - middle) < 0.35, label_of(law.law));
      }
      if (r == 0)
        QVERIFY(study.laws[study.best].law == FadeLaw::equal_power ||
                study.laws[study.best].law == FadeLaw::square_root);
      if (r == 1) QCOMPARE(study.laws[study.best].law, FadeLaw::linear);
      if (r == 1) QVERIFY(std::abs(study.laws[study.best].departure_db) < 1e-6);
      QVERIFY(!label_of(study).empty());
    }
  }

  /// The level that is told is the level that comes out.
  void what_is_made_has_the_level_that_was_told() {
    const auto [a, b] = noises(0, 5, 480000);
    const CrossfadeSpot spot{2, 2, 4};
    const auto study = study_crossfade(clip(a), clip(b), spot);
    for (const auto& law : study.laws) {
      const auto made = make_crossfade(clip(a), clip(b), spot, law.law);
      QCOMPARE(made->format().frames, int64_t(8 * 48000));
      const auto x = samples_of(*made, 2 * 48000 + 48000 * 19 / 10, 9600);  // about its middle
      const double level = 10 * std::log10(mean_square(x.channel(0)) / 0.01);
      const double told = law.level_db[law.level_db.size() / 2].second;
      QVERIFY2(std::abs(level - told) < 0.3,
               qPrintable(QString("%1: %2, told %3").arg(label_of(law.law)).arg(level).arg(told)));
    }
  }

  void before_and_after_are_the_clips_themselves() {
    const auto [a, b] = noises(0.3, 7);
    const auto made = make_crossfade(clip(a), clip(b), {1, 0.5, 0.5}, FadeLaw::equal_power, {0.25, 0});
    const auto x = samples_of(*made);
    QCOMPARE(x.frames(), int64_t(48000));
    for (size_t n = 0; n < 12000; ++n) QCOMPARE(x.channel(1)[n], a.channel(1)[36000 + n]);
    for (size_t n = 36000; n < 48000; ++n) QCOMPARE(x.channel(0)[n], b.channel(0)[24000 + n - 12000]);
  }

  /// Straight lines that overlap by half come to one everywhere: a clip in grains of itself is itself.
  void grains_of_one_clip_are_that_clip() {
    const auto [a, b] = noises(0, 9);
    const auto made = make_crossfade(clip(a), clip(a), {0.5, 0.5, 1}, FadeLaw::linear, {0, 0.06});
    const auto x = samples_of(*made);
    QCOMPARE(x.frames(), int64_t(48000));
    for (size_t n = 2000; n < 46000; ++n) QVERIFY(std::abs(x.channel(0)[n] - a.channel(0)[24000 + n]) < 1e-12);
    const auto power = make_crossfade(clip(a), clip(a), {0.5, 0.5, 1}, FadeLaw::equal_power, {0, 0.06});
    QVERIFY(mean_square(samples_of(*power).channel(0)) > 1.3 * mean_square(x.channel(0)));  // the wrong law is heard
  }

  void rates_and_channels_may_differ() {
    const auto [a, b] = noises(0, 11);
    Planar mono(1, 44100 * 2);
    for (size_t n = 0; n < size_t(mono.frames()); ++n) mono.channel(0)[n] = 0.1 * std::sin(0.1 * double(n));
    const auto made = make_crossfade(clip(a), clip(mono, 44100), {0.5, 0.5, 0.5}, FadeLaw::linear);
    QCOMPARE(made->format().sample_rate_hz, 48000);
    QCOMPARE(made->format().channels, 2);
    const auto x = samples_of(*made, made->format().frames - 9600, 4800);
    for (size_t n = 0; n < 4800; ++n) QCOMPARE(x.channel(0)[n], x.channel(1)[n]);
  }

  /// Only the stretch that is wanted is brought to the first clip's rate: it lies where the whole clip would have had
  /// it.
  void a_stretch_of_another_rate_lies_in_its_place() {
    const Planar a = noises(0, 15, 96000).first;
    const auto b = clip(Programme(6, 8, 18000).render(44100), 44100);
    const Planar whole = samples_of(*Clip::at_rate(b, 48000), 3 * 48000, 96000);  // the fade begins at 2 s and lasts 1
    const Planar made = samples_of(*make_crossfade(clip(a), b, {0.5, 2, 1}, FadeLaw::linear, {2, 0}));
    const size_t behind = size_t(1.5 * 48000);  // half a second of the first clip, then the fade
    for (size_t n = 0; n < 96000; ++n) QVERIFY(std::abs(made.channel(0)[behind + n] - whole.channel(0)[n]) < 1e-5);
  }

  void a_spot_that_is_none_is_refused() {
    const auto [a, b] = noises(0, 13);
    for (const CrossfadeSpot& spot : {CrossfadeSpot{1.5, 0, 1}, {0, 1.9, 0.2}, {-1, 0, 0.5}, {0, 0, 0.0001}})
      QVERIFY_EXCEPTION_THROWN(study_crossfade(clip(a), clip(b), spot), InputError);
    QVERIFY_EXCEPTION_THROWN(study_crossfade(clip(a), clip(Planar(2, 96000)), {0.5, 0.5, 0.5}), InputError);
  }
};

QTEST_GUILESS_MAIN(TestCrossfades)
#include "test_crossfades.moc"
