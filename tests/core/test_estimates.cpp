// Single estimates on excerpts made by hand: what each must find, to which exactness, and where it must keep quiet.
#include <QtTest>
#include <cmath>
#include <numbers>
#include <numeric>
#include <set>

#include "core/compare/causes/attempts.hpp"
#include "core/compare/causes/budget.hpp"
#include "core/compare/causes/estimates.hpp"
#include "core/compare/causes/excerpt.hpp"
#include "core/compare/causes/law_beside_filter.hpp"
#include "core/compare/causes/moment_gains.hpp"
#include "core/compare/causes/response.hpp"
#include "core/compare/causes/view.hpp"
#include "core/compare/waterfall.hpp"
#include "core/dsp/decibels.hpp"
#include "tests/support/programmes.hpp"
#include "tests/support/signals.hpp"
#include "tests/support/treatments.hpp"

using namespace heathmist;
using namespace heathmist::causes;
using namespace heathmist::test;

namespace {

constexpr int rate = 48000;

Excerpt excerpt_of(const Planar& master, const Planar& ret) {
  Excerpt e;
  e.rate_hz = rate;
  e.stretches = {{0, 0, master.frames()}};
  e.master = std::make_shared<Planar>(master);
  e.ret = ret;
  e.told.assign(size_t(master.frames()), 1);
  double sum = 0;
  for (int c = 0; c < master.channels(); ++c)
    for (const double x : master.channel(c)) sum += x * x;
  e.master_power = sum / double(master.frames() * master.channels());
  return e;
}

/// dB that a cause takes out of what is left.
double taken_by(const Excerpt& e, const Found& found) {
  Planar model = *e.master;
  const double before = power_left(e, model);
  found.take_out(e, model);
  return 10 * std::log10(before / (power_left(e, model) + 1e-30));
}

template <class Change>
Planar changed(Planar s, Change change) {
  for (int c = 0; c < s.channels(); ++c)
    for (int64_t n = 0; n < s.frames(); ++n) s.channel(c)[size_t(n)] = change(s.channel(c)[size_t(n)], c, n);
  return s;
}

Cause cause(const char* code, std::optional<double> before, std::optional<double> after) {
  Cause c{.code = code, .before_db = before, .after_db = after};
  c.text = std::string(code) + ".";
  return c;
}

}  // namespace

class TestEstimates : public QObject {
  Q_OBJECT

 private slots:
  /// Nothing happened: nothing is found, or it takes nothing out.
  void equal_ones_have_no_cause_data() {
    QTest::addColumn<QString>("name");
    for (const char* name : {"dense", "speech", "loop", "near_mono"}) QTest::newRow(name) << QString(name);
  }
  void equal_ones_have_no_cause() {
    QFETCH(QString, name);
    const auto s = programme(name.toStdString(), rate, 3, 5);
    const Excerpt e = excerpt_of(s, s);
    QVERIFY(explain_away(e, {}).causes.empty());
    QCOMPARE(held_gain(e).db, 0.0);
  }

  /// What is read off a model once is that of the excerpt that asks.
  void gain_courses_are_those_of_the_excerpt() {
    const auto s = programme("dense", rate, 3, 8);
    const Excerpt down = excerpt_of(s, scaled(s, 0.5)), up = excerpt_of(s, scaled(s, 1.25));
    const Model model(s);
    const auto first = model.gain_courses(down), again = model.gain_courses(down), other = model.gain_courses(up);
    QCOMPARE(first.size(), size_t(2));
    for (size_t p = 0; p < 2; ++p)
      for (size_t n = 0; n < first[p].pieces.size(); ++n)
        if (first[p].tells(n)) {
          QVERIFY(std::abs(first[p].pieces[n].gain() - 0.5) < 1e-12 && again[p].pieces[n].mm == first[p].pieces[n].mm);
          QVERIFY(std::abs(other[p].pieces[n].gain() - 1.25) < 1e-12);
        }
    const GainCurve both = gain_course(down, model);
    QVERIFY(both.pieces.size() == first[0].pieces.size() && both.middle == first[0].middle);
  }

  /// One step beneath noise that leaves far more than the step takes out; a ride to the same level is none.
  void a_step_is_plain_where_both_gains_hold() {
    for (const char* name : {"dense", "wide", "near_mono"}) {
      const auto s = programme(name, rate, 8, 12);
      const auto step = changed(s, [](double x, int, int64_t n) { return (n < 4 * rate ? 1.0 : 0.9) * x; });
      const auto noisy = with_noise(step, 0.02, 9);
      const auto found = estimate_gain_step(excerpt_of(s, noisy), s);
      QVERIFY2(found && found->is_plain && found->cause.values["count"] == 1, name);
      QVERIFY2(std::abs(found->cause.values["at_s"].get<double>() - 4) < 0.05, name);
      const auto ridden = changed(s, [](double x, int, int64_t n) { return (1 - 0.1 * double(n) / (8 * rate)) * x; });
      const auto ride = estimate_gain_step(excerpt_of(s, with_noise(ridden, 0.02, 9)), s);
      QVERIFY2(!ride || !ride->is_plain, name);
    }
  }

  void the_gain_that_most_samples_hold_is_exact() {
    dsp::Noise chance(3);
    const auto s = programme("dense", rate, 4, 1);
    for (int round = 0; round < 6; ++round) {
      const double gain = chance.between(0.6, 1.6), at = chance.between(0.2, 0.5) * gain;
      const auto cut = changed(s, [&](double x, int, int64_t) { return std::clamp(gain * x, -at, at); });
      Excerpt e = excerpt_of(s, cut);
      const double found = held_gain(e).db;
      QVERIFY2(std::abs(found - 20 * std::log10(gain)) < 1e-5, qPrintable(QString::number(found)));
      turn_down(e, found);
      QVERIFY(std::abs(held_gain(e).db) < 1e-5);
    }
  }

  void clip_levels_hold_under_noise_and_one_side() {
    const auto s = programme("dense", rate, 4, 2);
    for (const double noise : {0.0, 1e-4, 2e-3})
      for (const bool both : {true, false}) {
        const auto cut = changed(s, [&](double x, int, int64_t) { return std::clamp(x, both ? -0.4 : -2.0, 0.4); });
        const auto found = estimate_clip(excerpt_of(s, with_noise(cut, noise, 4)), s);
        QVERIFY(found);
        QVERIFY(std::abs(found->cause.values["high"].get<double>() - 0.4) < 1e-6 + 0.3 * noise);
        if (both) QVERIFY(std::abs(found->cause.values["low"].get<double>() + 0.4) < 1e-6 + 0.3 * noise);
        if (!both) QVERIFY(found->cause.values["low"].get<double>() < -0.6);
      }
  }

  void matrices_are_not_pulled_by_bent_peaks() {
    const auto s = programme("wide", rate, 4, 3);
    const double side = std::pow(10, -4.0 / 20);
    Planar ret = s;
    for (size_t n = 0; n < size_t(s.frames()); ++n) {
      const double l = s.channel(0)[n], r = s.channel(1)[n], mid = (l + r) / 2, half = side * (l - r) / 2;
      ret.channel(0)[n] = std::clamp(mid + half, -0.3, 0.3), ret.channel(1)[n] = std::clamp(mid - half, -0.3, 0.3);
    }
    const auto found = estimate_mixing(excerpt_of(s, ret), s);
    QVERIFY(found && found->cause.code == "width");
    QVERIFY2(std::abs(found->cause.values["side_db"].get<double>() + 4) < 0.01,
             qPrintable(QString::fromStdString(found->cause.values.dump())));
  }

  void echoes_are_found_however_late() {
    const auto s = programme("dense", rate, 8, 4);
    for (const auto& [late_s, db] : {std::pair{0.013, -14.0}, {0.6, -20.0}, {2.5, -9.0}}) {
      const auto late = int64_t(late_s * rate);
      const double g = std::pow(10, db / 20);
      const auto ret =
          changed(s, [&](double x, int c, int64_t n) { return n < late ? x : x - g * s.channel(c)[size_t(n - late)]; });
      const Excerpt e = excerpt_of(s, ret);
      const auto found = estimate_echo(e, s);
      QVERIFY2(found, qPrintable(QString::number(late_s)));
      QVERIFY(std::abs(found->cause.values["time_ms"].get<double>() - 1000.0 * double(late) / rate) < 1e-6);
      QVERIFY2(std::abs(found->cause.values["level_db"].get<double>() - db) < 0.1,
               qPrintable(QString::fromStdString(found->cause.values.dump())));
      QVERIFY(found->cause.values["echoes"][0]["inverted"].get<bool>());
      QVERIFY2(taken_by(e, *found) > 40, qPrintable(QString::number(taken_by(e, *found))));
    }
  }

  void clicks_are_counted_and_timed() {
    dsp::Noise chance(8);
    const auto s = programme("speech", rate, 5, 6);
    Planar ret = s;
    std::vector<double> times;
    for (int k = 0; k < 9; ++k) {
      const auto at = int64_t((0.3 + 0.5 * k) * rate);
      times.push_back(double(at) / rate);
      for (int n = 0; n < 6; ++n) ret.channel(0)[size_t(at + n)] += chance.between(0.05, 0.3);
    }
    const auto found = estimate_clicks(excerpt_of(s, ret), s);
    QVERIFY(found);
    QCOMPARE(found->cause.values["count"].get<int>(), 9);
    for (size_t k = 0; k < times.size(); ++k)
      QVERIFY(std::abs(found->cause.values["times_s"][k].get<double>() - times[k]) < 0.001);
    QCOMPARE(found->cause.channels, std::vector<int>{0});
  }

  /// A line that was taken out of the programme is no line that was added.
  void lines_of_the_programme_are_not_added_ones() {
    const auto sine = [](double hz, int64_t n) { return std::sin(2 * std::numbers::pi * hz * double(n) / rate); };
    const auto bed = with_noise(Planar(2, 6 * rate), 0.01, 3);
    const auto s = changed(bed, [&](double x, int, int64_t n) { return x + 0.1 * sine(3000, n); });
    QVERIFY(!estimate_lines(excerpt_of(s, bed), s));
    const auto hummed = changed(s, [&](double x, int, int64_t n) { return x + 0.003 * sine(50, n); });
    const auto found = estimate_lines(excerpt_of(s, hummed), s);
    QVERIFY(found && found->cause.code == "hum");
    QVERIFY(std::abs(found->cause.values["level_dbfs"].get<double>() - 20 * std::log10(0.003 / std::sqrt(2))) < 0.05);
  }

  /// A leak of one channel does not carry the hum that was added behind it.
  void what_was_added_stands_behind_what_was_done() {
    const auto s = programme("wide", rate, 6, 7);
    Planar ret = s;
    for (int64_t n = 0; n < s.frames(); ++n) {
      ret.channel(1)[size_t(n)] += 0.01 * s.channel(0)[size_t(n)];
      ret.channel(0)[size_t(n)] += 0.05 * std::sin(2 * std::numbers::pi * 60 * double(n) / rate);
    }
    const auto budget = explain_away(excerpt_of(s, ret), {});
    std::set<std::string> codes;
    for (const Cause& c : budget.causes) codes.insert(c.code);
    QVERIFY(codes.contains("hum") && codes.contains("crosstalk"));
    QVERIFY2(!budget.remainder_db || *budget.remainder_db < -100, qPrintable(QString::number(db(budget.remainder_db))));
  }

  void levels_stand_as_in_the_return() {
    const auto s = programme("dense", rate, 4, 2);
    BudgetFacts facts;
    facts.gain_db = -6;  // the excerpt is laid at the master's level
    const auto off = explain_away(excerpt_of(s, changed(s, [](double x, int, int64_t) { return x + 0.01; })), facts);
    QVERIFY(!off.causes.empty() && off.causes.front().code == "dc");
    const auto& v = off.causes.front().values;
    QVERIFY(std::abs(v["level_dbfs"].get<double>() + 46) < 0.01);
    QVERIFY(std::abs(20 * std::log10(v["offset"].get<double>()) - v["level_dbfs"].get<double>()) < 1e-9);
  }

  void the_waterfall_runs_from_the_residual_to_the_remainder() {
    NullReport r;
    QVERIFY(budget_steps(r).empty());
    r.causes = {cause("gain", 0, -10)};
    QVERIFY(budget_steps(r).empty());  // the fit's own stand before it
    r.causes.push_back(cause("fade", -10, -41));
    r.causes.push_back(cause("eq", -41, -70));
    r.causes.push_back(cause("word_length", -70, {}));
    const auto steps = budget_steps(r);
    QCOMPARE(steps.size(), size_t(5));
    QCOMPARE(steps[0].from_db, -10.0);
    QCOMPARE(steps[1].label, std::string("fade"));
    QCOMPARE(steps[2].to_db, -70.0);
    QCOMPARE(steps[3].label, std::string("word length"));
    QCOMPARE(steps[3].to_db, budget_bottom_db);
    QCOMPARE(steps[4].text, std::string("All causes taken out: nothing."));
    QVERIFY(!steps[0].cause && steps[1].cause && !steps[4].cause);
  }
  /// What a gain explains as well is no echo; beneath one, an echo keeps its time and level, on a tone-like programme,
  /// too.
  void a_gain_is_no_echo_data() {
    QTest::addColumn<QString>("name");
    for (const char* name : {"dense", "piano", "loop", "choir"}) QTest::newRow(name) << QString(name);
  }
  void a_gain_is_no_echo() {
    QFETCH(QString, name);
    const auto s = programme(name.toStdString(), rate, 6, 3);
    QVERIFY(!estimate_echo(excerpt_of(s, scaled(s, 0.7)), s));
    for (const double gain : {1.0, 0.98}) {
      constexpr int64_t late = 9600;
      const Planar ret = changed(scaled(s, gain), [&](double x, int c, int64_t n) {
        return x + (n < late ? 0 : 0.05 * gain * s.channel(c)[size_t(n - late)]);
      });
      const Excerpt e = excerpt_of(s, ret);
      const auto found = estimate_echo(e, s);
      QVERIFY(found);
      QVERIFY2(std::abs(found->cause.values["time_ms"].get<double>() - 200) < 0.05, found->cause.values.dump().c_str());
      QVERIFY2(std::abs(found->cause.values["level_db"].get<double>() + 26.02 - 20 * std::log10(gain)) < 0.3,
               found->cause.values.dump().c_str());
      QVERIFY(taken_by(e, *found) > 10);
    }
  }

  /// In whatever order models are asked for, and however few are remembered.
  void a_model_goes_on_from_what_is_remembered() {
    dsp::Noise chance(77);
    const Planar from = with_noise(Planar(2, 1 << 18), 0.3, 5);  // of 4 MiB: some eight are remembered
    const auto step = [](double gain, double offset) {
      return std::make_shared<const Found>(Found{Cause{}, [=](const Places&, Planar& m) {
                                                   for (int c = 0; c < m.channels(); ++c)
                                                     for (double& x : m.channel(c)) x = gain * x + offset * (c + 1);
                                                 }});
    };
    std::vector<FoundPtr> pool;
    for (int k = 0; k < 5; ++k) pool.push_back(step(chance.between(-2, 2), chance.between(-1, 1)));
    Attempts attempts;
    size_t done = 0, all = 0;
    for (int round = 0; round < 60; ++round) {
      Attempts::Before steps;
      for (size_t n = chance.bits() % 5; n-- > 0;) steps.push_back(pool[chance.bits() % pool.size()]);
      all += steps.size();
      Planar expected = from;
      for (const auto& s : steps) s->take_out({}, expected);
      const Planar made = attempts.model(from, steps, [&](const Found& f, Planar& m) { f.take_out({}, m), ++done; });
      for (int c = 0; c < 2; ++c) QVERIFY(std::ranges::equal(made.channel(c), expected.channel(c)));
      const Planar again = attempts.model(from, steps, [&](const Found&, Planar&) { QFAIL("it was just made"); });
      for (int c = 0; c < 2; ++c) QVERIFY(std::ranges::equal(again.channel(c), expected.channel(c)));
    }
    QVERIFY(done < all);
  }

  /// What hum moved, or a gain of 0.009 dB, comes back at no sample as it went out.
  void samples_come_back_as_sent_or_not() {
    const Planar s = programme("dense", rate, 6, 3);
    QVERIFY(comes_back_as_sent(excerpt_of(s, s)));
    const Planar hummed = changed(
        s, [](double x, int, int64_t n) { return x + 0.01 * std::sin(2 * std::numbers::pi * 50 * double(n) / rate); });
    QVERIFY(!comes_back_as_sent(excerpt_of(s, hummed)));
    QVERIFY(!comes_back_as_sent(excerpt_of(s, scaled(s, 1.001))));
  }

  /// A gain that moves is read apart from the filter beside it, whatever both are.
  void gains_of_moments_are_free_of_a_filter_data() {
    QTest::addColumn<QString>("name");
    for (const char* name : {"dense", "wide", "speech"}) QTest::newRow(name) << QString(name);
  }
  void gains_of_moments_are_free_of_a_filter() {
    QFETCH(QString, name);
    const Planar s = programme(name.toStdString(), rate, 8, 21);
    const auto gain_db = [](double n) { return 3 * std::sin(2 * std::numbers::pi * 0.4 * n / rate); };
    const Planar moved = changed(s, [&](double x, int, int64_t n) { return x * dsp::gain_of(gain_db(double(n))); });
    for (const double eq_db : {0.0, -6.0, 8.0}) {
      const Excerpt e = excerpt_of(s, filtered(moved, rate, "low shelf", 150, 0.7, eq_db));
      const MomentGains g = moment_gains(e, s);
      std::vector<double> off;
      double mean = 0;
      for (size_t n = 0; n < g.db.size(); ++n) off.push_back(g.db[n] - gain_db(double(n + 1) * double(g.hop)));
      for (const double x : off) mean += x / double(off.size());
      double square = 0;
      for (const double x : off) square += (x - mean) * (x - mean) / double(off.size());
      QVERIFY2(std::sqrt(square) < 0.25, qPrintable(QString("%1 dB, %2").arg(eq_db).arg(std::sqrt(square))));
      QVERIFY(is_near(g.spread_db, 3 / std::sqrt(2.0), 0.3));
    }
    QVERIFY(moment_gains(excerpt_of(programme("dense", rate, 0.02, 1), programme("dense", rate, 0.02, 1)),
                         programme("dense", rate, 0.02, 1))
                .db.empty());
  }

  /// What a filter does to a few low notes may look like repeats; of low notes, too, a repeat is one.
  void a_filter_of_low_notes_is_no_echo() {
    for (const uint32_t seed : {4, 6, 9}) {
      const Planar s = programme("bass", rate, 12, seed);
      for (const auto& [hz, db] : {std::pair{38.0, 5.0}, {60.0, -9.0}})
        QVERIFY2(!estimate_echo(excerpt_of(s, filtered(s, rate, "low shelf", hz, 0.7, db)), Planar(s)),
                 qPrintable(QString("%1, %2 dB").arg(seed).arg(db)));
      Planar repeated = s;
      for (int c = 0; c < s.channels(); ++c)
        for (size_t n = 187; n < size_t(s.frames()); ++n) repeated.channel(c)[n] += 0.5 * s.channel(c)[n - 187];
      const auto echo = estimate_echo(excerpt_of(s, repeated), Planar(s));
      QVERIFY(echo && is_near(echo->cause.values["time_ms"].get<double>(), 187 / 48.0, 0.03));
    }
  }

  /// A gain or a filter that happened last is taken off the return again, wherever the programme holds something.
  void what_happened_last_is_undone() {
    const Planar s = programme("dense", rate, 6, 23);
    const Planar turned = filtered(s, rate, "bell", 900, 1.1, -7);
    const auto filter = estimate_filter(excerpt_of(s, turned), Planar(s));
    QVERIFY(filter && filter->runs);
    Excerpt back = *undone(excerpt_of(s, turned), *filter, s);
    for (const auto& [frames, off_db] : {std::pair{int64_t(0), -60.0}, {int64_t(rate / 2), -80.0}}) {  // ends ring
      std::fill_n(back.told.begin(), frames, 0), std::fill_n(back.told.end() - frames, frames, 0);
      QVERIFY(10 * std::log10(power_left(back, s) / back.master_power) < off_db);
    }
    const Found moves{{}, [](const Places&, Planar& m) {
                        m = changed(std::move(m), [](double x, int c, int64_t n) {
                          return x * (c == 0 ? 0.5 : 1 + 0.9 * std::sin(double(n) / 9000));
                        });
                      }};
    Planar moved = s;
    moves.take_out({}, moved);
    const Excerpt still = *undone(excerpt_of(s, moved), moves, s);
    QVERIFY(power_left(still, s) < 1e-28);
  }

  /// ... and so is a curve, where every level came back as one of its own; and a filter that let nothing through, as
  /// far as what went in is known.
  void a_curve_and_a_high_pass_are_undone() {
    const Planar s = scaled(programme("drums", rate, 6, 23), 0.9);
    const auto bend = [&](double most) {
      return changed(s, [most](double x, int, int64_t) { return std::clamp(x - 0.2 * x * x * x, -most, most); });
    };
    const auto rises = estimate_curve(excerpt_of(s, bend(1)), Planar(s)),
               stands = estimate_curve(excerpt_of(s, bend(0.2)), Planar(s));
    QVERIFY(rises && rises->bends_back && stands && !stands->bends_back);
    const auto straight = undone(excerpt_of(s, bend(1)), *rises, s);
    QVERIFY(straight && 10 * std::log10(power_left(*straight, s) / straight->master_power) < -60);
    QVERIFY(!undone(excerpt_of(s, bend(0.2)), *stands, s));

    const Planar low_cut = filtered(s, rate, "high pass", 90, 0.7);
    const auto filter = estimate_filter(excerpt_of(s, low_cut), Planar(s));
    const auto left_db = [&](const Planar& before) {
      const auto back = undone(excerpt_of(s, low_cut), *filter, before);
      return 10 * std::log10(power_left(*back, s) / back->master_power);
    };
    const double about = left_db(scaled(s, 0.97)), nothing = left_db(scaled(s, 0));
    QVERIFY2(about < -45 && about < nothing - 15, qPrintable(QString("%1 %2").arg(about).arg(nothing)));
  }

  /// What comes back where the model holds next to nothing is none of a filter's, and must not spoil what is.
  void what_comes_where_the_model_is_silent_is_no_filters() {
    const Planar s = requantised(
        with_spectrum(programme("choir", rate, 12, 26), rate, [](double hz) { return hz < 9000 ? 1.0 : 0.0; }), 24,
        true);
    Planar turned = filtered(s, rate, "high pass", 50, 0.7);
    dsp::Noise chance(27);
    const Planar above = with_spectrum(changed(s, [&](double, int, int64_t) { return chance.between(-0.01, 0.01); }),
                                       rate, [](double hz) { return hz > 11000 ? 1.0 : 0.0; });
    double added = 0;
    for (int c = 0; c < s.channels(); ++c)
      for (size_t n = 0; n < size_t(s.frames()); ++n)
        turned.channel(c)[n] += above.channel(c)[n], added += above.channel(c)[n] * above.channel(c)[n];
    const Excerpt e = excerpt_of(s, turned);
    const auto filter = estimate_filter(e, Planar(s));
    QVERIFY(filter);
    Planar made = s;
    filter->take_out(e, made);
    const double left = power_left(e, made), least = added / double(s.frames() * s.channels());
    QVERIFY2(left < 2 * least, qPrintable(QString("%1 of %2").arg(left).arg(least)));
  }

  /// Between two knots a curve goes no further than these, and is as round as what it was read from.
  void a_curve_is_read_as_round_as_it_is() {
    const Planar s = programme("dense", rate, 8, 28);
    for (const double drive : {0.5, 1.5, 4.0}) {
      const Planar pressed = changed(s, [&](double x, int, int64_t) { return std::tanh(drive * x) / drive; });
      const Excerpt e = excerpt_of(s, pressed);
      const auto curve = estimate_curve(e, Planar(s));
      QVERIFY(curve);
      Planar made = s;
      curve->take_out(e, made);
      const double db = 10 * std::log10(power_left(e, made) / e.master_power);
      QVERIFY2(db < -67, qPrintable(QString("%1: %2 dB").arg(drive).arg(db)));
    }
  }

  /// Where a gain was put in that is known only about, a filter's level where the programme is next to nothing is known
  /// no better than what is left there lets it be.
  void a_moving_gain_leaves_faint_levels_open() {
    Planar s = filtered(programme("dense", rate, 8, 24), rate, "high shelf", 9000, 0.7, -40);
    const Planar turned = filtered(s, rate, "bell", 400, 1, 5);
    dsp::Noise chance(25);
    const auto told = [&](bool moved) {
      Model off = changed(s, [&](double x, int, int64_t) { return x + 2e-4 * chance.between(-1, 1); });
      off.moved = moved;
      return estimate_filter(excerpt_of(s, turned), off)->cause.values["sections"];
    };
    for (const Json& section : told(true)) QVERIFY2(section["hz"] < 600, section.dump().c_str());
    QCOMPARE(told(true).size(), 1u);
    QVERIFY(std::abs(told(true)[0]["gain_db"].get<double>() - 5) < 0.2);
    QVERIFY(told(false).size() > 1);  // as it is where the model is right, and the return lost its treble
  }

  /// The law of a level that is known is read to a few thousandths beside a filter that is not.
  void a_law_is_read_whatever_the_filter() {
    const Planar s = programme("dense", rate, 8, 22);
    LevelCourse level;
    double now = 0;
    for (int64_t n = 0; n < s.frames(); ++n) {
      now += (std::abs(s.channel(0)[size_t(n)]) - now) / 2000;
      if (n % LevelCourse::every == 0) level.dbfs.push_back(float(dsp::db_of(now, 1e-6)));
    }
    const auto law = [&](int64_t n) { return dsp::gain_of(-0.5 * std::max(0.0, level.at(n) + 24)); };
    const Planar pressed = changed(s, [&](double x, int, int64_t n) { return x * law(n); });
    for (const double eq_db : {0.0, 5.0, -9.0}) {
      const Excerpt e = excerpt_of(s, filtered(pressed, rate, "low shelf", 120, 0.7, eq_db));
      Planar model = s;
      put_in_law_beside_filter(e, level, model);
      std::vector<double> off;  // but for one gain over all, which is the filter's
      for (int64_t n = 0; n < s.frames(); n += 97)
        if (std::abs(s.channel(0)[size_t(n)]) > 1e-3)
          off.push_back(model.channel(0)[size_t(n)] / s.channel(0)[size_t(n)] / law(n));
      const double mean = std::accumulate(off.begin(), off.end(), 0.0) / double(off.size());
      double square = 0;
      for (const double x : off) square += std::pow(x / mean - 1, 2) / double(off.size());
      QVERIFY2(std::sqrt(square) < 0.02, qPrintable(QString("%1 dB, %2").arg(eq_db).arg(std::sqrt(square))));
    }
  }
};

QTEST_GUILESS_MAIN(TestEstimates)
#include "test_estimates.moc"
