// A sheet as CSV and as a page.
#include <fmt/format.h>

#include <algorithm>

#include "core/compare/json.hpp"
#include "core/delivery/sheet.hpp"
#include "core/html_text.hpp"
#include "core/printable.hpp"

namespace heathmist {

namespace {

std::string sentences_of(const Json& entry) {
  if (entry.contains("error")) return entry["error"].get<std::string>();
  std::string all;
  for (const Json& fault : entry["faults"]) {
    all += all.empty() ? "" : " ";
    all += fault["text"].get<std::string>();
    if (fault["at_s"].is_number()) all += fmt::format(" (at {:.2f} s)", fault["at_s"].get<double>());
  }
  return all;
}

std::string escaped(const std::string& text) { return html_text(printable(text)); }

std::string number(const Json& entry, const char* key, int decimals) {
  const auto found = entry.find(key);
  return found != entry.end() && found->is_number() ? fmt::format("{:.{}f}", found->get<double>(), decimals) : "\u2013";
}

/// Those that cannot be read, those that fail (the more is wrong the earlier), those that pass.
int rank(const Json& entry) {
  if (entry.contains("error")) return -1000;
  return -int(entry["faults"].size());
}

constexpr const char* style =
    "body{font:15px/1.45 sans-serif;background:#e9ebe8;color:#20302f;margin:2em}h1{font-size:1.3em}"
    "table{border-collapse:collapse;background:#f7f8f5;width:100%}th,td{text-align:left;padding:.35em .7em;"
    "border-bottom:1px solid #d3d8d3;vertical-align:top}td.n{text-align:right;font-variant-numeric:tabular-nums}"
    ".passes{color:#3f6a2e}.fails{color:#a33d1f;font-weight:600}";

std::string row_of(const Json& entry) {
  const bool error = entry.contains("error"), passes = !error && entry["passes"].get<bool>();
  std::string row = fmt::format("<tr><td class=\"{}\">{}</td><td>{}</td>", passes ? "passes" : "fails",
                                passes  ? "passes"
                                : error ? "unread"
                                        : "fails",
                                escaped(entry["path"].get<std::string>()));
  for (const auto& [key, decimals] :
       {std::pair{"integrated_lufs", 1}, {"loudness_range_lu", 1}, {"short_term_max_lufs", 1}, {"true_peak_dbtp", 1}})
    row += fmt::format("<td class=\"n\">{}</td>", number(entry, key, decimals));
  return row + fmt::format("<td>{}</td></tr>\n", escaped(sentences_of(entry)));
}

}  // namespace

std::string sheet_csv(const std::vector<Json>& entries) {
  std::vector<Json> rows;
  for (const Json& entry : entries) {
    Json row{{"path", entry["path"]},
             {"passes", entry.contains("error") ? Json(nullptr) : entry["passes"]},
             {"faults", sentences_of(entry)}};
    for (const auto& [key, value] : entry.items())
      if (!row.contains(key) && key != "error") row[key] = value;
    rows.push_back(row);
  }
  return csv_of(rows, {"path", "passes", "faults"});
}

std::string sheet_html(const std::string& title, const std::vector<Json>& entries) {
  std::vector<Json> sorted = entries;
  std::stable_sort(sorted.begin(), sorted.end(), [](const Json& a, const Json& b) { return rank(a) < rank(b); });
  const auto passed =
      std::count_if(sorted.begin(), sorted.end(), [](const Json& e) { return e.value("passes", false); });
  std::string page = fmt::format(
      "<!DOCTYPE html>\n<html lang=\"en\"><head><meta charset=\"utf-8\"><title>{0}</title><style>{1}</style></head>\n"
      "<body><h1>{0}</h1>\n<p>{2} of {3} files pass.</p>\n<table><tr><th></th><th>File</th><th>Integrated, LUFS</th>"
      "<th>Range, LU</th><th>Short-term, LUFS</th><th>True peak, dBTP</th><th>What is wrong</th></tr>\n",
      escaped(title), style, passed, sorted.size());
  for (const Json& entry : sorted) page += row_of(entry);
  return page + "</table></body></html>\n";
}

}  // namespace heathmist
