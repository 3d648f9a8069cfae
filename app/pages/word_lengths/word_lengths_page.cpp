#include "app/pages/page.hpp"
#include "app/pages/word_lengths/fade_listening.hpp"
#include "app/pages/word_lengths/word_lengths_view.hpp"

namespace heathmist::app {

namespace {

MadePage make(PageContext& context, QWidget* parent) {
  auto* view = new WordLengthsView(context.workspace.queue(), parent);
  auto* fade = new FadeListening(context, view);
  QObject::connect(view, &WordLengthsView::hear_wanted, fade, &FadeListening::hear);
  return {.widget = view,
          .first = [view] { return view->table(); },
          .commands = {{QObject::tr("Cut to every word length"), MenuKind::measure,
                        [view, &context] {
                          context.show("word_lengths");
                          if (!view->is_running()) view->start();
                        }}},
          .left = [fade] { fade->stop(); }};
}

}  // namespace

Page word_lengths_page() {
  return {"word_lengths",
          PageGroup::probes,
          QObject::tr("Word lengths"),
          QObject::tr("What each number of bits leaves, with each dither"),
          QKeySequence("Ctrl+F12"),
          make};
}

}  // namespace heathmist::app
