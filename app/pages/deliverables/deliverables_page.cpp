#include "app/pages/deliverables/deliverables_view.hpp"
#include "app/pages/page.hpp"

namespace heathmist::app {

namespace {

nlohmann::ordered_json settings_of(const DeliverablesView& view) {
  Json list = Json::array();
  for (const Rules& rules : view.plan()) list.push_back(rules_json(rules));
  return {{"plan", {{"deliverables", list}}}};
}

void restore(DeliverablesView& view, const nlohmann::ordered_json& kept) {
  try {
    if (kept.contains("plan")) view.set_plan(plan_from_json(Json(kept["plan"])));
  } catch (const RulesError&) {  // of another version: the usual one stands
  }
}

MadePage make_deliverables(PageContext& context, QWidget* parent) {
  auto* view = new DeliverablesView(context.workspace.queue(), parent);
  MadePage made{.widget = view, .first = [view] { return view->table(); }};
  made.commands = {{QObject::tr("Find what should exist of each master"), MenuKind::measure, [view, &context] {
                      context.show("deliverables");
                      if (!view->is_running()) view->find();
                    }}};
  made.shown = [view, &context] {
    std::vector<MasterVersions> masters;
    for (const Master& m : context.workspace.bench().masters) {
      masters.push_back({m.audio.file});
      for (const FileRef& v : m.earlier) masters.back().earlier.push_back(v.file);
    }
    view->follow_bench(masters);
  };
  made.settings_key = "deliverables";
  made.settings = [view] { return settings_of(*view); };
  made.restore = [view](const nlohmann::ordered_json& kept) { restore(*view, kept); };
  return made;
}

}  // namespace

Page deliverables_page() {
  return {"deliverables",
          PageGroup::make,
          QObject::tr("Deliverables"),
          QObject::tr("What should exist of each master, and what is missing or old"),
          QKeySequence("Shift+F10"),
          make_deliverables};
}

}  // namespace heathmist::app
