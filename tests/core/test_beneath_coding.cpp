// What was done before a return was coded: an EQ is read as it was set, levels are what they were, and nothing is told
// that only the coder did.
#include <QtTest>
#include <cmath>

#include "core/compare/explain.hpp"
#include "tests/support/programmes.hpp"
#include "tests/support/share.hpp"
#include "tests/support/signals.hpp"
#include "tests/support/stages.hpp"
#include "tests/support/treatments.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

struct Bell {
  const char *programme, *encoder;
  int rate;
  double hz, db, q;
};

const Json& sections_of(const Cause& eq) { return eq.values["sections"]; }

bool is_one(const Cause* eq, const char* type) {
  return eq && sections_of(*eq).size() == 1 && sections_of(*eq)[0]["type"] == type;
}

double gain_told(const NullReport& r) {
  const Cause* gain = cause(r, "gain");
  return gain ? gain->values["gain_db"].get<double>() : 0;
}

/// The encoder's own: lame turns down by 0.97, so that less is clipped.
double gain_of(const std::string& encoder) { return encoder == "libmp3lame" ? 20 * std::log10(0.97) : 0; }

Planar faded_in(Planar sound, int rate, double length_s) {
  const double length = length_s * rate;
  return gained(std::move(sound),
                [=](size_t n) { return double(n) < length ? 0.5 - 0.5 * std::cos(pi * double(n) / length) : 1; });
}

Planar stepped(Planar sound, int rate, double at_s, double db) {
  return gained(std::move(sound), [=](size_t n) { return double(n) < at_s * rate ? 1 : std::pow(10, db / 20); });
}

}  // namespace

class TestBeneathCoding : public QObject {
  Q_OBJECT

  NullReport told_coded(const Planar& sound, const Planar& treated, int rate, const char* encoder, int bits) {
    const auto master = save(folder_ / "m.wav", sound, rate, WordFormat::pcm24),
               went = save(folder_ / "t.wav", treated, rate, WordFormat::pcm24),
               ret = save(folder_ / "r.wav", coded_and_back(folder_, went, encoder, bits), rate, WordFormat::pcm24);
    return explained_null_of(master, ret);
  }

 private slots:
  void initTestCase() { qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str())); }

  /// Bass that the programme hardly holds, and treble that the coder thins out, do not pull.
  void a_bell_is_read_as_it_was_set() {
    for (const Bell& b : {Bell{"speech", "libmp3lame", 44100, 3000, -3.3, 0.7},
                          {"choir", "libvorbis", 48000, 250, 2.8, 1},
                          {"wide", "libvorbis", 44100, 120, -3, 0.7},
                          {"near_mono", "libmp3lame", 48000, 250, 1.9, 0.7}}) {
      const Planar sound = programme(b.programme, b.rate, 12, 31);
      const auto r = told_coded(sound, filtered(sound, b.rate, "bell", b.hz, b.q, b.db), b.rate, b.encoder, 160000);
      const Cause* eq = cause(r, "eq");
      QVERIFY2(tells(r, "lossy") && is_one(eq, "bell"), qPrintable(b.programme + (": " + told(r))));
      const Json& s = sections_of(*eq)[0];
      QVERIFY2(std::abs(std::log2(s["hz"].get<double>() / b.hz)) < 0.15, qPrintable(told(r)));
      QVERIFY2(is_near(s["gain_db"].get<double>(), b.db, 0.6), qPrintable(told(r)));
      QVERIFY2(is_near(gain_told(r), gain_of(b.encoder), 0.5) && !tells(r, "channel_gain"), qPrintable(told(r)));
    }
  }

  /// Of a high pass under the lowest note only the phase is left to see.
  void a_high_pass_shows_in_the_phase() {
    for (const auto& [name, encoder, hz] :
         {std::tuple{"choir", "libmp3lame", 30.0}, {"speech", "libvorbis", 20.0}, {"wide", "libvorbis", 20.0}}) {
      const Planar sound = programme(name, 44100, 12, 32);
      const auto r = told_coded(sound, filtered(sound, 44100, "high pass", hz, 0.707), 44100, encoder, 160000);
      const Cause* eq = cause(r, "eq");
      QVERIFY2(is_one(eq, "high_pass"), qPrintable(name + (": " + told(r))));
      QVERIFY2(std::abs(std::log2(sections_of(*eq)[0]["hz"].get<double>() / hz)) < 0.5, qPrintable(told(r)));
    }
  }

  /// The gain that is told is that of what was neither faded nor stepped.
  void levels_are_what_they_were() {
    const Planar sound = programme("loop", 48000, 12, 33);
    const Planar equalised = filtered(sound, 48000, "bell", 60, 0.7, -3.9);
    const auto faded = told_coded(sound, faded_in(equalised, 48000, 1.5), 48000, "libvorbis", 160000);
    QVERIFY2(tells(faded, "fade") && tells(faded, "eq"), qPrintable(told(faded)));
    QVERIFY2(is_near(gain_told(faded), 0, 0.15), qPrintable(told(faded)));
    const Planar bass = programme("bass", 44100, 12, 34);
    const auto step = told_coded(bass, stepped(scaled(bass, 0.5), 44100, 4, -1), 44100, "libvorbis", 160000);
    QVERIFY2(tells(step, "gain_step") && is_near(gain_told(step), -6.02, 0.1), qPrintable(told(step)));
  }

  /// The coder leaves more than a step of the level takes out; but on either side of it the gain holds.
  void a_step_is_plain_to_see_in_what_a_coder_leaves() {
    for (const auto& [name, encoder, at_s, db] : {std::tuple{"near_mono", "libmp3lame", 5.6, -1.5},
                                                  {"dense", "libmp3lame", 7.0, -1.3},
                                                  {"wide", "aac", 4.0, 0.9}}) {
      const Planar sound = programme(name, 44100, 12, 37);
      const auto r = told_coded(sound, stepped(scaled(sound, 0.8), 44100, at_s, db), 44100, encoder, 160000);
      const Cause* step = cause(r, "gain_step");
      QVERIFY2(step && step->values["count"] == 1, qPrintable(name + (": " + told(r))));
      QVERIFY2(is_near(number(step, "at_s"), at_s, 0.05) && is_near(number(step, "step_db"), db, 0.15),
               qPrintable(told(r)));
      QVERIFY2(is_near(gain_told(r), -1.94 + gain_of(encoder), 0.3), qPrintable(told(r)));
    }
  }

  /// Neither an EQ, nor a gain, nor a step of it, nor one of a channel.
  void a_coder_alone_is_coding() {
    for (const char* name : {"wide", "dense", "near_mono", "from_silence"}) {
      const Planar sound = programme(name, 44100, 12, 35);
      const auto r = told_coded(sound, sound, 44100, "libvorbis", 160000);
      QVERIFY2(tells(r, "lossy") && !tells(r, "eq") && !tells(r, "gain") && !tells(r, "channel_gain") &&
                   !tells(r, "gain_step"),
               qPrintable(told(r)));
    }
  }

  /// More than a coder takes, it was set, whatever phase it has: and the rest keeps its level.
  void a_shelf_without_a_phase_beside_a_bell_stays_set() {
    const Planar sound = programme("wide", 48000, 12, 36);
    const auto shelf = [](double hz) { return std::pow(10, -6.0 / 20 / (1 + std::pow(1200 / std::max(hz, 1.0), 4))); };
    const Planar dulled = filtered(with_spectrum(sound, 48000, shelf), 48000, "bell", 200, 0.7, 3);
    const auto r = told_coded(sound, dulled, 48000, "libvorbis", 192000);
    const Cause* eq = cause(r, "eq");
    QVERIFY2(eq && tells(r, "lossy") && sections_of(*eq).size() == 2, qPrintable(told(r)));
    QVERIFY2(is_near(sections_of(*eq)[1]["gain_db"].get<double>(), -6, 1), qPrintable(told(r)));
    QVERIFY2(is_near(gain_told(r), 0, 0.3) && eq->values["flat_db"] == eq->values["channel_flat_db"][0],
             qPrintable(told(r)));
  }

  /// What comes back softer the louder it is was faded in, not limited.
  void a_fade_of_a_loud_start_is_no_limiter() {
    const Planar sound = programme("bass", 44100, 12, 7728);
    const auto r = told_of(folder_, sound, faded_in(sound, 44100, 0.3), 44100, WordFormat::pcm24);
    QVERIFY2(tells(r, "fade") && !tells(r, "limiter") && !tells(r, "gain_step"), qPrintable(told(r)));
  }

 private:
  const Folder folder_{};
};

SHARED_MAIN(TestBeneathCoding)
#include "test_beneath_coding.moc"
