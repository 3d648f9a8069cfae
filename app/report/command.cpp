#include "app/report/command.hpp"

#include <fmt/format.h>
#include <unistd.h>

#include <CLI/CLI.hpp>
#include <QApplication>
#include <cstdio>
#include <string_view>

#include "app/report/write_report.hpp"
#include "app/theme/theme.hpp"
#include "core/bench/armed.hpp"
#include "core/engines/engine.hpp"
#include "core/printable.hpp"

namespace heathmist::app {

namespace {

struct Call {
  std::string bench, out;
  ReportChoice choice;
  std::vector<std::string> without;
  bool force = false, json = false, quiet = false;
};

void complain(const std::string& sentence) { std::fprintf(stderr, "heathmist: %s\n", sentence.c_str()); }

std::vector<std::string> part_names() {
  std::vector<std::string> names;
  for (const ReportPart part : report_parts) names.emplace_back(name_of(part));
  return names;
}

void describe(CLI::App& app, Call& call) {
  app.add_option("BENCH", call.bench, "the bench (.heathmist)")->required();
  app.add_option("-o", call.out, "where the report goes (.html or .pdf)")->required();
  app.add_option("--trial", call.choice.trials, "only of these trials, by their ids");
  app.add_option("--master", call.choice.masters, "only of these masters, by their ids");
  app.add_option("--album", call.choice.albums, "only of the masters of these albums, by name");
  app.add_option("--heading", call.choice.heading, "what stands above it; else the bench's name");
  app.add_option("--logo", call.choice.logo, "a PNG or JPEG picture for its head");
  app.add_option("--without", call.without, "what is left out")->check(CLI::IsMember(part_names()));
  app.add_flag("--force", call.force, "a report that is there may be replaced; never a file that is read");
  app.add_flag("--json", call.json, "one JSON object on standard output");
  app.add_flag("-q,--quiet", call.quiet, "say nothing but what is wrong");
}

/// How far it is, on a terminal.
Job watched(bool quiet) {
  Job job;
  if (quiet || !isatty(STDERR_FILENO)) return job;
  job.progress = [last = -1](double fraction) mutable {
    const int percent = int(fraction * 100);
    if (percent == std::exchange(last, percent)) return;
    std::fprintf(stderr, percent < 100 ? "\rmeasuring %3d %%" : "\r               \r", percent);
  };
  return job;
}

void make(Call& call) {
  const Bench bench = load_bench(call.bench);
  Destination to(call.out, call.force, files_of(bench));
  to.inputs.emplace_back(call.bench);
  if (!call.choice.logo.empty()) to.inputs.push_back(call.choice.logo);
  check_report(to);
  check_logo(call.choice.logo);
  for (const auto& name : call.without) call.choice.without.push_back(*report_part_named(name));
  const Report report = make_report(bench, call.choice, {grant_here()}, watched(call.quiet));
  write_report(report, to);
  for (const auto& sentence : report.troubles) complain(printable(sentence));
  if (call.json)
    fmt::print("{}\n", Json{{"output", call.out}, {"about", report.about}, {"troubles", report.troubles}}.dump(2));
  else if (!call.quiet)
    fmt::print("{}: {}\n", printable(call.out), report.about);
}

}  // namespace

bool asks_for_report(int argc, char** argv) { return argc > 1 && std::string_view(argv[1]) == "report"; }

int run_report(int argc, char** argv) {
  Call call;
  CLI::App app{"A report on a bench, as one HTML file or as PDF", "heathmist report"};
  describe(app, call);
  try {
    app.parse(argc - 1, argv + 1);
  } catch (const CLI::Success& asked) {  // --help
    return app.exit(asked);
  } catch (const CLI::ParseError& error) {
    complain(error.what() + std::string("; heathmist report --help lists what there is"));
    return 2;
  }
  qputenv("QT_QPA_PLATFORM", "offscreen");  // fonts and pages, and no display
  qInstallMessageHandler([](QtMsgType, const QMessageLogContext&, const QString&) {});  // what Qt misses of a desktop
  int qt_argc = 1;
  const QApplication qt(qt_argc, argv);
  Theme::instance().apply(false);
  offer_engine_stage();
  try {
    make(call);
    return 0;
  } catch (const std::invalid_argument& error) {
    complain(error.what());
    return 2;
  } catch (const std::exception& error) {
    complain(error.what());
    return 1;
  }
}

}  // namespace heathmist::app
