#include "app/pages/blind/blind_view.hpp"
#include "app/pages/page.hpp"
#include "app/widgets/saving.hpp"

namespace heathmist::app {

namespace {

MadePage make_blind(PageContext& context, QWidget* parent) {
  auto* view = new BlindView(
      context.workspace, [&context] { return open_like(context.player.device()); }, parent);
  QObject::connect(view, &BlindView::starting, view, [&context] { context.player.pause(); });
  QObject::connect(view, &QStackedWidget::currentChanged, view,
                   [view, &context] { context.alone(view->is_running()); });
  QObject::connect(&context.player, &Player::playing_changed, view, [view](bool playing) {
    if (playing) view->deck().pause();
  });
  const auto here = [&context](std::function<void()> what) {
    return [&context, what = std::move(what)] {
      context.show("blind");
      what();
    };
  };
  const auto idle = [view] { return !view->is_running() && view->setup()->trial()->count() > 0; };
  return {.widget = view,
          .first = [view]() -> QWidget* {
            return view->is_running() ? static_cast<QWidget*>(view->run()) : view->setup()->trial();
          },
          .commands =
              {{QObject::tr("Begin the blind test"), MenuKind::listen, here([view] { view->begin(); }), {}, idle},
               {QObject::tr("Train for the blind test"), MenuKind::listen, here([view] { view->train(); }), {}, idle},
               {QObject::tr("Save the blind test as CSV\u2026"),
                MenuKind::file,
                [view, &context] { save_table(context.window, "blind-test.csv", view->csv()); },
                {},
                [view] { return view->has_result(); }}},
          .shown = [view] { view->show_bench(); },
          .left = [view] { view->leave(); },
          .trial = [view] { view->show_bench(); },
          .selection = [view] { view->show_bench(); },
          .file_changed = [view](const std::filesystem::path& file) { view->forget(file); },
          .in_place_of_ledger = true};
}

}  // namespace

Page blind_page() {
  return {"blind",
          PageGroup::listening,
          QObject::tr("Blind"),
          QObject::tr("Listening without knowing which is which: what can really be heard"),
          QKeySequence("Ctrl+F9"),
          make_blind};
}

}  // namespace heathmist::app
