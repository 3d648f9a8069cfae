#include "app/pages/page.hpp"
#include "app/pages/report/report_view.hpp"

namespace heathmist::app {

namespace {

nlohmann::ordered_json settings_of(const ReportView& view) {
  const ReportChoice choice = view.choice();
  nlohmann::ordered_json kept{{"heading", choice.heading}};
  kept["without"] = nlohmann::ordered_json::array();
  for (const ReportPart part : choice.without) kept["without"].push_back(name_of(part));
  return kept;
}

/// Of a bench that says nothing here all is as it is first; one from elsewhere may hold anything.
void restore(ReportView& view, const nlohmann::ordered_json& kept) {
  ReportChoice choice;
  if (const auto heading = kept.find("heading"); heading != kept.end() && heading->is_string())
    choice.heading = heading->get<std::string>();
  if (const auto without = kept.find("without"); without != kept.end() && without->is_array())
    for (const auto& name : *without)
      if (const auto part = name.is_string() ? report_part_named(name.get<std::string>()) : std::nullopt)
        choice.without.push_back(*part);
  view.set_choice(choice);
}

MadePage make_report_page(PageContext& context, QWidget* parent) {
  Workspace& workspace = context.workspace;
  auto* view =
      new ReportView(workspace.queue(), context.window,
                     {[&workspace](const Trial& trial) { return workspace.result_of(trial.id); },
                      [&workspace] { return workspace.results().is_busy(); }, [&context] { return context.quiet; }},
                     parent);
  QObject::connect(view, &ReportView::failed, view, context.say);
  const auto follow = [view, &workspace] {
    view->follow(workspace.bench(), workspace.model().file().toStdString(), workspace.current());
  };
  MadePage made{.widget = view, .first = [view] { return view->pages(); }};
  const auto save = [view, &context](const char* ending) {
    return [view, &context, ending] {
      context.show("report");
      view->save(ending);
    };
  };
  const auto shown = [view] { return view->report() != nullptr; };
  made.commands = {{QObject::tr("Save the report as PDF…"), MenuKind::file, save("pdf"), {}, shown},
                   {QObject::tr("Save the report as HTML…"), MenuKind::file, save("html"), {}, shown}};
  made.shown = follow;
  made.trial = [view, follow] {
    if (view->isVisible()) follow();
  };
  made.left = [view] { view->leave(); };
  made.file_changed = [view](const std::filesystem::path& file) { view->forget(file); };
  made.settings_key = "report";
  made.settings = [view] { return settings_of(*view); };
  made.restore = [view](const nlohmann::ordered_json& kept) { restore(*view, kept); };
  return made;
}

}  // namespace

Page report_page() {
  return {"report",
          PageGroup::report,
          QObject::tr("Report"),
          QObject::tr("What goes to the client: verdicts, proof and numbers, as PDF or one HTML file"),
          QKeySequence("Ctrl+P"),
          make_report_page};
}

}  // namespace heathmist::app
