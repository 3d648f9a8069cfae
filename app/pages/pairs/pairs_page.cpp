#include "app/pages/page.hpp"
#include "app/pages/pairs/pairs_view.hpp"

namespace heathmist::app {

namespace {

MadePage make_pairs(PageContext& context, QWidget* parent) {
  auto* view = new PairsView(context.workspace.queue(), parent);
  QObject::connect(view, &PairsView::pairs_taken, view,
                   [&context](const std::vector<std::pair<QString, QString>>& pairs) {
                     std::vector<std::pair<std::filesystem::path, std::filesystem::path>> files;
                     for (const auto& [master, ret] : pairs)
                       files.emplace_back(master.toStdString(), ret.toStdString());
                     context.workspace.take_pairs(files);
                     context.show("trials");
                   });
  MadePage made{.widget = view, .first = [view] { return view->table(); }};
  made.commands = {{QObject::tr("Find which return belongs to which master"), MenuKind::measure, [view, &context] {
                      context.show("pairs");
                      if (!view->is_running()) view->find();
                    }}};
  made.shown = [view, &context] {
    QStringList masters;
    for (const Master& m : context.workspace.bench().masters) masters << QString::fromStdString(m.audio.file.string());
    view->follow_bench(masters);
  };
  return made;
}

}  // namespace

Page pairs_page() {
  return {"pairs",
          PageGroup::compare,
          QObject::tr("Pairs"),
          QObject::tr("Which return belongs to which master, by the sound"),
          QKeySequence("Shift+F9"),
          make_pairs};
}

}  // namespace heathmist::app
