#include "app/pages/page.hpp"
#include "app/pages/responses/responses_view.hpp"
#include "app/widgets/saving.hpp"

namespace heathmist::app {

namespace {

/// Beside the bench where they can be: its folder may move.
nlohmann::ordered_json settings_of(const ResponsesView& view, const Workspace& workspace) {
  nlohmann::ordered_json files = nlohmann::ordered_json::array();
  const QString bench = const_cast<Workspace&>(workspace).model().file();
  const auto folder = std::filesystem::path(bench.toStdString()).parent_path();
  for (const auto& file : view.files())
    files.push_back(bench.isEmpty() ? file.string() : file.lexically_relative(folder).string());
  return {{"files", files}};
}

void restore(ResponsesView& view, const Workspace& workspace, const nlohmann::ordered_json& settings) {
  const auto at = settings.find("files");
  if (at == settings.end() || !at->is_array()) return;
  const auto folder =
      std::filesystem::path(const_cast<Workspace&>(workspace).model().file().toStdString()).parent_path();
  std::vector<std::filesystem::path> files;
  for (const auto& file : *at)
    if (file.is_string()) files.push_back((folder / file.get<std::string>()).lexically_normal());
  view.add(files);
}

MadePage make(PageContext& context, QWidget* parent) {
  auto* view = new ResponsesView(context.workspace.queue(), parent);
  return {.widget = view,
          .first = [view] { return view->table(); },
          .commands = {{QObject::tr("Take the chosen responses out"),
                        MenuKind::measure,
                        [view] { view->remove_chosen(); },
                        {},
                        [view] { return view->isVisible() && !view->table()->chosen().empty(); }},
                       {QObject::tr("Save the responses as CSV\u2026"),
                        MenuKind::file,
                        [view, &context] { save_table(context.window, "responses.csv", view->csv()); },
                        {},
                        [view] { return !view->rows().empty(); }}},
          .shown = [view, &context] { view->show_bench(context.workspace.bench()); },
          .file_changed = [view](const std::filesystem::path& file) { view->forget(file); },
          .settings_key = "responses",
          .settings = [view, &context] { return settings_of(*view, context.workspace); },
          .restore = [view, &context](
                         const nlohmann::ordered_json& settings) { restore(*view, context.workspace, settings); }};
}

}  // namespace

Page responses_page() {
  return {"responses",
          PageGroup::probes,
          QObject::tr("Responses"),
          QObject::tr("Impulse responses: how long they ring, how much of each is enough"),
          QKeySequence("Ctrl+F11"),
          make};
}

}  // namespace heathmist::app
