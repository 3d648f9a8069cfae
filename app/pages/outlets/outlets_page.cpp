#include "app/pages/outlets/outlets_view.hpp"
#include "app/pages/page.hpp"

namespace heathmist::app {

namespace {

MadePage make(PageContext& context, QWidget* parent) {
  auto* view = new OutletsView(context.workspace.queue(), context.loudness, parent);
  const auto follow = [view, &workspace = context.workspace] { view->follow(workspace.current_master()); };
  const auto encode = [view, &context] {
    context.show("outlets");
    view->run_encodes();
  };
  MadePage made{.widget = view, .first = [view] { return view->table(); }};
  made.commands = {{QObject::tr("Send the masters through the encodes of the outlets"), MenuKind::measure, encode}};
  made.shown = [view, &context, follow] {
    context.loudness.set_bench(context.workspace.bench());
    context.loudness.run();
    view->show_bench(context.workspace.bench());
    follow();
  };
  made.trial = follow;
  return made;
}

}  // namespace

Page outlets_page() {
  return {"outlets",
          PageGroup::levels,
          QObject::tr("Outlets"),
          QObject::tr("What each place of delivery makes of each master"),
          QKeySequence("F4"),
          make};
}

}  // namespace heathmist::app
