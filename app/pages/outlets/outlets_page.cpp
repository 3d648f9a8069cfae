#include "app/pages/outlets/outlets_view.hpp"
#include "app/pages/page.hpp"

namespace heathmist::app {

namespace {

MadePage make_outlets(PageContext& context, QWidget* parent) {
  auto* view = new OutletsView(context.workspace.queue(), context.loudness, parent);
  const auto follow = [view, &workspace = context.workspace] { view->follow(workspace.current_master()); };
  const auto encode = [view, &context] {
    context.show("outlets");
    view->run_encodes();
  };
  QObject::connect(view->listeners(), &ListenersRow::trials_wanted, view,
                   [&context](const std::string& master_id, const std::vector<Chain>& chains) {
                     context.workspace.make_returns(master_id, chains);
                     context.listening.set_matched(false);  // they hear the player's gain
                     context.show("trials");
                   });
  QObject::connect(view->listeners(), &ListenersRow::brought, view,
                   [&context](const std::filesystem::path& master, const std::filesystem::path& file) {
                     context.workspace.take_pairs({{master, file}});
                   });
  MadePage made{.widget = view, .first = [view] { return view->table(); }};
  made.commands = {{QObject::tr("Send the masters through the encodes of the outlets"), MenuKind::measure, encode}};
  made.shown = [view, &context, follow] {
    context.loudness.set_bench(context.workspace.bench());
    context.loudness.run();
    view->show_bench(context.workspace.bench());
    follow();
  };
  made.findable = [view, &context] {
    std::vector<Findable> all;
    for (const Outlet& o : view->outlets())
      all.push_back({QObject::tr("Outlets"), QString::fromStdString(o.name), QObject::tr("what it makes of the master"),
                     [view, &context, key = o.key] {
                       context.show("outlets");
                       view->go_to(key);
                     }});
    return all;
  };
  made.trial = follow;
  made.file_changed = [view](const std::filesystem::path& file) { view->listeners()->forget(file); };
  return made;
}

}  // namespace

Page outlets_page() {
  return {"outlets",
          PageGroup::levels,
          QObject::tr("Outlets"),
          QObject::tr("What each place of delivery makes of each master"),
          QKeySequence("F4"),
          make_outlets};
}

}  // namespace heathmist::app
