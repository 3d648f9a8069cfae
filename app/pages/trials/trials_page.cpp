#include "app/pages/trials/align_controller.hpp"
#include "app/pages/trials/trials_view.hpp"

namespace heathmist::app {

namespace {

MadePage make_trials(PageContext& context, QWidget* parent) {
  auto* view = new TrialsView(parent);
  Workspace& workspace = context.workspace;
  QObject::connect(&workspace, &Workspace::rows_changed, view,
                   [view, &workspace] { view->show_bench(workspace.bench(), workspace.states()); });
  QObject::connect(view, &TrialsView::opened, view, [&context](const QString& id) {
    context.workspace.look_at(id.toStdString());
    context.show("null");
  });
  auto* align = new AlignController(context, view);
  return {.widget = view, .first = [view] { return view->table(); }, .commands = align->commands()};
}

}  // namespace

Page trials_page() {
  return {"trials",
          PageGroup::compare,
          QObject::tr("Trials"),
          QObject::tr("All trials of the bench side by side"),
          QKeySequence("F9"),
          make_trials};
}

}  // namespace heathmist::app
