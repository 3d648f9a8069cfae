// What a report says, as plain blocks in the order they are read. HTML and PDF are two ways to write them.
//
// Texts are plain UTF-8, numbers are written out with their units. A chart holds the lines that are drawn and nothing
// of how: whoever draws it chooses sizes, and the colour and dash that belong to a role.
#pragma once
#include <optional>
#include <string>
#include <variant>
#include <vector>

#include "core/compare/null.hpp"

namespace heathmist {

struct ChartLine {
  enum class Role { master, ret, residual };
  Role role = Role::residual;
  std::string name;          ///< as the key says it
  std::vector<double> x, y;  ///< of one length; a y that is no number is a gap
};

/// A stretch from one value to another beside a name: what a cause took out.
struct ChartBar {
  std::string name;
  double from = 0, to = 0;
};

struct ChartMark {
  double x = 0;
  std::string text;
};

struct Chart {
  std::string title;
  std::string x_title, y_title;  ///< with units
  std::string says;              ///< what it shows, for who cannot see it
  bool is_logarithmic = false;   ///< x
  double low_x = 0, high_x = 1, low_y = 0, high_y = 1;
  std::vector<ChartLine> lines{};
  std::vector<ChartBar> bars{};  ///< one below the other, along x; then there is no y
  std::vector<ChartMark> marks{};
};

struct ReportHeading {
  std::string text;
  int level = 1;  ///< 1: a master, or a part of the whole; 2: a trial, 3: a part of it
};
struct ReportText {
  std::string text;
  bool is_soft = false;  ///< an aside
};
struct ReportCell {
  std::string text;
  std::optional<Severity> severity{};
};
struct ReportColumn {
  std::string head;
  bool is_number = false;
};
struct ReportTable {
  std::string title;
  std::vector<ReportColumn> columns;
  std::vector<std::vector<ReportCell>> rows;
};
/// A trial on one glance: what was done, what changed, how deep it lies, whether it matters.
struct ReportAnswer {
  std::string done;  ///< what it is called; empty where that stands above it
  std::string of;    ///< the file or the chain, and its format
  std::string changed, matters;
  Severity severity = Severity::note;
  bool is_measured = true;           ///< else there is no depth to be shown
  std::optional<double> depth_db{};  ///< residual against the master; none: nothing is left
};
struct ReportFinding {
  Severity severity = Severity::note;
  std::string text, detail;
};
struct ReportPageBreak {};

using ReportBlock =
    std::variant<ReportHeading, ReportText, ReportTable, ReportAnswer, ReportFinding, Chart, ReportPageBreak>;

struct ReportLogo {
  std::string type;  ///< image/png or image/jpeg
  std::string bytes;
};

struct Report {
  std::string heading, about;  ///< about: what it is a report of
  std::string date, program;   ///< 2026-05-14; Heathmist 0.1.0
  std::optional<ReportLogo> logo{};
  std::vector<ReportBlock> blocks{};
  std::vector<std::string> troubles{};  ///< what could not be used, a sentence each; they stand in the blocks too
};

}  // namespace heathmist
