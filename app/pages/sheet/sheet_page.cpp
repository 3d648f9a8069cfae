#include "app/pages/page.hpp"
#include "app/pages/sheet/sheet_view.hpp"

namespace heathmist::app {

namespace {

constexpr double around_s = 0.5;  // of a spot that is jumped to

/// The file is on the bench, is looked at, and the spot is in front.
void jump(PageContext& context, const QString& file, double at_s) {
  Workspace& workspace = context.workspace;
  workspace.look_at(workspace.master_of_file(QFileInfo(file).completeBaseName(), file.toStdString()));
  context.show("spectrogram");
  workspace.select(Range{std::max(0.0, at_s - around_s), at_s + around_s});
  workspace.go_to(std::max(0.0, at_s - around_s));
}

nlohmann::ordered_json settings_of(const SheetView& view) {
  if (view.rules().outlet) return {{"outlet", view.rules().outlet->key}};
  return {{"rules", rules_json(view.rules())}};
}

void restore(SheetView& view, const nlohmann::ordered_json& kept) {
  try {
    if (kept.contains("rules")) view.check_against(rules_from_json(Json(kept["rules"])));
    if (kept.contains("outlet") && kept["outlet"].is_string())
      for (const Outlet& o : known_outlets())
        if (o.key == kept["outlet"].get<std::string>()) view.check_against(rules_of(o));
  } catch (const RulesError&) {  // of another version: the first outlet's stand
  }
}

MadePage make_sheet(PageContext& context, QWidget* parent) {
  auto* view = new SheetView(context.workspace.queue(), parent);
  QObject::connect(view, &SheetView::jump_wanted, view,
                   [&context](const QString& file, double at_s) { jump(context, file, at_s); });
  const auto go = [view, &context](auto what) {
    return [view, &context, what] {
      context.show("sheet");
      (view->*what)();
    };
  };
  MadePage made{.widget = view, .first = [view] { return view->table(); }};
  made.commands = {
      {QObject::tr("Check files against an outlet or rules…"), MenuKind::measure, go(&SheetView::add_files)},
      {.name = QObject::tr("Measure a folder…"),
       .menu = MenuKind::measure,
       .run = go(&SheetView::add_folder),
       .keys = {QKeySequence("Ctrl+Shift+I")},
       .begins =
           QObject::tr("Every file below it against an outlet or rules of your own, worst first: loudness, peaks, "
                       "clicks, dropouts, word lengths.")},
      {QObject::tr("Watch a folder for what arrives…"), MenuKind::measure, go(&SheetView::choose_folder_to_watch)},
      {QObject::tr("Edit the rules of the sheet…"), MenuKind::measure, go(&SheetView::edit_rules)}};
  made.shown = [view, &context] {
    QStringList masters;
    for (const Master& m : context.workspace.bench().masters) masters << QString::fromStdString(m.audio.file.string());
    view->reload();
    view->run().follow_bench(masters);
    view->run().start();
  };
  view->watch_again();
  made.settings_key = "sheet";
  made.settings = [view] { return settings_of(*view); };
  made.restore = [view](const nlohmann::ordered_json& kept) { restore(*view, kept); };
  return made;
}

}  // namespace

Page sheet_page() {
  return {"sheet",
          PageGroup::levels,
          QObject::tr("Sheet"),
          QObject::tr("Many files against an outlet or your own rules"),
          QKeySequence("Shift+F4"),
          make_sheet};
}

}  // namespace heathmist::app
