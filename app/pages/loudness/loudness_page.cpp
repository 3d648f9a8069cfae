#include "app/pages/loudness/loudness_controller.hpp"

namespace heathmist::app {

namespace {

MadePage make_loudness(PageContext& context, QWidget* parent) {
  auto* view = new LoudnessView(context.workspace.queue(), context.loudness, parent);
  auto* controller = new LoudnessController(context, view);
  const auto follow = [view, &workspace = context.workspace] {
    view->follow(workspace.current_master(), workspace.current());
  };
  MadePage made{.widget = view, .first = [view] { return view->table(); }, .commands = controller->commands()};
  made.shown = [&context, follow] {
    context.loudness.set_bench(context.workspace.bench());
    context.loudness.run();
    follow();
  };
  made.trial = follow;
  return made;
}

}  // namespace

Page loudness_page() {
  return {"loudness",
          PageGroup::levels,
          QObject::tr("Loudness"),
          QObject::tr("All masters and returns in one table, and over time"),
          QKeySequence("F3"),
          make_loudness};
}

}  // namespace heathmist::app
