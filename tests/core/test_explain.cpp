// The explanation of pairs whose truth is known: breaks, requantising, depth, masking, the floor, and the sentences.
#include <QtTest>
#include <cmath>
#include <numbers>

#include "core/compare/explain.hpp"
#include "core/compare/json.hpp"
#include "core/dsp/fft.hpp"
#include "core/stages/chain.hpp"
#include "core/stages/encoder.hpp"
#include "tests/support/share.hpp"
#include "tests/support/signals.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

const Finding* said(const NullReport& report, const std::string& code) {
  for (const auto& f : report.findings)
    if (f.code == code) return &f;
  return nullptr;
}

/// A phase turn about `hz` that leaves every magnitude as it was: a second-order all-pass.
Planar turned_phase(Planar sound, double hz, double q, int rate) {
  const double w = 2 * std::numbers::pi * hz / rate, al = std::sin(w) / (2 * q), a0 = 1 + al, c = std::cos(w);
  for (int ch = 0; ch < sound.channels(); ++ch) {
    double s1 = 0, s2 = 0;
    for (double& x : sound.channel(ch)) {
      const double y = (1 - al) / a0 * x + s1;
      s1 = -2 * c / a0 * x + 2 * c / a0 * y + s2;
      s2 = x - (1 - al) / a0 * y;
      x = y;
    }
  }
  return sound;
}

Planar cut_out(const Planar& in, int64_t at, int64_t frames) {
  Planar out(in.channels(), in.frames() - frames);
  for (int c = 0; c < in.channels(); ++c) {
    std::copy(in.channel(c).begin(), in.channel(c).begin() + at, out.channel(c).begin());
    std::copy(in.channel(c).begin() + at + frames, in.channel(c).end(), out.channel(c).begin() + at);
  }
  return out;
}

Planar repeated(const Planar& in, int64_t at, int64_t frames) {
  Planar out(in.channels(), in.frames() + frames);
  for (int c = 0; c < in.channels(); ++c) {
    std::copy(in.channel(c).begin(), in.channel(c).begin() + at, out.channel(c).begin());
    std::copy(in.channel(c).begin() + at - frames, in.channel(c).end(), out.channel(c).begin() + at);
  }
  return out;
}

Planar silenced(Planar in, int64_t at, int64_t frames) {
  for (int c = 0; c < in.channels(); ++c) std::fill_n(in.channel(c).begin() + at, frames, 0.0);
  return in;
}

/// Noise with a moving level: something to hear at every moment.
Planar stream(double seconds, int rate, uint64_t seed) {
  dsp::Noise chance(seed);
  Planar sound(2, int64_t(seconds * rate));
  for (int c = 0; c < 2; ++c) {
    double low = 0, level = 1;
    for (int64_t n = 0; n < sound.frames(); ++n) {
      if (n % (rate / 4) == 0) level = chance.between(0.4, 1);
      low += 0.2 * (level * chance.gaussian() - low);
      sound.channel(c)[size_t(n)] = 0.25 * low;
    }
  }
  return sound;
}

}  // namespace

class TestExplain : public QObject {
  Q_OBJECT

  struct Told {
    NullReport report;
    Explanation why;
  };
  Told explained(const Planar& master, const Planar& ret, int rate = 48000, WordFormat word = WordFormat::float64,
                 const ExplainOptions& options = {}) {
    const auto m = Clip::open(save(folder_ / "m.wav", master, rate, word)),
               r = Clip::open(save(folder_ / "r.wav", ret, rate, word));
    const Comparable pair = comparable(m, r);
    Told told{null_test(*m, *r, pair), {}};
    told.why = explain(*m, *r, pair, told.report, options);
    return told;
  }

 private slots:
  void initTestCase() { qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str())); }

  void skips_repeats_and_dropouts_are_found_to_the_sample() {
    dsp::Noise chance(17);
    for (int n = 0; n < 4; ++n) {
      const int rate = n % 2 ? 44100 : 48000;
      const auto master = stream(14, rate, uint64_t(n) + 40);
      const auto at = int64_t(chance.between(5, 11) * rate), lost = int64_t(chance.between(30, 20000));
      const auto away = int64_t(chance.between(1.2, 3.5) * rate), quiet = int64_t(chance.between(200, 4000));
      for (const bool skip : {true, false}) {
        auto ret = skip ? cut_out(master, at, lost) : repeated(master, at, lost);
        ret = with_noise(silenced(ret, away, quiet), n < 2 ? 0 : 1e-5, 3);
        const auto told = explained(master, ret, rate);
        const auto& breaks = told.why.continuity.breaks;
        const auto words = QString("case %1 skip %2: %3 breaks").arg(n).arg(skip).arg(breaks.size());
        QVERIFY2(breaks.size() == 2, qPrintable(words));
        QVERIFY(breaks[0].kind == BreakKind::dropout && breaks[1].kind == (skip ? BreakKind::skip : BreakKind::insert));
        QVERIFY2(std::abs(breaks[0].at_s * rate - double(away)) < 12 &&
                     std::abs(breaks[0].length_s * rate - double(quiet)) < 24,
                 qPrintable(QString("%1 %2 for %3 %4")
                                .arg(breaks[0].at_s * rate)
                                .arg(breaks[0].length_s * rate)
                                .arg(away)
                                .arg(quiet)));
        QVERIFY2(std::abs(breaks[1].jump_samples - (skip ? -1 : 1) * double(lost)) < 0.01,
                 qPrintable(QString("%1 for %2").arg(breaks[1].jump_samples).arg(lost)));
        const double early = double(at) - breaks[1].at_s * rate;  // what is there twice may end anywhere within it
        QVERIFY2(std::abs(early) < 20 || (!skip && early > 0 && early <= double(lost) + 20),
                 qPrintable(QString("%1 for %2").arg(breaks[1].at_s * rate).arg(at)));
        QVERIFY(said(told.report, skip ? "skip" : "insert") && said(told.report, "dropout"));
      }
    }
  }

  /// Who has looked for another place in vain many times, as where noise bursts in, still finds the one that is there.
  void a_skip_behind_bursts_of_noise_is_found() {
    constexpr int rate = 48000;
    constexpr int64_t at = 11 * rate, lost = 1234;
    const auto master = stream(16, rate, 77);
    Planar ret = cut_out(master, at, lost);
    dsp::Noise chance(4);
    for (int burst = 0; burst < 8; ++burst)
      for (int64_t n = 0; n < rate / 8; ++n)
        for (int c = 0; c < ret.channels(); ++c)
          ret.channel(c)[size_t((burst + 1) * rate + n)] = 0.1 * chance.gaussian();
    const auto told = explained(master, ret, rate);
    const auto& breaks = told.why.continuity.breaks;
    const auto skip =
        std::find_if(breaks.begin(), breaks.end(), [](const Break& b) { return b.kind == BreakKind::skip; });
    QVERIFY2(skip != breaks.end(), qPrintable(QString("%1 breaks").arg(breaks.size())));
    QVERIFY2(std::abs(skip->jump_samples + double(lost)) < 0.01, qPrintable(QString::number(skip->jump_samples)));
    QVERIFY2(std::abs(skip->at_s * rate - double(at)) < 20, qPrintable(QString::number(skip->at_s * rate)));
  }

  void whole_returns_have_no_breaks() {
    const auto master = requantised(Programme(8, 3).render(48000), 24, true);
    QVERIFY(explained(master, with_noise(master, 1e-3, 2)).why.continuity.breaks.empty());
    save(folder_ / "m.wav", master, 48000, WordFormat::pcm24);
    encode(*Clip::open(folder_ / "m.wav"), {"libmp3lame", 96000}, folder_ / "l.mp3");
    const auto m = Clip::open(folder_ / "m.wav"), r = Clip::open(folder_ / "l.mp3");
    auto report = null_test(m, r);
    const auto why = explain(*m, *r, {m, r}, report);
    QVERIFY(why.continuity.breaks.empty());
    QCOMPARE(report.kind, Kind::lossy);
    QVERIFY(why.mask.covered_share > 0.5 && why.mask.worst_db > -10);
  }

  void the_way_bits_were_cut_is_told() {
    const auto master = requantised(scaled(stream(6, 48000, 2), 0.5), 24, true);
    const double step = std::ldexp(1.0, -15);
    dsp::Noise chance(8);
    auto cut = [&](auto how) {
      Planar out = master;
      for (int c = 0; c < 2; ++c) {
        double fed_back = 0;
        for (double& x : out.channel(c)) x = how(x / step, fed_back) * step;
      }
      return explained(master, out, 48000, WordFormat::pcm24);
    };
    auto is = [](const Told& t, Dither dither, bool truncated) {
      return t.why.requantised && t.why.requantised->dither == dither && t.why.requantised->truncated == truncated &&
             t.why.requantised->bits == 16 && said(t.report, "dither");
    };
    QVERIFY(is(cut([](double x, double&) { return std::nearbyint(x); }), Dither::none, false));
    QVERIFY(is(cut([](double x, double&) { return std::floor(x); }), Dither::none, true));
    const auto towards_zero = cut([](double x, double&) { return std::trunc(x); });
    QCOMPARE(towards_zero.report.kind, Kind::word_length);
    QVERIFY(is(towards_zero, Dither::none, true) && towards_zero.why.requantised->towards_zero);
    QCOMPARE(said(towards_zero.report, "dither")->text, "Truncated towards zero to 16 bits, no dither.");
    QVERIFY(is(cut([&](double x, double&) { return std::nearbyint(x + chance.uniform() - 0.5); }), Dither::rectangular,
               false));
    QVERIFY(
        is(cut([&](double x, double&) { return std::nearbyint(x + chance.triangular()); }), Dither::triangular, false));
    const auto shaped = cut([&](double x, double& error) {  // first-order error feedback
      const double wanted = x - error, y = std::nearbyint(wanted + chance.triangular());
      error = y - wanted;
      return y;
    });
    QVERIFY(is(shaped, Dither::shaped, false));
    QCOMPARE(shaped.report.kind, Kind::word_length);
    QVERIFY(shaped.why.requantised->tilt_db > 12);
  }

  /// A programme that falls steeply from 21 kHz but goes on is not called empty there; one that ends there is.
  void an_empty_top_is_told_where_it_is_empty() {
    const int rate = 96000;
    for (const bool ends : {false, true}) {
      Planar master = with_noise(Planar(1, 8 * rate), 0.1, 3);
      dsp::RealFft<double> fft(size_t(master.frames()));
      const auto x = master.channel(0);
      std::copy(x.begin(), x.end(), fft.time().begin());
      fft.forward();
      for (size_t k = 0; k < fft.bins(); ++k) {
        const double hz = double(k) * rate / double(fft.size());
        fft.spectrum()[k] *= ends ? (hz < 21000 ? 1.0 : 0.0) : 1 / std::sqrt(1 + std::pow(hz / 21000, 36));
      }
      fft.inverse();
      std::transform(fft.time().begin(), fft.time().end(), x.begin(), [&](double v) { return v / double(fft.size()); });
      const auto told = explained(master, scaled(master, 0.5), rate, WordFormat::float32);
      QVERIFY(std::abs(told.why.master.origin.bandwidth_hz.value_or(0) / 21000 - 1) < 0.02);
      QCOMPARE(said(told.report, "empty_top_master") != nullptr, ends);
    }
  }

  void a_phase_turn_is_told_from_loss() {
    const auto master = stream(12, 48000, 5);
    const auto told = explained(master, turned_phase(master, 20, 0.7, 48000));
    QCOMPARE(told.report.kind, Kind::linear);
    const auto* f = said(told.report, "phase_not_loss");
    QVERIFY2(f && f->value.has_value() && (f->text + f->detail).find("below") != std::string::npos,
             f ? f->text.c_str() : told.report.findings.front().text.c_str());
    QVERIFY(!said(told.report, "eq"));
    QVERIFY((f->text + f->detail).find("no level is lost") != std::string::npos);
    QVERIFY(said(told.report, "split"));
    QVERIFY(told.report.sums.remainder_relative_db().value() < told.report.residual_relative_db().value() - 25);
  }

  void an_eq_is_told_with_its_frequency() {
    const auto master = stream(10, 48000, 6);
    Planar ret = master;
    for (int c = 0; c < 2; ++c) {  // a broad bell: half of a band pass at 2 kHz added
      const double w = 2 * std::numbers::pi * 2000 / 48000, al = std::sin(w) / 1.4, a0 = 1 + al;
      double x1 = 0, x2 = 0, y1 = 0, y2 = 0;
      for (double& x : ret.channel(c)) {
        const double y = (al * x - al * x2 + 2 * std::cos(w) * y1 - (1 - al) * y2) / a0;
        x2 = x1, x1 = x, y2 = y1, y1 = y;
        x += 0.3 * y;
      }
    }
    const auto told = explained(master, ret);
    const auto* f = said(told.report, "eq");
    QVERIFY(f && std::abs(*f->value) > 1);
    const auto at = std::max_element(told.why.bands.begin(), told.why.bands.end(),
                                     [](auto& a, auto& b) { return a.magnitude_db < b.magnitude_db; });
    QVERIFY(at->low_hz < 2300 && at->high_hz > 1700);
  }

  void what_comes_closest_is_where_it_was_put() {
    auto master = stream(20, 48000, 7);
    Planar ret = master;
    dsp::Noise chance(5);
    for (const double at : {3.0, 8.0, 15.0})
      for (int64_t n = int64_t(at * 48000); n < int64_t((at + 0.2) * 48000); ++n)
        ret.channel(0)[size_t(n)] += 0.02 * chance.gaussian();
    const auto told = explained(master, ret);
    QVERIFY(told.why.closest.size() >= 3 && told.why.closest.size() <= 10);
    for (size_t n = 0; n < 3; ++n) {
      const double at = told.why.closest[n].at_s;
      QVERIFY2(std::abs(at - 3.1) < 0.3 || std::abs(at - 8.1) < 0.3 || std::abs(at - 15.1) < 0.3,
               qPrintable(QString::number(at)));
    }
    for (size_t n = 1; n < told.why.closest.size(); ++n)
      QVERIFY(told.why.closest[n - 1].depth_db >= told.why.closest[n].depth_db);
    QVERIFY(std::abs(told.why.mask.worst_at_s - 3.1) < 0.3 || std::abs(told.why.mask.worst_at_s - 8.1) < 0.3 ||
            std::abs(told.why.mask.worst_at_s - 15.1) < 0.3);
  }

  void third_octaves_hold_the_depth_of_white_noise() {
    dsp::Noise chance(3);
    Planar white(1, 48000 * 10);
    for (double& x : white.channel(0)) x = 0.1 * chance.gaussian();
    const auto told = explained(white, with_noise(white, 1e-3, 9));
    QVERIFY(told.why.depth.size() >= 25);
    for (const auto& band : told.why.depth)
      if (band.centre_hz > 200)
        QVERIFY2(std::abs(band.depth_db.value_or(0) + 40) < 0.7,
                 qPrintable(QString("%1: %2").arg(band.centre_hz).arg(band.depth_db.value_or(0))));
    // ... and the masking model finds broad noise 40 dB down covered nearly everywhere
    QVERIFY(told.why.mask.covered_share > 0.95);
    QVERIFY(explained(white, with_noise(white, 0.1, 9)).why.mask.covered_share < 0.3);
  }

  void the_floor_of_the_route_is_taken_into_account() {
    const auto master = stream(10, 48000, 9);
    const double floor_rms = 2e-4;
    const auto silence = Clip::open(save(folder_ / "s.wav", with_noise(Planar(2, 48000 * 10), floor_rms, 77), 48000));
    ExplainOptions options;
    options.floor = average_spectrum(*silence, 8192, 0, -1, 1000);
    const auto only = explained(master, with_noise(master, floor_rms, 78), 48000, WordFormat::float64, options);
    QVERIFY2(only.why.floor_share > 0.95, qPrintable(QString::number(only.why.floor_share)));
    QCOMPARE(said(only.report, "floor")->severity, Severity::clean);
    const auto more = explained(master, with_noise(master, 10 * floor_rms, 78), 48000, WordFormat::float64, options);
    QVERIFY(more.why.floor_share < 0.05);
    double power = 0;
    for (const double p : more.why.floor->power) power += p;
    QVERIFY(std::abs(10 * std::log10(power / (floor_rms * floor_rms))) < 0.1);  // moved to other bins, the power stays
  }

  void hum_dc_and_leaks_are_said_of_the_return_only() {
    auto master = with_noise(stream(16, 48000, 10), 1e-5, 4);
    auto ret = master;
    for (int64_t n = 0; n < ret.frames(); ++n) {
      const double t = double(n) / 48000;
      ret.channel(0)[size_t(n)] +=
          0.003 + 2e-2 * (std::sin(2 * std::numbers::pi * 50 * t) + std::sin(2 * std::numbers::pi * 150 * t));
      ret.channel(1)[size_t(n)] += 0.003 * master.channel(0)[size_t(n)];
    }
    const auto told = explained(master, ret);
    QVERIFY(said(told.report, "hum") && said(told.report, "dc_offset"));
    const auto* leak = said(told.report, "crosstalk");
    QVERIFY(leak && std::abs(*leak->value - 20 * std::log10(0.003)) < 1);
    QVERIFY(!said(explained(ret, ret).report, "hum"));
  }

  void the_gain_of_a_limiter_is_traced() {
    auto master = stream(12, 48000, 12);
    Planar ret = master;
    for (int64_t n = 48000 * 4; n < 48000 * 5; ++n)
      for (int c = 0; c < 2; ++c) ret.channel(c)[size_t(n)] *= 0.5;
    const auto told = explained(master, ret);
    QVERIFY(std::abs(told.why.gain.deepest_db + 6.02) < 0.3);
    QVERIFY(told.why.gain.deepest_at_s > 3.9 && told.why.gain.deepest_at_s < 5.1);
    QCOMPARE(told.why.gain.db.size(), told.report.sums.short_pieces.mm.size());
  }

  void json_holds_all_of_it_and_nothing_that_is_no_number() {
    const auto master = requantised(stream(6, 48000, 13), 24, true);
    for (const auto& ret : {with_noise(master, 1e-4, 2), master, Planar(2, 48000), scaled(master, 0.5)}) {
      const auto told = explained(master, ret, 48000, WordFormat::pcm24);
      const auto json = explanation_json(told.report, told.why);
      for (const char* key : {"path", "depth", "closest", "residual_to_mask", "breaks", "requantised", "master",
                              "return", "crosstalk", "floor_share"})
        QVERIFY2(json.contains(key), key);
      const std::string text = json.dump();
      QVERIFY(text.find("nan") == std::string::npos && text.find("inf") == std::string::npos);
      QVERIFY(told.report.findings.front().code == name_of(told.report.kind));
    }
  }

  void a_lost_band_has_a_steep_edge_or_falls_off_slowly() {
    const auto master = clip_of(with_noise(Planar(2, 8 * 48000), 0.1, 5));
    const Chain steep{
        "", {{"converter", {{"rate_hz", 32000}}}, {"converter", {{"rate_hz", 48000}}}, {"word_length"}}, 1};
    Chain slow{"", {6, Stage{"filter", {{"shape", "low_pass"}, {"hz", 4000}}}}, 1};
    slow.stages.push_back({"word_length"});
    for (const auto& [chain, words] : {std::pair{steep, "A steep edge"}, {slow, "It falls off slowly"}}) {
      const auto ret = pass(master, chain).ret;
      auto report = null_test(master, ret);
      const auto why = explain(*master, *ret, {master, ret}, report, {});
      const Finding* band = said(report, "bandwidth");
      QVERIFY2(band, words);
      QVERIFY2(QString::fromStdString(band->detail).contains(words), band->detail.c_str());
      QCOMPARE(why.ret.origin.steepness_db > 40, chain == steep);
    }
  }

  void explaining_is_stopped_at_once() {
    const auto m = Clip::open(save(folder_ / "m.wav", stream(6, 48000, 1), 48000)),
               r = Clip::open(save(folder_ / "r.wav", with_noise(stream(6, 48000, 1), 1e-3, 1), 48000));
    auto report = null_test(m, r);
    std::stop_source stop;
    stop.request_stop();
    Job job;
    job.stop = stop.get_token();
    QVERIFY_THROWS_EXCEPTION(Cancelled, explain(*m, *r, {m, r}, report, {}, job));
  }

 private:
  std::shared_ptr<const Clip> clip_of(const Planar& sound) {
    return Clip::open(save(folder_ / "clip.wav", sound, 48000));
  }
  Folder folder_;
};

SHARED_MAIN(TestExplain)
#include "test_explain.moc"
