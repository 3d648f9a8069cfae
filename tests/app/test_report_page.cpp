// A report as HTML and PDF, from the command line and from its page in the window.
#include <QStandardPaths>
#include <QtTest>
#include <fstream>

#include "app/pages/report/report_view.hpp"
#include "app/report/chart_drawing.hpp"
#include "app/report/html.hpp"
#include "app/report/paper.hpp"
#include "app/shell/bench_files.hpp"
#include "app/theme/theme.hpp"
#include "core/delivery/outlet.hpp"
#include "core/html_text.hpp"
#include "tests/support/cli.hpp"
#include "tests/support/programmes.hpp"
#include "tests/support/share.hpp"
#include "tests/support/window.hpp"

using namespace heathmist;
using namespace heathmist::app;
using namespace heathmist::test;

namespace {

constexpr int rate = 44100;

/// A report of so many trials, each with all there is, made up.
Report made_up(int trials) {
  Report report{"Curlew <Hours> & \"more\"", "1 master", "2026-05-14", "Heathmist 0"};
  dsp::Noise chance(3);
  for (int n = 0; n < trials; ++n) {
    const std::string name = "trial " + std::to_string(n + 1) + " first";
    report.blocks.push_back(ReportHeading{name, 2});
    report.blocks.push_back(
        ReportAnswer{"done " + std::to_string(n + 1), "file.wav; PCM 24 bit", "Lossy coding: <b>it</b> differs.",
                     "It stands out at the office, efficient attic " + std::to_string(n + 1) + " last", Severity(n % 4),
                     true, -float(n)});
    ReportTable table{"What was compared", {{""}, {"Level, dB", true}, {"Why"}}, {}};
    for (int row = 0; row < 4; ++row)
      table.rows.push_back({{"row " + std::to_string(row)},
                            {"\u221212.3"},
                            {"a sentence that goes on for a while, longer than the column is wide", Severity(row)}});
    report.blocks.push_back(table);
    Chart chart{"Spectra", "Frequency, Hz", "dB", "what it shows"};
    chart.is_logarithmic = true, chart.low_x = 20, chart.high_x = 20000, chart.low_y = -100, chart.high_y = 0;
    for (const auto role : {ChartLine::Role::residual, ChartLine::Role::master, ChartLine::Role::ret}) {
      ChartLine line{role, "line", {}, {}};
      for (int k = 0; k < 300; ++k)
        line.x.push_back(20 * std::pow(1000, k / 299.0)), line.y.push_back(k == 100 ? NAN : chance.between(-90, -10));
      chart.lines.push_back(line);
    }
    report.blocks.push_back(chart);
    report.blocks.push_back(ReportFinding{Severity::caution, "A finding.", "And its detail."});
  }
  return report;
}

QStringList pages_of(const QByteArray& pdf, const Folder& folder) {
  const QString file = QString::fromStdString((folder / "some.pdf").string());
  QFile out(file);
  out.open(QIODevice::WriteOnly), out.write(pdf), out.close();
  QStringList pages = QString::fromUtf8(call_program("pdftotext", {"-layout", file, "-"}).out).split('\f');
  if (pages.last().trimmed().isEmpty()) pages.removeLast();
  return pages;
}

bool have(const char* program) { return !QStandardPaths::findExecutable(program).isEmpty(); }

}  // namespace

class TestReportPage : public WindowTest {
  Q_OBJECT

 private slots:
  void initTestCase() {
    const auto music = scaled(programme("dense", rate, 4, 9), 0.5);
    save(folder_ / "weir.wav", music, rate, WordFormat::pcm24);
    save(folder_ / "noisy.wav", with_noise(music, 1e-3, 4), rate, WordFormat::pcm24);
    Bench bench;
    bench.name = "Curlew Hours";
    bench.masters.push_back({"w", "Weir by Lamplight", {folder_ / "weir.wav", {}}, {}});
    bench.masters[0].trials.push_back({"noisy", "over the line", {folder_ / "noisy.wav", {}}, {}});
    bench.masters[0].trials.push_back({"cut", "", {}, {}, Chain{"", {{"word_length", {{"bits", 12}}}}, 1}});
    save_bench(bench, folder_ / "hours.heathmist");
  }

  // ---- HTML
  // ----------------------------------------------------------------------------------------------------------
  void html_stands_alone_and_says_all() {
    Report report = made_up(3);
    report.logo = ReportLogo{"image/png", std::string("\x89PNG\r\n\x1a\n\0\1", 10)};
    const QString html = QString::fromStdString(report_html(report));
    for (const char* from_elsewhere : {"<script", "http:", "https:", "href=", "url(", "@import"})
      QVERIFY2(!html.contains(from_elsewhere), from_elsewhere);
    QCOMPARE(html.count("src="), 1);
    QVERIFY(html.contains("src=\"data:image/png;base64,iVBORw0KGgoAAQ=="));
    QVERIFY(html.contains("Curlew &lt;Hours&gt; &amp; &quot;more&quot;") && !html.contains("<b>it</b>"));
    QCOMPARE(html.count("<svg"), 3 + 3);  // charts and gauges
    QVERIFY(html.contains("aria-label=\"Spectra. what it shows\""));
    for (int n = 1; n <= 3; ++n) QVERIFY(html.contains(QString("trial %1 first").arg(n)));
    QVERIFY(!html.contains("nan") && !html.contains("inf"));
  }
  void html_is_valid() {
    if (!have("tidy")) QSKIP("tidy is not there");
    const auto file = folder_ / "valid.html";
    std::ofstream(file, std::ios::binary) << report_html(made_up(2));
    const Answer a = call_program("tidy", {"-q", "-e", QString::fromStdString(file.string())});
    QVERIFY2(a.status == 0 && a.err.isEmpty(), a.err);
  }

  // ---- PDF
  // -----------------------------------------------------------------------------------------------------------
  void pdf_has_real_text_and_its_fonts() {
    if (!have("pdftotext")) QSKIP("pdftotext is not there");
    const Report report = made_up(30);
    const Paper paper(report);
    const QStringList pages = pages_of(paper.pdf(), folder_);
    QCOMPARE(pages.size(), paper.pages());
    for (int n = 0; n < pages.size(); ++n)
      QVERIFY2(pages[n].contains(QString("%1 of %2").arg(n + 1).arg(pages.size())), qPrintable(pages[n]));
    const QString all = pages.join(' ');
    for (int n = 1; n <= 30; ++n)
      QVERIFY(all.contains(QString("office, efficient attic %1 last").arg(n)));  // no ligature
    for (const char* words : {"Curlew <Hours> & \"more\"", "Frequency, Hz", "A finding.", "20k"})
      QVERIFY2(all.contains(words), words);
    const Answer fonts = call_program("pdffonts", {QString::fromStdString((folder_ / "some.pdf").string())});
    const auto lines = QString(fonts.out).split('\n', Qt::SkipEmptyParts).mid(2);
    QVERIFY(!lines.isEmpty());
    for (const QString& line : lines) QVERIFY2(line.contains("Lato") && line.contains(" yes "), qPrintable(line));
    const Answer images = call_program("pdfimages", {"-list", QString::fromStdString((folder_ / "some.pdf").string())});
    QCOMPARE(QString(images.out).split('\n', Qt::SkipEmptyParts).size(), 2);  // the head of the list: plots are lines
  }
  void no_page_ends_inside_an_answer() {
    if (!have("pdftotext")) QSKIP("pdftotext is not there");
    const QStringList pages = pages_of(Paper(made_up(40)).pdf(), folder_);
    for (int n = 1; n <= 40; ++n)
      for (const QString& page : pages) {
        const bool begins = page.contains(QRegularExpression(QString("\\bdone %1\\n").arg(n))),
                   heads = page.contains(QString("trial %1 first").arg(n)),
                   ends = page.contains(QString("attic %1 last").arg(n));
        QVERIFY2(begins == ends && heads == begins, qPrintable(QString("%1:\n%2").arg(n).arg(page)));
      }
  }
  void what_is_shown_is_what_is_written() {
    const Paper paper(made_up(4));
    QImage image(paper.size().toSize(), QImage::Format_RGB32);
    image.fill(Qt::white);
    QPainter painter(&image);
    paper.draw(painter, 0);
    painter.end();
    int drawn = 0;
    for (int y = 0; y < image.height(); ++y)
      for (int x = 0; x < image.width(); ++x) {
        if (image.pixel(x, y) == QColor(Qt::white).rgb()) continue;
        ++drawn;
        QVERIFY2(x > 30 && x < image.width() - 30 && y > 30 && y < image.height() - 20,
                 qPrintable(QString("%1 %2").arg(x).arg(y)));
      }
    QVERIFY(drawn > 3000);
  }
  /// Reports by chance: every text that went in comes out of both writers, whatever it is made of.
  void whatever_is_said_comes_out() {
    dsp::Noise chance(11);
    const std::vector<std::string> pieces{"<i>",    "&amp;", "\"quoted\"", "office", "\u2212144 dB", "\u00e9t\u00e9",
                                          "a/b\\c", "100 %", "{}",         "]]>",    "--",           "#1"};
    const auto words = [&](int n) {
      std::string text = "w" + std::to_string(n);
      for (int k = 0; k < 3; ++k) text += " " + pieces[size_t(chance.uniform() * double(pieces.size()))];
      return text;
    };
    for (int round = 0; round < 10; ++round) {
      Report report{words(0), words(1), "2026-05-14", "Heathmist 0"};
      std::vector<std::string> said{report.heading, report.about};
      const auto say = [&] { return said.emplace_back(words(int(said.size()))); };
      for (int n = 0; n < 12; ++n) switch (int(chance.uniform() * 6)) {
          case 0:
            report.blocks.push_back(ReportHeading{say(), 1 + n % 3});
            break;
          case 1:
            report.blocks.push_back(ReportText{say(), n % 2 == 0});
            break;
          case 2: {
            const std::string done = say(), of = say(), changed = say(), matters = say();
            report.blocks.push_back(ReportAnswer{done, of, changed, matters, Severity(n % 4), n % 2 == 0, -double(n)});
            break;
          }
          case 3: {
            ReportTable table{say(), {{say()}, {"", true}}, {}};
            for (int row = 0; row <= n % 3; ++row) table.rows.push_back({{say(), Severity(row)}, {say()}});
            report.blocks.push_back(table);
            break;
          }
          case 4:
            report.blocks.push_back(ReportPageBreak{});
            break;
          default:
            report.blocks.push_back(ReportFinding{Severity(n % 4), say(), say()});
        }
      const std::string html = report_html(report);
      for (const auto& text : said) QVERIFY2(html.find(html_text(text)) != std::string::npos, text.c_str());
      if (have("tidy")) {
        std::ofstream(folder_ / "chance.html", std::ios::binary) << html;
        const Answer a = call_program("tidy", {"-q", "-e", QString::fromStdString((folder_ / "chance.html").string())});
        QVERIFY2(a.status == 0, a.err);
      }
      if (!have("pdftotext")) continue;
      static const QRegularExpression space("\\s+");
      const QString pdf = pages_of(Paper(report).pdf(), folder_).join(' ').remove(space);
      for (const auto& text : said) QVERIFY2(pdf.contains(QString::fromStdString(text).remove(space)), text.c_str());
    }
  }
  /// The curve on the page goes through the points of the chart.
  void a_line_is_drawn_where_its_numbers_are() {
    class Listening : public Canvas {
     public:
      void line(const std::vector<Spot>& spots, const Ink& ink) override { lines.emplace_back(spots, ink); }
      void area(const std::vector<Spot>& spots, const std::string&, double) override { areas.push_back(spots); }
      void words(Spot, const std::string& text, double, Anchor, const std::string&, bool) override {
        said.push_back(text);
      }
      std::vector<std::pair<std::vector<Spot>, Ink>> lines;
      std::vector<std::vector<Spot>> areas;
      std::vector<std::string> said;
    };
    Chart chart{"Title", "Frequency, Hz", "dB", ""};
    chart.is_logarithmic = true, chart.low_x = 20, chart.high_x = 20000, chart.low_y = -100, chart.high_y = 0;
    chart.lines = {{ChartLine::Role::ret, "return", {20, 200, 2000, 20000}, {-100, -50, NAN, 0}}};
    Listening canvas;
    draw_chart(chart, 600, canvas);
    const auto drawn = std::find_if(canvas.lines.begin(), canvas.lines.end(),
                                    [](const auto& l) { return l.second.colour == print_inks().ret; });
    QVERIFY(drawn != canvas.lines.end() && drawn->first.size() == 2);  // a gap ends it, a lone point is none
    const double left = drawn->first[0].x, bottom = drawn->first[0].y;
    Listening whole;
    chart.lines[0].y = {-100, -50, -25, 0};
    draw_chart(chart, 600, whole);
    const auto& spots = std::find_if(whole.lines.begin(), whole.lines.end(), [](const auto& l) {
                          return l.second.colour == print_inks().ret;
                        })->first;
    QCOMPARE(spots.size(), size_t(4));
    const double width = spots[3].x - left, height = bottom - spots[3].y;
    for (int n = 0; n < 4; ++n) QVERIFY(std::abs(spots[size_t(n)].x - left - width * n / 3) < 0.01);  // a decade each
    QVERIFY(std::abs(bottom - spots[1].y - height / 2) < 0.01 && std::abs(bottom - spots[2].y - height * 0.75) < 0.01);
    QVERIFY(std::ranges::count(whole.said, "1k") == 1 && std::ranges::count(whole.said, "\u221260") == 1);
    Listening gauge;
    draw_gauge(-72.0, 500, gauge);
    const auto span = [](const std::vector<Spot>& area) { return area[1].x - area[0].x; };
    QVERIFY(std::abs(span(gauge.areas[1]) / span(gauge.areas[0]) - 0.5) < 1e-6);
    Listening silence;
    draw_gauge({}, 500, silence);
    QVERIFY(span(silence.areas[1]) == span(silence.areas[0]));
  }
  void two_hundred_trials_are_written() {
    const Report report = made_up(200);
    const Paper paper(report);
    QVERIFY(paper.pages() > 100);
    QCOMPARE(paper.pictures().size(), size_t(paper.pages()));
    const QString html = QString::fromStdString(report_html(report));
    QVERIFY(html.contains("trial 1 first") && html.contains("trial 200 first") && html.count("<svg") == 400);
  }

  // ---- the command
  // ---------------------------------------------------------------------------------------------------
  void the_command_writes_both() {
    for (const char* name : {"a.html", "a.pdf"}) {
      const Answer a = report({"-o", path(name)});
      QVERIFY2(a.status == 0 && a.err.isEmpty(), a.err);
      QVERIFY(a.out.contains("1 master, 2 trials"));
      QVERIFY(QFileInfo(path(name)).size() > 10000);
    }
    QVERIFY(read(path("a.html")).contains("over the line") && read(path("a.pdf")).startsWith("%PDF"));
    const Answer one = report({"-o", path("one.html"), "--trial", "cut", "--heading", "For the client", "--json"});
    QCOMPARE(one.json()["about"].toString(), QString("1 master, 1 trial"));
    const QByteArray html = read(path("one.html"));
    QVERIFY(html.contains("For the client") && !html.contains("over the line"));
    QCOMPARE(report({"--help"}).status, 0);
  }
  void the_command_refuses() {
    std::ofstream(folder_ / "no picture.png") << "text";
    std::ofstream(folder_ / "half a picture.png", std::ios::binary) << "\x89PNG\r\n\x1a\n and no more";
    std::ofstream(folder_ / "there.html") << "mine";
    std::ofstream(folder_ / "broken.heathmist") << "{";
    const auto refused = [&](int status, const char* says, const QStringList& words, const QString& bench = {}) {
      const Answer a = report(words, bench);
      QVERIFY2(a.status == status, a.err);
      QVERIFY2(a.err.contains(says) && a.err.count('\n') == 1, a.err);
      QVERIFY(a.out.isEmpty());
    };
    refused(2, "out.txt", {"-o", path("out.txt")});
    refused(2, "there.html", {"-o", path("there.html")});
    refused(2, "no trial", {"-o", path("x.html"), "--trial", "weather"});
    refused(2, "weather", {"-o", path("x.html"), "--without", "weather"});
    refused(2, "-o", {});
    refused(1, "no picture.png", {"-o", path("x.html"), "--logo", path("no picture.png")});
    refused(1, "half a picture.png", {"-o", path("x.html"), "--logo", path("half a picture.png")});
    refused(1, "nowhere.heathmist", {"-o", path("x.html")}, path("nowhere.heathmist"));
    refused(1, "broken.heathmist", {"-o", path("x.html")}, path("broken.heathmist"));
    refused(1, "there.html", {"-o", path("there.html/x.html")});
    QCOMPARE(read(path("there.html")), QByteArray("mine"));
    QVERIFY(!QFile::exists(path("x.html")));
    QCOMPARE(report({"-o", path("there.html"), "--force"}).status, 0);
    QVERIFY(read(path("there.html")).startsWith("<!DOCTYPE html>"));
    std::filesystem::create_hard_link(folder_ / "hours.heathmist", folder_ / "link.html");
    refused(2, "link.html", {"-o", path("link.html"), "--force"});
  }
  void what_is_missing_is_in_the_report() {
    Bench bench = load_bench(folder_ / "hours.heathmist");
    bench.masters[0].trials[0].ret.file = folder_ / "gone.wav";
    save_bench(bench, folder_ / "gone.heathmist");
    const Answer a = report({"-o", path("gone.html"), "--json"}, path("gone.heathmist"));
    QCOMPARE(a.status, 0);
    QVERIFY(a.err.contains("gone.wav"));
    QCOMPARE(a.json()["troubles"].toArray().size(), 1);
    const QByteArray html = read(path("gone.html"));
    QVERIFY(html.contains("could not be measured") && html.contains("12 bit"));
  }

  // ---- the page
  // ------------------------------------------------------------------------------------------------------
  void the_page_shows_what_it_writes() {
    ReportView* view = opened();
    QVERIFY(view->pages()->pages() >= 3);
    QVERIFY(view->note().contains("pages"));
    view->heading()->setText("For the client");
    emit view->heading()->textEdited("For the client");
    QVERIFY(!view->report());  // nothing that would be written otherwise is shown
    QTRY_VERIFY_WITH_TIMEOUT(view->report(), 60000);
    QCOMPARE(view->report()->heading, std::string("For the client"));
    const int before = view->pages()->pages();
    view->part(ReportPart::plots)->setChecked(false);
    QTRY_VERIFY_WITH_TIMEOUT(view->report(), 60000);
    QVERIFY(view->pages()->pages() < before);
    QSignalSpy written(view, &ReportView::written);
    view->write({path("page.pdf").toStdString()});
    QTRY_COMPARE_WITH_TIMEOUT(written.size(), 1, 30000);
    QVERIFY(written[0][0].toBool() && read(path("page.pdf")).startsWith("%PDF"));
    QSignalSpy failed(view, &ReportView::failed);
    view->write({path("page.pdf").toStdString()});  // it is there already
    QTRY_COMPARE_WITH_TIMEOUT(failed.size(), 1, 30000);
    QVERIFY(failed[0][0].toString().contains("page.pdf"));
  }
  void it_follows_the_bench_and_its_files() {
    ReportView* view = opened();
    window_->workspace().look_at("cut");
    QTRY_VERIFY_WITH_TIMEOUT(view->scope()->count() == 3, 10000);
    view->scope()->setCurrentIndex(2);
    QTRY_VERIFY_WITH_TIMEOUT(view->report(), 60000);
    QVERIFY(view->report()->about == "1 master, 1 trial");
    window_->workspace().rename("cut", "the twelve bits");
    QTRY_VERIFY_WITH_TIMEOUT(
        view->report() && report_html(*view->report()).find("the twelve bits") != std::string::npos, 60000);
    const auto held = view->report();
    save(folder_ / "weir.wav", scaled(programme("dense", rate, 4, 9), 0.4), rate, WordFormat::pcm24);
    QTRY_VERIFY_WITH_TIMEOUT(view->report() != held, 20000);
    QTRY_VERIFY_WITH_TIMEOUT(view->report(), 60000);
  }
  void it_goes_with_the_bench() {
    ReportView* view = opened();
    view->heading()->setText("Kept");
    view->part(ReportPart::marks)->setChecked(false);
    window_->files()->save_to(path("kept.heathmist"));
    window_->files()->start_anew();
    window_->files()->open(path("kept.heathmist"));
    QCOMPARE(view->heading()->text(), QString("Kept"));
    QVERIFY(!view->part(ReportPart::marks)->isChecked() && view->part(ReportPart::plots)->isChecked());
  }
  /// A heading for one client never stands over another's bench.
  void another_bench_has_its_own_heading() {
    ReportView* view = opened();
    view->heading()->setText("For one client");
    view->part(ReportPart::plots)->setChecked(false);
    window_->files()->start_anew();
    QVERIFY(view->heading()->text().isEmpty() && view->part(ReportPart::plots)->isChecked());
    view->heading()->setText("For one client");
    window_->workspace().model().undo_stack().setClean();
    window_->files()->open(path("hours.heathmist"));  // which keeps none
    QVERIFY(view->heading()->text().isEmpty());
  }
  /// What was found elsewhere meanwhile is in it: here an outlet of one's own.
  void it_is_made_anew_when_it_is_come_back_to() {
    ReportView* view = opened();
    const auto names_it = [&] {
      return view->report() && report_html(*view->report()).find("The tide tables") != std::string::npos;
    };
    QVERIFY(!names_it());
    window_->show_page("outlets");
    Outlet own = known_outlets().front();
    own.key = "tide-tables", own.name = "The tide tables";
    save_outlet(own);
    window_->show_page("report");
    QTRY_VERIFY_WITH_TIMEOUT(names_it(), 60000);
    drop_outlet(own.key);
  }
  void it_can_be_stopped_and_begun_again() {
    window_->take_files({path("hours.heathmist")});
    window_->show_page("report");
    auto* view = window_->part<ReportView>();
    QTRY_VERIFY_WITH_TIMEOUT(view->is_running() || view->report(), 10000);
    auto* stop = view->findChild<QPushButton*>("stop");
    QVERIFY(stop);
    if (view->is_running()) {
      stop->click();
      QTRY_VERIFY_WITH_TIMEOUT(!view->is_running(), 30000);
    }
    window_->show_page("null");
    window_->show_page("report");
    QTRY_VERIFY_WITH_TIMEOUT(view->report(), 60000);
    QVERIFY(!stop->isVisible());
  }
  void an_empty_bench_says_what_to_do() {
    window_->show_page("report");
    auto* view = window_->part<ReportView>();
    QVERIFY(!view->report() && !view->is_running());
    view->set_logo(path("no picture.png"));
    QVERIFY(!view->is_running());
  }
  void a_wrong_logo_is_said() {
    ReportView* view = opened();
    std::ofstream(folder_ / "no picture.png") << "text";
    view->set_logo(path("no picture.png"));
    QSignalSpy rested(view, &ReportView::rested);
    QTRY_VERIFY_WITH_TIMEOUT(rested.size() > 0, 30000);
    QVERIFY(!view->report() && view->pages()->pages() == 0);
    view->set_logo({});
    QTRY_VERIFY_WITH_TIMEOUT(view->report(), 60000);
  }

 private:
  QString path(const char* name) const { return QString::fromStdString((folder_ / name).string()); }
  static QByteArray read(const QString& name) {
    QFile file(name);
    file.open(QIODevice::ReadOnly);
    return file.readAll();
  }
  Answer report(const QStringList& words, const QString& bench = {}) {
    return call_program(HEATHMIST_APP, QStringList{"report", bench.isEmpty() ? path("hours.heathmist") : bench} + words,
                        {}, {"DISPLAY=", "WAYLAND_DISPLAY=", "QT_QPA_PLATFORM="});
  }
  ReportView* opened() {
    window_->take_files({path("hours.heathmist")});
    window_->show_page("report");
    auto* view = window_->part<ReportView>();
    [&] { QTRY_VERIFY_WITH_TIMEOUT(view->report(), 60000); }();
    return view;
  }
};

SHARED_WINDOW_MAIN(TestReportPage)
#include "test_report_page.moc"
