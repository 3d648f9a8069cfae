#include "app/report/html.hpp"

#include <fmt/format.h>

#include <QByteArray>

#include "app/report/chart_drawing.hpp"
#include "core/html_text.hpp"

namespace heathmist::app {

namespace {

constexpr double chart_width = 680, gauge_width = 420;

class SvgCanvas : public Canvas {
 public:
  /// `says`: what it shows, for who cannot see it.
  SvgCanvas(double width, double height, const std::string& says)
      : svg_(
            fmt::format("<svg viewBox=\"0 0 {:g} {:g}\" width=\"{:g}\" height=\"{:g}\" role=\"img\" aria-label=\"{}\">",
                        width, height, width, height, html_text(says))) {}
  void line(const std::vector<Spot>& spots, const Ink& ink) override {
    svg_ += "<polyline points=\"";
    put(spots);
    svg_ += fmt::format("\" fill=\"none\" stroke=\"{}\" stroke-width=\"{:g}\"{}/>", ink.colour, ink.width,
                        ink.is_dashed ? " stroke-dasharray=\"5 3\"" : "");
  }
  void area(const std::vector<Spot>& spots, const std::string& colour, double opacity) override {
    svg_ += "<polygon points=\"";
    put(spots);
    svg_ += fmt::format("\" fill=\"{}\" fill-opacity=\"{:g}\"/>", colour, opacity);
  }
  void words(Spot at, const std::string& text, double size, Anchor anchor, const std::string& colour,
             bool is_strong) override {
    static constexpr const char* anchors[] = {"start", "middle", "end"};
    svg_ += fmt::format("<text x=\"{:.1f}\" y=\"{:.1f}\" font-size=\"{:g}\" text-anchor=\"{}\" fill=\"{}\"{}>{}</text>",
                        at.x, at.y, size, anchors[int(anchor)], colour, is_strong ? " font-weight=\"600\"" : "",
                        html_text(text));
  }
  std::string whole() const { return svg_ + "</svg>\n"; }

 private:
  void put(const std::vector<Spot>& spots) {
    for (size_t n = 0; n < spots.size(); ++n)
      svg_ += fmt::format("{}{:.1f},{:.1f}", n == 0 ? "" : " ", spots[n].x, spots[n].y);
  }
  std::string svg_;
};

std::string class_of(Severity severity) { return name_of(severity); }

class HtmlWriter {
 public:
  std::string write(const Report& report) {
    head(report);
    for (const ReportBlock& block : report.blocks) std::visit([this](const auto& b) { put(b); }, block);
    out_ += fmt::format("</main>\n<footer>{} · {} · {}</footer>\n</body>\n</html>\n", html_text(report.heading),
                        html_text(report.date), html_text(report.program));
    return std::move(out_);
  }

 private:
  void head(const Report& report) {
    out_ = fmt::format(
        "<!DOCTYPE html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n"
        "<meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">\n"
        "<meta name=\"generator\" content=\"{}\">\n<title>{}</title>\n<style>{}</style>\n</head>\n<body>\n<header>",
        html_text(report.program), html_text(report.heading), style());
    if (report.logo)
      out_ += fmt::format("<img class=\"logo\" alt=\"\" src=\"data:{};base64,{}\">", report.logo->type,
                          QByteArray::fromStdString(report.logo->bytes).toBase64().toStdString());
    out_ += fmt::format("<h1>{}</h1><p class=\"soft\">{} · {} · {}</p></header>\n<main>\n", html_text(report.heading),
                        html_text(report.about), html_text(report.date), html_text(report.program));
  }

  static std::string style() {
    const PrintInks& i = print_inks();
    std::string css = fmt::format(
        "body{{font:15px/1.5 Lato,\"Helvetica "
        "Neue\",Arial,sans-serif;color:{};background:{};max-width:720px;margin:2.5em auto;"
        "padding:0 1em;font-variant-numeric:tabular-nums}}header{{border-bottom:1px solid {};margin-bottom:1.2em}}"
        "h1{{font-size:1.65em;margin:.2em 0}}h2{{font-size:1.4em;margin:2em 0 .4em}}h3{{font-size:1.12em;margin:1.5em "
        "0 .3em}}"
        "h4{{font-size:1em;margin:1.2em 0 .2em}}.soft{{color:{}}}",
        i.ink, i.paper, i.rule, i.soft);
    css += fmt::format(
        "table{{border-collapse:collapse;width:100%;margin:.8em 0 "
        "1.2em;font-size:13.5px}}caption{{text-align:left;font-weight:600;"
        "padding-bottom:.3em}}th,td{{text-align:left;vertical-align:top;padding:.28em .8em .28em 0;border-bottom:1px "
        "solid {};"
        "overflow-wrap:anywhere}}th{{font-weight:600;color:{}}}.n{{text-align:right}}",
        i.faint, i.soft);
    css += fmt::format(
        "svg{{max-width:100%;height:auto;display:block;margin:.7em 0 "
        "1.2em;font-family:inherit}}.answer{{border-left:4px solid {};"
        "padding:.1em 0 .1em .9em;margin:.9em 0;break-inside:avoid}}.answer p,.finding p{{margin:.15em "
        "0}}.done{{font-weight:600}}"
        ".finding{{border-left:4px solid {};padding-left:.9em;margin:.8em 0 "
        ".4em}}.logo{{float:right;max-width:160px;max-height:72px}}",
        i.rule, i.rule);
    for (const Severity s : {Severity::clean, Severity::note, Severity::caution, Severity::fault})
      css += fmt::format(".answer.{0},.finding.{0}{{border-color:{1}}}", class_of(s), i.of(s));
    css += fmt::format("td.fault{{color:{};font-weight:600}}td.clean{{color:{}}}", i.rust, i.moss);
    return css +
           "footer{margin-top:3em;font-size:12px;opacity:.7}@media print{body{margin:0;max-width:none;font-size:10.5pt}"
           ".page{break-before:page}h2,h3,h4,caption{break-after:avoid}svg,tr,.finding{break-inside:avoid}}@page{"
           "margin:18mm}";
  }

  void put(const ReportHeading& h) {
    out_ += fmt::format("<h{0}{2}>{1}</h{0}>\n", h.level + 1, html_text(h.text), breaks_ ? " class=\"page\"" : "");
    breaks_ = false;
  }
  void put(const ReportText& t) {
    out_ += fmt::format("<p{}>{}</p>\n", t.is_soft ? " class=\"soft\"" : "", html_text(t.text));
  }
  void put(const ReportPageBreak&) { breaks_ = true; }
  void put(const Chart& chart) {
    const double height = chart_height(chart);
    SvgCanvas canvas(chart_width, height, chart.says.empty() ? chart.title : chart.title + ". " + chart.says);
    draw_chart(chart, chart_width, canvas);
    out_ += canvas.whole();
  }
  void put(const ReportAnswer& a) {
    out_ += fmt::format("<div class=\"answer {}\">{}{}<p>{}</p>", class_of(a.severity),
                        a.done.empty() ? "" : "<p class=\"done\">" + html_text(a.done) + "</p>",
                        a.of.empty() ? "" : "<p class=\"soft\">" + html_text(a.of) + "</p>", html_text(a.changed));
    if (a.is_measured) {
      SvgCanvas canvas(gauge_width, gauge_height,
                       a.depth_db ? "How deep the residual lies under the music" : "Nothing is left");
      draw_gauge(a.depth_db, gauge_width, canvas);
      out_ += canvas.whole();
    }
    out_ += (a.matters.empty() ? "" : "<p>" + html_text(a.matters) + "</p>") + "</div>\n";
  }
  void put(const ReportFinding& f) {
    out_ += fmt::format("<div class=\"finding {}\"><p>{}</p>{}</div>\n", class_of(f.severity), html_text(f.text),
                        f.detail.empty() ? "" : "<p class=\"soft\">" + html_text(f.detail) + "</p>");
  }
  void put(const ReportTable& table) {
    out_ += "<table>";
    if (!table.title.empty()) out_ += fmt::format("<caption>{}</caption>", html_text(table.title));
    bool has_heads = false;
    for (const ReportColumn& c : table.columns) has_heads |= !c.head.empty();
    if (has_heads) {
      out_ += "<thead><tr>";
      for (const ReportColumn& c : table.columns)  // the cell over the row's names has none
        out_ += c.head.empty()
                    ? std::string("<td></td>")
                    : fmt::format("<th scope=\"col\"{}>{}</th>", c.is_number ? " class=\"n\"" : "", html_text(c.head));
      out_ += "</tr></thead>";
    }
    out_ += "<tbody>\n";
    for (const auto& row : table.rows) put_row(table, row);
    out_ += "</tbody></table>\n";
  }
  void put_row(const ReportTable& table, const std::vector<ReportCell>& row) {
    out_ += "<tr>";
    for (size_t n = 0; n < table.columns.size(); ++n) {
      const ReportCell cell = n < row.size() ? row[n] : ReportCell{};
      std::string names = table.columns[n].is_number ? "n" : "";
      if (cell.severity) names += (names.empty() ? "" : " ") + class_of(*cell.severity);
      out_ += fmt::format("<td{}>{}</td>", names.empty() ? "" : " class=\"" + names + "\"", html_text(cell.text));
    }
    out_ += "</tr>\n";
  }

  std::string out_;
  bool breaks_ = false;
};

}  // namespace

std::string report_html(const Report& report) { return HtmlWriter().write(report); }

}  // namespace heathmist::app
