// The analysis of a trial: what is done again, and what is not, when its inputs change; and stores with a limit.
#include <QTest>
#include <deque>
#include <fstream>

#include "core/audio/cache.hpp"
#include "core/bench/analysis.hpp"
#include "core/dsp/noise.hpp"
#include "tests/support/signals.hpp"

using namespace heathmist;
using namespace heathmist::test;

class TestAnalysis : public QObject {
  Q_OBJECT

 private slots:
  void initTestCase() {
    qputenv("XDG_CACHE_HOME", (folder_ / "cache").c_str());
    sound_ = Programme(4, 3).render(44100);
    master_ = save(folder_ / "master.wav", sound_, 44100, WordFormat::pcm24);
    ret_ = save(folder_ / "return.wav", scaled(sound_, 0.5), 44100, WordFormat::pcm24);
    silence_ = save(folder_ / "silence.wav", with_noise(scaled(sound_, 0), 1e-4, 5), 44100, WordFormat::pcm24);
  }

  /// Against the plain functions: the service adds nothing and leaves nothing out.
  void it_is_what_the_plain_functions_give() {
    Analysis analysis;
    const auto result = whole(analysis, {master_, ret_});
    const auto m = Clip::open(master_), r = Clip::open(ret_);
    const auto pair = comparable(m, r);
    auto report = null_test(*m, *r, pair);
    const auto why = explain(*m, *r, pair, report);
    QCOMPARE(result.report->residual_relative_db(), report.residual_relative_db());
    QCOMPARE(result.report->fit.gain_db, report.fit.gain_db);
    QCOMPARE(result.report->findings.size(), report.findings.size());
    for (size_t n = 0; n < report.findings.size(); ++n)
      QCOMPARE(result.report->findings[n].text, report.findings[n].text);
    QCOMPARE(result.why->layers.layers.size(), why.layers.layers.size());
  }

  void nothing_is_done_twice() {
    Analysis analysis;
    const auto first = whole(analysis, {master_, ret_});
    QCOMPARE(analysis.steps(), (Analysis::Steps{2, 1, 1, 1}));
    const auto again = whole(analysis, {master_, ret_});
    QCOMPARE(analysis.steps(), (Analysis::Steps{2, 1, 1, 1}));
    QVERIFY(again.report == first.report && again.why == first.why);
  }

  /// Another hold: the files stay open and the pair as it is; back again: at once.
  void a_hold_costs_a_null_and_its_undo_nothing() {
    Analysis analysis;
    AnalysisInput input{master_, ret_};
    const auto free = whole(analysis, input);
    input.hold.gain_db = -3;
    const auto held = whole(analysis, input);
    QCOMPARE(analysis.steps(), (Analysis::Steps{2, 1, 2, 2}));
    QCOMPARE(held.report->fit.gain_db, -3.0);
    QCOMPARE(held.measured.gain_db, free.report->fit.gain_db);
    input.hold = {};
    const auto back = whole(analysis, input);
    QCOMPARE(analysis.steps(), (Analysis::Steps{2, 1, 2, 2}));
    QVERIFY(back.report == free.report);
  }

  /// Another floor: only the explanation is another; the null is not written into.
  void a_floor_costs_an_explanation() {
    Analysis analysis;
    AnalysisInput input{master_, ret_};
    const auto null = analysis.null(input, grant_nothing);
    const auto plain = analysis.explained(input, null);
    QVERIFY(!null.report->explained && plain.report->explained);
    input.floor = Floor{"silence", {silence_, {}}, {}};
    const auto over = whole(analysis, input);
    QCOMPARE(analysis.steps(), (Analysis::Steps{3, 1, 1, 2}));
    QVERIFY(over.why->floor && !plain.why->floor);
    QVERIFY(!null.report->explained);
  }

  /// A file with other content under the same name is another input; the old content again is the old one.
  void content_counts_and_not_the_name() {
    Analysis analysis;
    const auto file = save(folder_ / "moving.wav", scaled(sound_, 0.5), 44100, WordFormat::pcm24);
    const auto first = whole(analysis, {master_, file});
    save(file, with_noise(scaled(sound_, 0.25), 1e-3, 9), 44100, WordFormat::pcm24);
    const auto second = whole(analysis, {master_, file});
    QVERIFY(second.report != first.report && second.ret_print != first.ret_print);
    QVERIFY(second.report->residual_relative_db().value_or(-999) > -60);
    save(file, scaled(sound_, 0.5), 44100, WordFormat::pcm24);
    const auto third = whole(analysis, {master_, file});
    QVERIFY(third.report == first.report);
    QCOMPARE(analysis.steps().nulled, 2);
  }

  /// What was measured while the file was being written over is kept under neither content.
  void what_changed_while_it_was_measured_is_not_kept() {
    Analysis analysis;
    const auto file = save(folder_ / "racing.wav", scaled(sound_, 0.5), 44100, WordFormat::pcm24);
    bool raced = false;
    const Job job{{}, [&](double fraction) {
                    if (fraction > 0.5 && !std::exchange(raced, true))
                      save(file, scaled(sound_, 0.25), 44100, WordFormat::pcm24);
                  }};
    const auto mixed = analysis.null({master_, file}, grant_nothing, job);
    QVERIFY(raced);
    save(file, scaled(sound_, 0.5), 44100, WordFormat::pcm24);
    const auto right = analysis.null({master_, file}, grant_nothing);
    QCOMPARE(right.ret_print, mixed.ret_print);  // the content that was there when it was opened
    QVERIFY(right.report != mixed.report);
    QVERIFY(std::abs(right.report->fit.gain_db + 6.02) < 0.01);
  }

  void a_chain_is_an_input_like_a_file() {
    Analysis analysis;
    AnalysisInput input{master_, {}};
    input.chain = Chain{"", {{"gain", {{"gain_db", -6}}}}, 1};
    const auto down = whole(analysis, input);
    QVERIFY(std::abs(down.report->fit.gain_db + 6) < 0.01);
    input.chain->stages[0].values["gain_db"] = -2;
    QVERIFY(std::abs(whole(analysis, input).report->fit.gain_db + 2) < 0.01);
    input.chain->stages[0].values["gain_db"] = -6;
    QVERIFY(whole(analysis, input).report == down.report);
  }

  /// With room for little, what is asked for last stays, and what was let go is right when it is made again.
  void a_small_store_forgets_and_is_right() {
    Analysis small(1), roomy;
    const auto first = whole(small, {master_, ret_});
    AnalysisInput held{master_, ret_};
    held.hold.gain_db = -1;
    whole(small, held);
    const auto again = whole(small, {master_, ret_});
    QVERIFY(small.steps().nulled >= 3);
    QCOMPARE(again.report->residual_relative_db(), first.report->residual_relative_db());
    QVERIFY(bytes_of(*again.report) > 10000 && bytes_of(*again.report) < 100 << 20);
  }

  void errors_pass_through_and_leave_it_whole() {
    Analysis analysis;
    QVERIFY_EXCEPTION_THROWN(analysis.null({master_, folder_ / "no.wav"}, grant_nothing), InputError);
    std::stop_source stop;
    stop.request_stop();
    QVERIFY_EXCEPTION_THROWN(analysis.null({master_, ret_}, grant_nothing, Job{stop.get_token(), {}, 0}), Cancelled);
    QVERIFY(whole(analysis, {master_, ret_}).why);
    AnalysisInput no_floor{master_, ret_};
    no_floor.floor = Floor{"gone", {folder_ / "gone.wav", {}}, {}};
    QVERIFY_EXCEPTION_THROWN(whole(analysis, no_floor), InputError);
  }

  /// What was not used the longest goes first, down to three quarters of the limit; what is not ours stays.
  void the_cache_on_disk_has_a_limit() {
    qputenv("XDG_CACHE_HOME", (folder_ / "small cache").c_str());
    const auto folder = cache_folder();
    std::ofstream(folder / "somebody.else") << std::string(5000, 'x');
    const auto name = [](int n) { return "f" + std::to_string(n) + ".trial"; };
    for (int n = 0; n < 20; ++n) {
      write_cache(name(n), std::string(1000, char('a' + n)));
      std::filesystem::last_write_time(folder / name(n),
                                       std::filesystem::file_time_type::clock::now() - std::chrono::hours(100 - n));
    }
    set_cache_limit(21000);
    QCOMPARE(sweep_cache(), 0);
    QCOMPARE(read_cache(name(0)), std::optional(std::string(1000, 'a')));  // used now
    set_cache_limit(16200);
    QCOMPARE(sweep_cache(), 8);
    QVERIFY(read_cache(name(0)) && !read_cache(name(1)) && !read_cache(name(8)) && read_cache(name(9)));
    QVERIFY(std::filesystem::exists(folder / "somebody.else"));
    for (int n = 0; n < 200; ++n) write_cache("g" + std::to_string(n) + ".survey", std::string(1000, 'z'));
    uintmax_t all = 0;
    for (const auto& file : std::filesystem::directory_iterator(folder)) all += file.file_size();
    QVERIFY2(all < 5000 + 16000 + 33000, qPrintable(QString::number(all)));  // swept by itself while it is written
    QVERIFY(!read_cache("") && !read_cache("never.trial"));
    set_cache_limit(uintmax_t(256) << 20);
    qputenv("XDG_CACHE_HOME", (folder_ / "cache").c_str());
  }

  /// A store against a plain list of what was used when.
  void a_store_keeps_what_was_used_last() {
    dsp::Noise chance(12);
    for (int round = 0; round < 50; ++round) {
      const auto most = size_t(chance.between(1, 400)), least = size_t(chance.between(1, 4));
      Store<int> store(most, least);
      std::deque<std::tuple<std::string, int, size_t>> model;  // newest first
      const auto place = [&](const std::string& key) {
        return std::find_if(model.begin(), model.end(), [&](const auto& e) { return std::get<0>(e) == key; });
      };
      for (int n = 0; n < 200; ++n) {
        const std::string key(1, char('a' + int(chance.between(0, 11.99))));
        const auto at = place(key);
        if (chance.between(0, 1) < 0.5) {
          const auto found = store.find(key);
          QCOMPARE(found.has_value(), at != model.end());
          if (at == model.end()) continue;
          QCOMPARE(*found, std::get<1>(*at));
          const auto entry = *at;
          model.erase(at), model.push_front(entry);
        } else {
          const auto bytes = size_t(chance.between(0, 120));
          if (at != model.end()) model.erase(at);
          model.emplace_front(key, n, bytes);
          store.keep(key, n, bytes);
          const auto sum = [&] {
            size_t all = 0;
            for (const auto& e : model) all += std::get<2>(e);
            return all;
          };
          while (sum() > most && model.size() > least) model.pop_back();
          QCOMPARE(store.bytes(), sum());
        }
        QCOMPARE(store.size(), model.size());
      }
    }
  }

 private:
  static AnalysisResult whole(Analysis& analysis, const AnalysisInput& input) {
    return analysis.explained(input, analysis.null(input, grant_nothing));
  }
  Folder folder_;
  Planar sound_;
  std::filesystem::path master_, ret_, silence_;
};

QTEST_GUILESS_MAIN(TestAnalysis)
#include "test_analysis.moc"
