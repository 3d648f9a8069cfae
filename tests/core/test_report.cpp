// The content of a report: what it says is what was measured, of what was asked for, and what is missing is said.
#include <QtTest>
#include <fstream>
#include <set>

#include "core/audio/fingerprint.hpp"
#include "core/bench/put_aside.hpp"
#include "core/bench/report.hpp"
#include "core/bench/report_charts.hpp"
#include "core/delivery/measured.hpp"
#include "core/delivery/outlet.hpp"
#include "tests/support/programmes.hpp"
#include "tests/support/signals.hpp"

using namespace heathmist;
using namespace heathmist::test;

namespace {

constexpr int rate = 44100;

template <class Block>
std::vector<Block> blocks_of(const Report& report) {
  std::vector<Block> all;
  for (const ReportBlock& block : report.blocks)
    if (const auto* one = std::get_if<Block>(&block)) all.push_back(*one);
  return all;
}

/// Those of the first page: they say what they are of.
std::vector<ReportAnswer> answers_of(const Report& report) {
  auto all = blocks_of<ReportAnswer>(report);
  std::erase_if(all, [](const ReportAnswer& a) { return a.done.empty(); });
  return all;
}

const ReportTable* table_of(const std::vector<ReportTable>& tables, const std::string& title) {
  const auto it = std::find_if(tables.begin(), tables.end(),
                               [&](const ReportTable& t) { return t.title.find(title) != std::string::npos; });
  return it == tables.end() ? nullptr : &*it;
}

bool has_heading(const Report& report, const std::string& text) {
  for (const auto& h : blocks_of<ReportHeading>(report))
    if (h.text == text) return true;
  return false;
}

const ChartLine* line_of(const Chart& chart, ChartLine::Role role) {
  for (const ChartLine& line : chart.lines)
    if (line.role == role) return &line;
  return nullptr;
}

Planar sine(double hz, double amplitude, double seconds) {
  Planar sound(2, int64_t(seconds * rate));
  for (int c = 0; c < 2; ++c)
    for (size_t n = 0; n < sound.channel(c).size(); ++n)
      sound.channel(c)[n] = amplitude * std::sin(2 * M_PI * hz * double(n) / rate);
  return sound;
}

}  // namespace

class TestReport : public QObject {
  Q_OBJECT

 private slots:
  void initTestCase() {
    const auto music = scaled(programme("dense", rate, 6, 9), 0.5);
    save(folder_ / "weir.wav", music, rate, WordFormat::pcm24);
    save(folder_ / "same.wav", music, rate, WordFormat::pcm24);
    save(folder_ / "noisy.wav", with_noise(music, 1e-3, 4), rate, WordFormat::pcm24);
    save(folder_ / "other.wav", scaled(programme("piano", rate, 5, 2), 0.5), rate, WordFormat::pcm16);
    bench_.name = "Curlew Hours";
    bench_.masters.push_back({"w", "Weir <by> Lamplight", ref("weir.wav"), {}, "Curlew Hours"});
    auto& trials = bench_.masters[0].trials;
    trials.push_back({"same", "the copy", ref("same.wav"), {}});
    trials.push_back({"noisy", "over the line", ref("noisy.wav"), {}});
    trials.push_back({"cut", "", {}, {}, Chain{"", {{"word_length", {{"bits", 12}}}}, 1}});
    trials.push_back({"gone", "what is gone", {folder_ / "gone.wav", {}}, {}});
    bench_.masters[0].marks.push_back({"m", "the wheel comes in", 1.5, 2.5, "noisy"});
    bench_.masters.push_back({"o", "Slack Water", ref("other.wav"), {}, "Curlew Hours"});
    whole_ = make_report(bench_, {.date = "2026-05-14"}, {.analysis = &analysis_});
  }

  void the_first_page_says_what_the_nulls_say() {
    const auto answers = answers_of(whole_);
    QCOMPARE(answers.size(), size_t(4));
    QCOMPARE(answers[0].done, std::string("the copy"));
    QCOMPARE(answers[0].severity, Severity::clean);
    QVERIFY(answers[0].is_measured && !answers[0].depth_db);
    const auto noisy = explained_null_of(folder_ / "weir.wav", folder_ / "noisy.wav");
    QCOMPARE(answers[1].changed, noisy.findings.front().text);
    QVERIFY(std::abs(*answers[1].depth_db - *noisy.residual_relative_db()) < 1e-9);
    const double truth = 20 * std::log10(1e-3) - 10 * std::log10(noisy.sums.master);  // noise against programme
    QVERIFY2(std::abs(*answers[1].depth_db - truth) < 0.2, qPrintable(QString::number(*answers[1].depth_db - truth)));
    QVERIFY(answers[2].changed.find("12 bit") != std::string::npos);
    for (const auto& a : answers)
      QVERIFY2(a.matters.find("LUFS") == std::string::npos && a.matters.find("dBr") == std::string::npos,
               a.matters.c_str());
  }
  void what_is_missing_is_said_and_the_rest_goes_on() {
    const auto answers = answers_of(whole_);
    QVERIFY(!answers[3].is_measured && answers[3].severity == Severity::fault);
    QVERIFY(answers[3].changed.find(": gone.wav: ") != std::string::npos);
    for (const auto& t : blocks_of<ReportTable>(whole_))
      for (const auto& row : t.rows)
        for (const auto& cell : row)
          QVERIFY2(cell.text.find((folder_ / "").string()) == std::string::npos, cell.text.c_str());
    QVERIFY(!whole_.troubles.empty());
    for (const auto& sentence : whole_.troubles) QVERIFY(sentence.find("gone.wav") != std::string::npos);
    Bench all_gone = bench_;
    all_gone.masters[0].audio.file = folder_ / "away.wav";
    QCOMPARE(make_report(all_gone, {.masters = {"w"}}).troubles.size(), size_t(2));  // one a file, not one a trial
    const std::set<std::string> once(whole_.troubles.begin(), whole_.troubles.end());
    QCOMPARE(once.size(), whole_.troubles.size());
    const auto tables = blocks_of<ReportTable>(whole_);
    const ReportTable* files = table_of(tables, "by their content");
    QVERIFY(files && files->rows.size() == 5);
    QCOMPARE(files->rows[0][2].text, fingerprint(folder_ / "weir.wav"));
    QCOMPARE(files->rows[3][2].text, std::string("missing"));
    for (const auto& row : files->rows)
      QVERIFY2(row[0].text.find('/') == std::string::npos, "a client sees no folders");
  }
  void its_loudness_is_the_meters() {
    const auto tables = blocks_of<ReportTable>(whole_);
    const ReportTable* loudness = table_of(tables, "Loudness");
    QVERIFY(loudness && loudness->rows.size() == 5);
    const Measured m = measure_file(folder_ / "weir.wav");
    QVERIFY(std::abs(QString::fromStdString(loudness->rows[0][1].text).replace(QChar(0x2212), '-').toDouble() -
                     *m.loudness.integrated_lufs) < 0.051);
    QCOMPARE(loudness->rows[0][0].text, std::string("Weir <by> Lamplight"));
    QVERIFY(loudness->rows[4][1].severity == Severity::fault);  // the missing one
    const ReportTable* album = table_of(tables, "Curlew Hours: Loudness");
    QVERIFY(album && album->rows.size() == 3);
    const Measured other = measure_file(folder_ / "other.wav");
    const Loudness both = album_of({&m.loudness, &other.loudness});
    QVERIFY(std::abs(QString::fromStdString(album->rows[2][1].text).replace(QChar(0x2212), '-').toDouble() -
                     *both.integrated_lufs) < 0.051);
    const ReportTable* outlets = table_of(tables, "delivered");
    QVERIFY(outlets && outlets->rows.size() == known_outlets().size());
  }
  void only_what_was_asked_for() {
    const Report one = make_report(bench_, {.trials = {"noisy"}}, {.analysis = &analysis_});
    QCOMPARE(answers_of(one).size(), size_t(1));
    QVERIFY(has_heading(one, "over the line") && !has_heading(one, "the copy") && !has_heading(one, "Slack Water"));
    QVERIFY(!has_heading(one, "Albums"));  // half of one is none
    const Report master = make_report(bench_, {.masters = {"o"}}, {.analysis = &analysis_});
    QVERIFY(answers_of(master).empty() && has_heading(master, "Slack Water"));
    const Report album = make_report(bench_, {.albums = {"Curlew Hours"}}, {.analysis = &analysis_});
    QCOMPARE(answers_of(album).size(), size_t(4));
    for (const ReportChoice& wrong : {ReportChoice{.masters = {"x"}}, {.trials = {"x"}}, {.albums = {"x"}}})
      QVERIFY_EXCEPTION_THROWN(make_report(bench_, wrong), std::invalid_argument);
  }
  void parts_are_left_out() {
    ReportChoice bare{.without = {report_parts.begin(), report_parts.end()}};
    const Report none = make_report(bench_, bare, {.analysis = &analysis_});
    QVERIFY(blocks_of<Chart>(none).empty() && blocks_of<ReportFinding>(none).empty());
    QCOMPARE(answers_of(none).size(), size_t(4));  // the answer always stands
    const auto tables = blocks_of<ReportTable>(none);
    for (const char* title : {"Loudness", "delivered", "Marks", "chain", "content"})
      QVERIFY2(!table_of(tables, title), title);
    for (const ReportPart part : report_parts) QVERIFY(report_part_named(name_of(part)) == part);
    QVERIFY(!report_part_named("weather"));
    const auto whole = blocks_of<ReportTable>(whole_);
    QVERIFY(table_of(whole, "Marks")->rows[0][2].text == "the wheel comes in");
    QVERIFY(table_of(whole, "Marks")->rows[0][3].text == "over the line");
    QVERIFY(table_of(whole, "chain")->rows[0][1].text.find("bits: 12") != std::string::npos);
  }
  /// With its reason, behind the others; the verdict is told whatever a bench says.
  void what_was_put_aside_is_told_with_its_reason() {
    const auto told_of = [&](const Bench& bench) {
      return blocks_of<ReportFinding>(make_report(bench, {.trials = {"noisy"}}, {.analysis = &analysis_}));
    };
    const auto before = told_of(bench_);
    QVERIFY(before.size() > 1 && before.front().text != before.back().text);
    Bench bench = bench_;
    const auto findings = explained_null_of(folder_ / "weir.wav", folder_ / "noisy.wav").findings;
    for (size_t n = 0; n < 2; ++n) put_aside(*bench.trial("noisy"), findings[n], "the <old> line");
    const auto after = told_of(bench);
    QCOMPARE(after.size(), before.size());
    QCOMPARE(after.front().text, before.front().text);
    QCOMPARE(after.front().detail, before.front().detail);
    QCOMPARE(after.back().text, findings[1].text);
    QCOMPARE(after.back().detail, std::string("Put aside: the <old> line"));
  }
  void files_of_a_chain_are_named_without_their_folders() {
    Planar click(2, 64);
    click.channel(0)[0] = click.channel(1)[0] = 1;
    save(folder_ / "room.wav", click, rate);
    Bench bench = bench_;
    bench.masters[0].trials = {
        {"c", "", {}, {}, Chain{"", {{"convolution", {{"response", (folder_ / "room.wav").string()}}}}, 1}}};
    const auto tables = blocks_of<ReportTable>(make_report(bench, {.masters = {"w"}}, {.analysis = &analysis_}));
    const ReportTable* chain = table_of(tables, "chain");
    QVERIFY(chain && chain->rows[0][1].text.find("room.wav") != std::string::npos);
    QVERIFY2(chain->rows[0][1].text.find('/') == std::string::npos, chain->rows[0][1].text.c_str());
  }
  void what_is_known_is_not_measured_again() {
    Analysis counting;
    const auto known = [&](const Trial& t) -> std::shared_ptr<const AnalysisResult> {
      const AnalysisInput input{folder_ / "weir.wav", t.ret.file, t.chain};
      if (t.id != "noisy") return nullptr;
      return std::make_shared<AnalysisResult>(analysis_.explained(input, analysis_.null(input, grant_nothing)));
    };
    const Report r = make_report(bench_, {.trials = {"noisy", "same"}}, {grant_nothing, known, &counting});
    QCOMPARE(counting.steps().nulled, 1);  // the other one
    QCOMPARE(answers_of(r)[1].changed, answers_of(whole_)[1].changed);
    make_report(bench_, {.trials = {"same"}}, {.analysis = &counting});
    QCOMPARE(counting.steps().nulled, 1);
  }
  void a_file_that_changed_is_measured_as_it_is_now() {
    const auto music = programme("speech", rate, 3, 1);
    save(folder_ / "a.wav", music, rate, WordFormat::pcm24), save(folder_ / "b.wav", music, rate, WordFormat::pcm24);
    Bench bench;
    bench.masters.push_back({"a", "A", ref("a.wav"), {{"b", "B", ref("b.wav"), {}}}});
    QVERIFY(answers_of(make_report(bench, {}))[0].severity == Severity::clean);
    save(folder_ / "b.wav", scaled(music, 0.5), rate, WordFormat::pcm24);
    const auto now = answers_of(make_report(bench, {}))[0];
    QVERIFY2(now.changed.find("quieter") != std::string::npos || now.changed.find("level") != std::string::npos,
             now.changed.c_str());
  }
  void a_logo_is_a_picture() {
    const QByteArray png = QByteArray::fromBase64(
        "iVBORw0KGgoAAAANSUhEUgAAAAIAAAABCAIAAAB7QOjdAAAAD0lEQVR4nGPQTmvp9WoDAAfYAnMXiH2cAAAAAElFTkSuQmCC");
    std::ofstream(folder_ / "logo.png", std::ios::binary) << png.toStdString();
    std::ofstream(folder_ / "cut.png", std::ios::binary) << png.left(60).toStdString();
    const Report r = make_report(bench_, {.logo = folder_ / "logo.png", .trials = {"same"}}, {.analysis = &analysis_});
    QVERIFY(r.logo && r.logo->type == "image/png" && r.logo->bytes == png.toStdString());
    std::ofstream(folder_ / "logo.gif", std::ios::binary) << "GIF89a";
    std::ofstream(folder_ / "empty.png", std::ios::binary);
    for (const char* wrong : {"logo.gif", "cut.png", "empty.png", "none.png", "weir.wav"})
      QVERIFY_EXCEPTION_THROWN(make_report(bench_, {.logo = folder_ / wrong}, {.analysis = &analysis_}), InputError);
    QVERIFY_EXCEPTION_THROWN(make_report(bench_, {.logo = folder_ / ""}, {.analysis = &analysis_}), InputError);
  }
  void it_can_be_stopped() {
    std::stop_source stop;
    Job job{stop.get_token(), [&](double) { stop.request_stop(); }};
    QVERIFY_EXCEPTION_THROWN(make_report(bench_, {}, {}, job), Cancelled);
  }
  void progress_goes_up_to_its_end() {
    double last = 0;
    bool falls = false;
    make_report(bench_, {}, {.analysis = &analysis_}, {{}, [&](double f) { falls |= f < last - 1e-9, last = f; }});
    QVERIFY(!falls && last > 0.999);
  }
  void an_empty_bench_says_so() {
    const Report r = make_report({}, {});
    QVERIFY(blocks_of<ReportText>(r)[0].text.find("no master") != std::string::npos);
    QVERIFY(!r.heading.empty());
  }
  void a_blind_test_that_runs_tells_nothing() {
    Bench bench = bench_;
    BlindTest test = begin_blind_test({.method = BlindMethod::abx, .stimuli = 2, .rounds = 4}, {{"Weir"}, {"MP3"}},
                                      std::string(48, 'a'));
    test.master = "w";
    bench.blind = {test};
    const auto said = [&] {
      return table_of(blocks_of<ReportTable>(make_report(bench, {.masters = {"w"}}, {.analysis = &analysis_})), "Blind")
          ->rows;
    };
    QVERIFY(said()[0][1].text.find("not ended") != std::string::npos);
    while (!is_ended(bench.blind[0])) answer(bench.blind[0], {.button = 0});
    const std::string found = result_of(bench.blind[0]).sentence;
    QCOMPARE(said()[0][1].text, found);
    QCOMPARE(said()[4][1].text, bench.blind[0].key.hash);
    bench.blind[0].key.hash[0] ^= 1;  // somebody else's order
    QVERIFY(said()[0][1].text != found);
  }

  // ---- charts: what is drawn is so
  // -----------------------------------------------------------------------------------
  void spectra_hold_a_tone_at_its_level() {
    save(folder_ / "tone.wav", sine(1000, 0.1, 5), rate),
        save(folder_ / "tone2.wav", with_noise(sine(1000, 0.1, 5), 1e-4, 3), rate);
    const auto report = null_of(folder_ / "tone.wav", folder_ / "tone2.wav");
    const Chart chart = spectra_chart(report);
    const ChartLine* master = line_of(chart, ChartLine::Role::master);
    double highest = -999, at = 0;
    for (size_t n = 0; n < master->x.size(); ++n)
      if (master->y[n] > highest) highest = master->y[n], at = master->x[n];
    QVERIFY2(std::abs(highest - 10 * std::log10(0.005)) < 1.0, qPrintable(QString::number(highest)));
    QVERIFY(at > 900 && at < 1120);
    QVERIFY(chart.low_y < chart.high_y && chart.high_y >= highest);
  }
  void depth_is_even_where_the_residual_is_of_the_programme() {
    dsp::Noise chance(5);
    Planar m(1, rate * 6), r = m;
    for (double& x : m.channel(0)) x = 0.1 * chance.between(-1, 1);
    for (size_t n = 0; n < m.channel(0).size(); ++n) r.channel(0)[n] = m.channel(0)[n] + 0.001 * chance.between(-1, 1);
    save(folder_ / "n.wav", m, rate), save(folder_ / "n2.wav", r, rate);
    const Chart chart = depth_chart(null_of(folder_ / "n.wav", folder_ / "n2.wav"));
    int told = 0;
    for (size_t n = 0; n < chart.lines[0].x.size(); ++n)
      if (chart.lines[0].x[n] > 100 && chart.lines[0].x[n] < 18000) {
        ++told;
        QVERIFY2(std::abs(chart.lines[0].y[n] + 40) < 1.5, qPrintable(QString::number(chart.lines[0].y[n])));
      }
    QVERIFY(told > 20);
  }
  void samples_at_a_spot_are_the_samples() {
    auto music = scaled(programme("piano", rate, 4, 3), 0.4), hit = music;
    hit.channel(1)[2 * rate] += 0.25;
    save(folder_ / "p.wav", music, rate), save(folder_ / "p2.wav", hit, rate);
    Analysis a;
    const auto result = a.null({folder_ / "p.wav", folder_ / "p2.wav"}, grant_nothing);
    const Chart chart = spot_chart(result, 2.0, "a click");
    const ChartLine* residual = line_of(chart, ChartLine::Role::residual);
    const auto peak = std::max_element(residual->y.begin(), residual->y.end()) - residual->y.begin();
    QVERIFY(std::abs(residual->y[size_t(peak)] - 0.25) < 0.01);
    QVERIFY(std::abs(residual->x[size_t(peak)] - 2.0) < 0.5 / rate);
    QVERIFY(chart.high_y > 0.25 && chart.low_y < -0.25);
  }
  void loudness_over_time_is_the_meters() {
    const auto report = null_of(folder_ / "weir.wav", folder_ / "noisy.wav");
    const Chart chart = loudness_chart(report);
    const auto& y = line_of(chart, ChartLine::Role::master)->y;
    const double most = *std::max_element(y.begin(), y.end());
    const Measured m = measure_file(folder_ / "weir.wav");
    QVERIFY2(std::abs(most - *m.loudness.short_term_max_lufs) < 0.2, qPrintable(QString::number(most)));
    for (const auto& line : chart.lines) QCOMPARE(line.x.size(), line.y.size());
  }

 private:
  FileRef ref(const char* name) const { return {folder_ / name, fingerprint(folder_ / name)}; }
  Folder folder_;
  Bench bench_;
  Analysis analysis_;
  Report whole_;
};

QTEST_GUILESS_MAIN(TestReport)
#include "test_report.moc"
