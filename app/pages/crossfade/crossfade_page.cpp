#include "app/pages/crossfade/crossfade_view.hpp"
#include "app/pages/heard_instead.hpp"

namespace heathmist::app {

namespace {

/// The chosen law is heard in place of the return, the best one in place of the master.
void hear(HeardInstead& instead, const CrossfadeView& view) {
  const auto choice = view.chosen();
  if (!choice || !view.study()) return;
  const FadeLaw best = view.study()->laws[view.study()->best].law;
  instead.hear([c = *choice, best](const Job& job) {
    const auto a = Clip::open(c.a, job.part(0, 0.3)), b = Clip::open(c.b, job.part(0.3, 0.6));
    return Comparable{make_crossfade(a, b, c.spot, best, c.options, job.part(0.6, 0.8)),
                      make_crossfade(a, b, c.spot, c.law, c.options, job.part(0.8, 1))};
  });
}

MadePage make_crossfade(PageContext& context, QWidget* parent) {
  auto* view = new CrossfadeView(context.workspace.queue(), parent);
  auto* instead = new HeardInstead(context, QObject::tr("The crossfade was not made."), view);
  const auto listen = [instead, view] { hear(*instead, *view); };
  QObject::connect(view, &CrossfadeView::hearing_wanted, instead, listen);
  return {.widget = view,
          .first = [view] { return view->table(); },
          .commands = {{QObject::tr("Hear the crossfade"),
                        MenuKind::listen,
                        [&context, listen] {
                          context.show("crossfade");
                          listen();
                        },
                        {},
                        [view] { return view->study().has_value(); }}},
          .shown = [view, &context] { view->show_bench(context.workspace.bench()); },
          .left = [instead] { instead->stop(); },
          .file_changed = [view](const std::filesystem::path& file) { view->forget(file); }};
}

}  // namespace

Page crossfade_page() {
  return {"crossfade",
          PageGroup::make,
          QObject::tr("Crossfade"),
          QObject::tr("Which law keeps the level even between two clips, to be heard"),
          QKeySequence("Ctrl+F10"),
          make_crossfade};
}

}  // namespace heathmist::app
