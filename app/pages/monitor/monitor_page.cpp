#include "app/pages/device_form.hpp"
#include "app/pages/monitor/monitor_view.hpp"
#include "app/pages/page.hpp"

namespace heathmist::app {

namespace {

MadePage make_monitor(PageContext& context, QWidget* parent) {
  auto* view = new MonitorView(context.workspace.queue(), parent);
  QObject::connect(view, &MonitorView::started, view, [&context] { context.player.pause(); });
  // what is heard is chosen where it always is, in the listening bar and by its keys
  const auto follow = [view, &context] {
    if (context.listening.heard() != Heard::residual)
      view->hear(context.listening.heard() == Heard::ret, context.listening.matched());
  };
  QObject::connect(&context.listening, &ListeningBar::heard_changed, view, follow);
  QObject::connect(view, &MonitorView::live_changed, &context.listening, &ListeningBar::say);
  QObject::connect(view, &MonitorView::live_ended, &context.listening, &ListeningBar::show_match);
  QObject::connect(&context.player, &Player::playing_changed, view, [view](bool playing) {
    if (playing && view->is_heard()) view->stop();  // one thing is heard at a time
  });
  follow();
  auto here = std::make_shared<bool>(false);  // the page is seen
  const auto running = [view] { return view->is_running(); };
  return {
      .widget = view,
      .first = [view] { return view->main_button(); },
      .commands =
          {{QObject::tr("Watch an input, or stop that"), MenuKind::listen,
            [view, &context] {
              context.show("monitor");
              view->is_running() ? view->stop() : view->start();
            }},
           {QObject::tr("Begin the input's loudness anew"), MenuKind::listen, [view] { view->reset(); }, {}, running},
           {QObject::tr("Keep the last 5 minutes of the input"),
            MenuKind::listen,
            [view] { view->keep_last(5); },
            {},
            running}},
      .shown =
          [view, &context, here] {
            view->show_bench(context.workspace.bench());
            if (!std::exchange(*here, true) && !view->is_running()) view->form()->look_again();
          },
      .left = [here] { *here = false; },
      .in_place_of_ledger = true};
}

}  // namespace

Page monitor_page() {
  return {"monitor",
          PageGroup::listening,
          QObject::tr("Monitor"),
          QObject::tr("Watch an input: loudness, true peak, stereo, spectrum, and the last hour"),
          QKeySequence("Ctrl+F8"),
          make_monitor};
}

}  // namespace heathmist::app
