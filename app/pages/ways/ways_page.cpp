#include "app/pages/page.hpp"
#include "app/pages/ways/ways_view.hpp"

namespace heathmist::app {

namespace {

MadePage make_ways(PageContext& context, QWidget* parent) {
  auto* view = new WaysView(context.workspace.queue(), parent);
  const auto subject = [&workspace = context.workspace]() -> const Master* {
    const Bench& bench = workspace.bench();
    const Master* master = bench.master(workspace.current_master());
    return master || bench.masters.empty() ? master : &bench.masters.front();
  };
  const auto follow = [view, subject] {
    const Master* master = subject();
    view->set_subject(master ? QString::fromStdString(master->name) : QString(),
                      master ? master->audio.file : std::filesystem::path());
  };
  QObject::connect(view, &WaysView::taken, view, [&context, subject](const Chain& chain) {
    const Master* master = subject();
    if (!master) return;
    context.workspace.look_through(master->id, chain);
    context.listening.set_matched(true);  // louder is not better
    context.show("null");
  });
  MadePage made{.widget = view, .first = [view] { return view->table(); }};
  made.commands = {{QObject::tr("Try the ways to an outlet's loudness"),
                    MenuKind::measure,
                    [view, &context] {
                      context.show("ways");
                      if (!view->is_running()) view->start();
                    },
                    {},
                    [&context] { return !context.workspace.bench().masters.empty(); }}};
  made.shown = [view, follow] { view->reload(), follow(); };
  made.trial = follow;
  made.file_changed = [view](const std::filesystem::path& file) { view->forget(file); };
  return made;
}

}  // namespace

Page ways_page() {
  return {"ways",
          PageGroup::levels,
          QObject::tr("Ways"),
          QObject::tr("What it costs a master to reach an outlet's loudness"),
          QKeySequence("Ctrl+Shift+F4"),
          make_ways};
}

}  // namespace heathmist::app
