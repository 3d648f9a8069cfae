#include "benchmarks/reports.hpp"

#include <chrono>

#include "app/report/html.hpp"
#include "app/report/paper.hpp"
#include "benchmarks/peers.hpp"
#include "core/bench/report.hpp"

namespace heathmist::bench {

namespace {

constexpr int trials = 200;

double seconds_of(const auto& work) {
  const auto from = std::chrono::steady_clock::now();
  work();
  return std::chrono::duration<double>(std::chrono::steady_clock::now() - from).count();
}

}  // namespace

ReportCost report_cost(const std::filesystem::path& folder) {
  const auto master = folder / "report master.wav", ret = folder / "report return.wav";
  peers::write_pair(master, ret, 44100, 20, 77);
  Analysis analysis;
  const AnalysisInput input{master, ret};
  const auto known = std::make_shared<AnalysisResult>(analysis.explained(input, analysis.null(input, grant_nothing)));
  Bench many;
  many.name = "Two hundred";
  many.masters.push_back({"m", "Weir by Lamplight", {master, {}}, {}});
  for (int n = 0; n < trials; ++n)
    many.masters[0].trials.push_back({"t" + std::to_string(n), "trial " + std::to_string(n), {ret, {}}, {}});
  make_report(many, {.trials = {"t0"}}, {});  // the loudness of both is measured
  ReportCost cost;
  Report report;
  cost.made_s = seconds_of([&] {
    report = make_report(many, {}, {grant_nothing, [&](const Trial&) { return known; }});
  });
  cost.html_s = seconds_of([&] { app::report_html(report); });
  cost.pdf_s = seconds_of([&] {
    const app::Paper paper(report);
    cost.pages = paper.pages();
    paper.pdf();
  });
  return cost;
}

}  // namespace heathmist::bench
