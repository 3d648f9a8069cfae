// Random input: files with bytes gone or changed, chains and benches of any shape. Nothing crashes, nothing hangs, what
// is refused is refused in one sentence, and what is taken holds its promises.
#include <fstream>

#include "core/bench/document.hpp"
#include "core/delivery/outlet.hpp"
#include "core/measure/spectra.hpp"
#include "tests/support/stages.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

std::string bytes_of(const std::filesystem::path& file) {
  std::ifstream in(file, std::ios::binary);
  return {std::istreambuf_iterator<char>(in), {}};
}

void put(const std::filesystem::path& file, const std::string& bytes) {
  std::ofstream(file, std::ios::binary | std::ios::trunc) << bytes;
}

/// One line, with the file's name in it and something said.
bool is_one_sentence(const std::string& text, const std::string& name) {
  return text.find('\n') == std::string::npos && text.size() > name.size() + 10 && text.find(name) != std::string::npos;
}

/// A value that a parameter takes.
Json value_for(const Parameter& p, dsp::Noise& chance) {
  switch (p.kind) {
    case Parameter::Kind::number:
      return chance.between(p.low, p.high);
    case Parameter::Kind::whole:
      return int(std::lround(chance.between(p.low, p.high)));
    case Parameter::Kind::choice:
      return p.choices[size_t(chance.between(0, double(p.choices.size())))];
    case Parameter::Kind::flag:
      return chance.uniform() < 0.5;
    default:
      return p.initial;
  }
}

}  // namespace

class TestRandom : public StageTest {
  Q_OBJECT

 private slots:
  void initTestCase() { qputenv("XDG_CACHE_HOME", QByteArray((folder_ / "cache").c_str())); }

  /// Cut anywhere, or with bytes of its head changed: opened and read to its end, or refused in a sentence.
  void broken_files_are_read_or_refused_data() {
    QTest::addColumn<QString>("name");
    QTest::addColumn<int>("format");
    QTest::newRow("wav 16") << "a.wav" << int(WordFormat::pcm16);
    QTest::newRow("wav 24") << "b.wav" << int(WordFormat::pcm24);
    QTest::newRow("wav float") << "c.wav" << int(WordFormat::float32);
    QTest::newRow("flac") << "d.flac" << int(WordFormat::pcm24);
  }
  void broken_files_are_read_or_refused() {
    QFETCH(QString, name);
    QFETCH(int, format);
    const auto whole =
        bytes_of(save(folder_ / name.toStdString(), Programme(0.3, 5).render(44100), 44100, WordFormat(format)));
    const auto file = folder_ / ("broken " + name.toStdString());
    dsp::Noise chance(uint64_t(format) + 77);
    int opened = 0, refused = 0;
    for (int n = 0; n < 120; ++n) {
      std::string bytes = whole;
      if (n % 3 == 0)
        bytes.resize(size_t(chance.between(0, double(whole.size()))));
      else
        for (int k = 0; k < 1 + n % 5; ++k)
          bytes[size_t(chance.between(0, n % 3 == 1 ? 60 : double(whole.size())))] = char(chance.bits());
      put(file, bytes);
      try {
        const auto clip = Clip::open(file);
        const auto& f = clip->format();
        QVERIFY(f.channels > 0 && f.frames > 0 && f.sample_rate_hz > 0);
        Planar block;
        const auto reader = clip->reader();
        for (int64_t at = 0; at < f.frames && at < (1 << 22); at += 65536)
          reader->read(at, std::min<int64_t>(65536, f.frames - at), block);
        ++opened;
      } catch (const InputError& error) {
        QVERIFY2(is_one_sentence(error.what(), "broken"), error.what());
        ++refused;
      }
    }
    QVERIFY2(refused > 20 && opened + refused == 120,
             qPrintable(QString("%1 opened, %2 refused").arg(opened).arg(refused)));
  }

  /// Any stage with any values it says it takes: a return of finite samples, of the length the stage's kind gives.
  void any_stage_takes_any_of_its_values_data() {
    QTest::addColumn<QString>("type");
    for (const StageType& t : stage_types())
      if (t.type != "external" && t.type != "lv2" && t.type != "convolution")  // those want a program or a file
        QTest::newRow(t.type.c_str()) << QString::fromStdString(t.type);
  }
  void any_stage_takes_any_of_its_values() {
    QFETCH(QString, type);
    const StageType& t = *stage_type(type.toStdString());
    const auto master = clip(Programme(0.4, 3).render(48000), 48000);
    dsp::Noise chance(std::hash<std::string>()(t.type) % 1000);
    const int tries = t.type == "codec" ? 14 : 10;
    int made = 0;
    for (int n = 0; n < tries; ++n) {
      Stage stage{t.type};
      for (const Parameter& p : t.parameters)
        if (chance.uniform() < 0.7) stage.values[p.key] = value_for(p, chance);
      if (stage.values.contains("delay_samples")) stage.values["delay_samples"] = chance.between(-2000, 20000);
      const auto words = QString::fromStdString(stage.values.dump());
      try {
        const auto passed = pass(master, Chain{"", {stage}, 1});
        const auto sound = samples_of(*passed.ret);
        QVERIFY2(sound.frames() > 0, qPrintable(words));
        for (int c = 0; c < sound.channels(); ++c)
          for (const double x : sound.channel(c)) QVERIFY2(std::isfinite(x), qPrintable(words));
        QCOMPARE(passed.stages.size(), size_t(1));
        ++made;
      } catch (const ChainError& error) {  // some values do not go together, and it says so
        QVERIFY2(QString(error.what()).startsWith("stage 1 ("), error.what());
      }
    }
    QVERIFY2(made >= tries / 3, qPrintable(QString::number(made)));
  }

  void a_value_that_is_none_is_named() {
    dsp::Noise chance(9);
    for (const StageType& t : stage_types())
      for (const Parameter& p : t.parameters) {
        if (p.kind == Parameter::Kind::file || p.kind == Parameter::Kind::text) continue;
        Json bad = p.kind == Parameter::Kind::choice ? Json("no such choice")
                   : p.kind == Parameter::Kind::flag ? Json("maybe")
                                                     : Json(p.high + 1 + chance.between(0, 1e6));
        const Json json{{"stages", Json::array({{{"type", t.type}, {p.key, bad}}})}};
        try {
          chain_from_json(json);
          QFAIL(qPrintable(QString::fromStdString(t.type + "." + p.key)));
        } catch (const ChainError& error) {
          QVERIFY2(QString(error.what()).contains(QString::fromStdString(p.key)), error.what());
        }
      }
  }

  /// A bench with letters gone or changed is loaded or refused; what is loaded can be saved and is then the same.
  void broken_benches_are_loaded_or_refused() {
    Bench bench;
    bench.name = "Curlew Hours";
    for (int n = 0; n < 3; ++n) {
      bench.masters.push_back({"m" + std::to_string(n), "Tide", {folder_ / "t.wav", "1-2"}, {}});
      bench.masters.back().trials.push_back({"t" + std::to_string(n), "Back", {folder_ / "r.wav", "3-4"}, {}});
      bench.masters.back().trials.push_back({"c" + std::to_string(n), "", {}, {}});
      bench.masters.back().trials.back().chain = Chain{"", {{"gain", {{"gain_db", -3}}}}, 2};
    }
    const auto file = folder_ / "whole.heathmist", broken = folder_ / "broken.heathmist";
    save_bench(bench, file);
    QCOMPARE(load_bench(file).masters.size(), size_t(3));
    const std::string whole = bytes_of(file);
    dsp::Noise chance(4);
    int loaded = 0;
    for (int n = 0; n < 300; ++n) {
      std::string bytes = whole;
      if (n % 2)
        bytes.resize(size_t(chance.between(0, double(whole.size()))));
      else
        for (int k = 0; k < 1 + n % 7; ++k) {
          char& letter = bytes[size_t(chance.between(0, double(whole.size())))];
          if (std::isalnum(static_cast<unsigned char>(letter))) letter = char(chance.between(97, 122));
        }
      put(broken, bytes);
      try {
        const Bench read = load_bench(broken);
        const auto again = folder_ / "again.heathmist";
        save_bench(read, again);
        QVERIFY(load_bench(again).masters == read.masters);
        ++loaded;
      } catch (const InputError& error) {
        QVERIFY2(is_one_sentence(error.what(), "broken.heathmist"), error.what());
      }
    }
    QVERIFY(loaded > 10);
  }

  /// Whatever keys an outlet's file lacks or has wrong, it is an outlet or it is refused by a sentence.
  void outlets_of_any_shape_are_taken_or_refused() {
    dsp::Noise chance(6);
    const auto known = known_outlets();
    for (int n = 0; n < 300; ++n) {
      Json json = outlet_json(known[size_t(chance.between(0, double(known.size())))]);
      for (int k = 0; k < 1 + n % 3; ++k) {
        auto it = json.begin();
        std::advance(it, long(chance.between(0, double(json.size()))));
        const Json values[] = {nullptr, true, -1e9, 3.5, "word", Json::array(), Json::object()};
        if (chance.uniform() < 0.3)
          json.erase(it);
        else
          *it = values[size_t(chance.between(0, 7))];
        if (json.empty()) break;
      }
      try {
        const Outlet o = outlet_from_json("mine", json);
        QVERIFY(!o.name.empty());
        QVERIFY(outlet_from_json("mine", outlet_json(o)) == o);
      } catch (const OutletError& error) {
        QVERIFY(std::string(error.what()).size() > 10);
      }
    }
  }

  /// Parseval: whatever window, size and overlap, the bins of a spectrum of noise sum to its mean square.
  void spectra_hold_the_power_that_is_there() {
    dsp::Noise chance(12);
    for (int n = 0; n < 24; ++n) {
      const double level = std::pow(10, chance.between(-6, -0.5));
      const auto noise = clip(with_noise(Planar(1 + n % 2, 96000), level, uint64_t(n) + 1));
      SpectraOptions o;
      o.fft_size = size_t(512) << (n % 5);
      o.window = dsp::Window(n % 4), o.side_lobe_db = chance.between(60, 200);
      o.overlap = chance.between(0.4, 0.8), o.most_blocks = 1'000'000;
      const auto s = spectra_of(*noise, o);
      double sum = 0;
      for (const double p : s.average.power) sum += p;
      double truth = 0;
      const auto sound = samples_of(*noise);
      for (int c = 0; c < sound.channels(); ++c) truth += mean_square(sound.channel(c)) / sound.channels();
      QVERIFY2(std::abs(10 * std::log10(sum / truth)) < 0.12,
               qPrintable(QString("%1: %2 dB").arg(n).arg(10 * std::log10(sum / truth))));
      for (size_t k = 0; k < s.hold.power.size(); ++k) QVERIFY(s.hold.power[k] >= s.average.power[k] * (1 - 1e-12));
    }
  }
};

QTEST_GUILESS_MAIN(TestRandom)
#include "test_random.moc"
