#include "app/pages/engines/engines_controller.hpp"
#include "app/pages/page.hpp"

namespace heathmist::app {

namespace {

MadePage make_engines(PageContext& context, QWidget* parent) {
  auto* view = new EnginesView(context.workspace.queue(), parent);
  auto* controller = new EnginesController(context, view);
  const auto chosen = [view] { return view->engine() != nullptr; };
  const auto stand_in = [view] { return view->engine() && !view->engine()->stand_in.empty(); };
  const auto own = [view] { return view->engine() && view->engine()->stand_in.empty(); };
  const auto here = [&context](std::function<void()> what) {
    return [&context, what = std::move(what)] {
      context.show("engines");
      what();
    };
  };
  return {.widget = view,
          .first = [view]() -> QWidget* {
            const auto cards = view->cards()->cards();
            return cards.empty() ? static_cast<QWidget*>(view->findChild<QPushButton*>("addEngine")) : cards.front();
          },
          .commands = {{QObject::tr("Add an engine\u2026"), MenuKind::measure,
                        here([=] { controller->add_menu(view->mapToGlobal(QPoint(16, view->height()))); })},
                       {QObject::tr("Ask the stand-in for everything"),
                        MenuKind::measure,
                        here([=] { controller->ask_everything(); }),
                        {},
                        stand_in},
                       {QObject::tr("Bring in an engine's render\u2026"),
                        MenuKind::measure,
                        here([=] { controller->choose_render(); }),
                        {},
                        own},
                       {QObject::tr("Write a probe for an engine\u2026"), MenuKind::file,
                        here([=] { controller->choose_probe_file(); })},
                       {QObject::tr("Save the engines as CSV\u2026"),
                        MenuKind::file,
                        here([=] { controller->save_csv(); }),
                        {},
                        chosen}},
          .shown = [view, &context] { view->show_bench(context.workspace.bench()); },
          .file_changed = [view](const std::filesystem::path& file) { view->readings().forget(file); },
          .in_place_of_ledger = true};
}

}  // namespace

Page engines_page() {
  return {"engines",
          PageGroup::probes,
          QObject::tr("Engines"),
          QObject::tr("What a mixing engine does to audio: gain, pan, crossfades, its bus"),
          QKeySequence("Ctrl+Shift+F12"),
          make_engines};
}

}  // namespace heathmist::app
