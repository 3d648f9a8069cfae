// Aliases in what came back: found by their coherence, named, and told from shaped noise.
#include "core/compare/explain.hpp"
#include "tests/support/share.hpp"
#include "tests/support/stages.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

struct Told {
  NullReport report;
  Explanation why;
  const Finding* said(const char* code) const {
    for (const auto& f : report.findings)
      if (f.code == code) return &f;
    return nullptr;
  }
};

/// White noise from `low_hz` to `high_hz`, over a quiet programme below.
Planar banded_noise(double low_hz, double high_hz, double seconds, int rate, uint64_t seed) {
  dsp::Noise chance(seed);
  Planar sound(1, int64_t(seconds * rate));
  struct Partial {
    double hz, phase, turn;
  };
  std::vector<Partial> partials;
  for (double hz = low_hz; hz < high_hz; hz += 37)
    partials.push_back({hz + chance.between(0, 20), chance.between(0, 1), chance.between(0.5, 3)});
  for (size_t n = 0; n < size_t(sound.frames()); ++n) {
    const double t = double(n) / rate;
    double sum = 0;
    for (const auto& p : partials)  // each wanders, so that no two keep a phase by themselves
      sum += std::sin(2 * pi * (std::remainder(p.hz * t, 1.0) + p.phase + 0.8 * std::sin(p.turn * t + 7 * p.phase)));
    sound.channel(0)[n] = 0.02 * sum / std::sqrt(double(partials.size()));
  }
  return sound;
}

Planar sum(Planar a, const Planar& b) {
  for (int c = 0; c < a.channels(); ++c)
    for (size_t n = 0; n < size_t(std::min(a.frames(), b.frames())); ++n) a.channel(c)[n] += b.channel(0)[n];
  return a;
}

}  // namespace

class TestAliasing : public StageTest {
  Q_OBJECT

  Told explained(std::shared_ptr<const Clip> m, std::shared_ptr<const Clip> r) {
    const Comparable pair = comparable(m, r);
    Told told{null_test(*m, *r, pair), {}};
    told.why = explain(*m, *r, pair, told.report);
    return told;
  }

 private slots:
  void initTestCase() { qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str())); }

  /// 27.4 kHz dropped to 44.1 kHz without a filter lands at 16.7 kHz, weighted as theory has it for what lies between
  /// the samples of 96 kHz: a held step by sinc, a straight line by its square.
  void an_ultrasonic_tone_is_named_where_it_lands() {
    const auto m = clip(sum(Programme(6, 3, 15000).render(96000), tone(27400, 0.05, 6, 96000)), 96000);
    const double x = pi * 27400 / 96000, sinc_db = 20 * std::log10(std::sin(x) / x);
    for (const auto& [by, level_db] : {std::pair{"hold", sinc_db}, {"linear", 2 * sinc_db}}) {
      const auto told = explained(m, run(m, {{{"type", "converter"}, {"rate_hz", 44100}, {"by", by}}}));
      const Finding* f = told.said("alias");
      QVERIFY2(f, by);
      QVERIFY2(f->text.starts_with("16.7 kHz is 27.4 kHz folded at 44.1 kHz"), f->text.c_str());
      QVERIFY(f->severity == Severity::fault);
      const FoldedBand& b = told.why.aliasing.front().bands.front();
      QVERIFY(b.is_line && b.image == -1 && b.mirrored && b.down());
      QVERIFY2(std::abs(b.in_low_hz - 27400) < 0.1 && std::abs(b.out_low_hz - 16700) < 0.1,
               qPrintable(QString::number(b.in_low_hz, 'f', 3)));
      const Finding* tone = told.said("steady_tone");
      QVERIFY2(!tone, tone ? qPrintable(QString("%1 %2").arg(*tone->value, 0, 'f', 3).arg(by))
                           : "");  // what came of it is no tone of its own
      QVERIFY(comes_of(told.why.aliasing, 96000, 16700, 1) && !comes_of(told.why.aliasing, 96000, 15000, 1));
      QVERIFY2(b.coherence > 0.95, qPrintable(QString::number(b.coherence)));
      QVERIFY2(std::abs(b.level_db() - level_db) < 0.1, qPrintable(QString::number(b.level_db())));
    }
  }

  /// A detour at 44.1 kHz inside a route that begins and ends at 96 kHz is found by the rates it may have had.
  void a_hidden_detour_is_found_at_its_own_rate() {
    const auto m = clip(sum(Programme(6, 5, 15000).render(96000), banded_noise(23000, 30000, 6, 96000, 7)), 96000);
    const auto poor = run(m, {{{"type", "converter"}, {"rate_hz", 44100}, {"by", "cubic"}},
                              {{"type", "converter"}, {"rate_hz", 96000}, {"by", "libsoxr"}}});
    const auto told = explained(m, poor);
    QVERIFY2(!told.why.aliasing.empty(), name_of(told.report.kind));
    QCOMPARE(told.why.aliasing.front().rate_hz, 44100.0);
    const FoldedBand& b = told.why.aliasing.front().bands.front();
    QVERIFY(!b.is_line && b.image == -1);
    QVERIFY2(std::abs(b.in_low_hz - 23000) < 1000 && std::abs(b.in_high_hz - 30000) < 1000,
             qPrintable(QString("%1 to %2").arg(b.in_low_hz).arg(b.in_high_hz)));
    QVERIFY(std::abs(b.out_low_hz - 14100) < 1000 && std::abs(b.out_high_hz - 21100) < 1000);
    QVERIFY(told.said("alias"));
    QCOMPARE(name_of(told.report.kind), "changed");  // no coding noise
    const auto fine = run(m, {{{"type", "converter"}, {"rate_hz", 44100}, {"by", "libsoxr"}},
                              {{"type", "converter"}, {"rate_hz", 96000}, {"by", "libsoxr"}}});
    const auto clean = explained(m, fine);
    QVERIFY2(!clean.said("alias"), clean.said("alias") ? clean.said("alias")->text.c_str() : "");
  }

  /// However faint: the level that comes out is the one that was put in.
  void faint_aliases_are_read_at_their_level_data() {
    QTest::addColumn<double>("level_db");
    for (const double db : {0., -20., -40., -60.}) QTest::newRow(qPrintable(QString::number(db))) << db;
  }
  void faint_aliases_are_read_at_their_level() {
    QFETCH(double, level_db);
    const int rate = 96000;
    const double g = std::pow(10, level_db / 20);
    const auto high = banded_noise(25000, 29000, 6, rate, 11);
    auto master = sum(Programme(6, 9, 12000).render(rate), high);
    auto ret = with_noise(master, 1e-6, 4);
    for (int c = 0; c < ret.channels(); ++c)  // mirrored about 24 kHz: times a cosine of 48 kHz; here every second sign
      for (size_t n = 0; n < size_t(high.frames()); ++n) ret.channel(c)[n] += (n % 2 ? -g : g) * high.channel(0)[n];
    const auto told = explained(clip(master, rate), clip(ret, rate));
    const auto& found = told.why.aliasing;
    const auto it = std::find_if(found.begin(), found.end(), [](const Aliasing& a) { return a.rate_hz == 48000; });
    QVERIFY(it != found.end());
    const FoldedBand& b = it->bands.front();
    QVERIFY2(std::abs(b.level_db() - level_db) < 0.5, qPrintable(QString::number(b.level_db())));
    QVERIFY(std::abs(b.out_low_hz - 19000) < 1000 && std::abs(b.out_high_hz - 23000) < 1000);
  }

  /// Shaped dither rises at the top as an alias might, and is none.
  void shaped_noise_is_told_from_an_alias() {
    const auto m = clip(Programme(6, 13, 18000).render(44100), 44100);
    const Json shaped{{"type", "word_length"}, {"bits", 16}, {"dither", "triangular"}, {"shaping", "wannamaker_9"}};
    const auto told = explained(m, run(m, {shaped}));
    const Finding* f = told.said("shaped_noise");
    QVERIFY(f && !told.said("alias"));
    QVERIFY2(told.why.shaped_noise->from_hz > 4000 && told.why.shaped_noise->from_hz < 16000,
             qPrintable(QString::number(told.why.shaped_noise->from_hz)));
    QVERIFY2(told.why.shaped_noise->rise_db > 20, qPrintable(QString::number(told.why.shaped_noise->rise_db)));
    const auto flat = explained(m, run(m, {{{"type", "word_length"}, {"bits", 16}, {"dither", "triangular"}}}));
    QVERIFY(!flat.said("shaped_noise") && !flat.said("alias"));
    const auto high = clip(Programme(6, 13, 18000).render(96000), 96000);
    const auto down = run(high, {{{"type", "converter"}, {"rate_hz", 44100}}, shaped});
    const auto both = explained(high, down);
    QVERIFY(both.said("shaped_noise") && !both.said("alias"));
  }

  /// Nothing folds where nothing was sampled anew: returns of other kinds raise no false alarm.
  void nothing_else_is_taken_for_an_alias() {
    for (uint64_t seed = 20; seed < 29; ++seed) {
      const int rate = seed % 2 ? 96000 : 48000;
      const auto m = clip(Programme(4, seed, 0.45 * rate).render(rate), rate);
      const Json eq{{"type", "filter"}, {"shape", "bell"}, {"hz", 8000}, {"gain_db", 3}};
      const auto r = seed % 3 == 0   ? clip(with_noise(samples_of(*m), 1e-3, seed), rate)
                     : seed % 3 == 1 ? run(m, {eq})
                                     : run(m, {{{"type", "converter"}, {"rate_hz", 44100}}});
      const auto told = explained(m, r);
      for (const char* code : {"alias", "image"})
        QVERIFY2(
            !told.said(code),
            qPrintable(QString("seed %1: %2").arg(seed).arg(told.said(code) ? told.said(code)->text.c_str() : "")));
    }
  }

  void what_is_too_short_or_of_no_lower_rate_says_nothing() {
    QVERIFY(likely_rates(44100, 96000).empty());
    QCOMPARE(likely_rates(96000, 44100), std::vector<double>{44100});
    QVERIFY(!likely_rates(48000, 48000).empty());
    const auto m = clip(Programme(1, 1).render(96000), 96000);
    Fit fit;
    fit.pairs = plain_pairs(2, 2);
    set_overlap(fit, m->format().frames, m->format().frames);
    QVERIFY(find_aliases(*m, *m, *m, fit, 44100).bands.empty());
    QVERIFY(!find_shaped_noise({}, 20000, {}));
  }
};

SHARED_MAIN(TestAliasing)
#include "test_aliasing.moc"
