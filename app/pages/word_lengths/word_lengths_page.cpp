#include "app/pages/heard_instead.hpp"
#include "app/pages/word_lengths/word_lengths_view.hpp"

namespace heathmist::app {

namespace {

MadePage make_word_lengths(PageContext& context, QWidget* parent) {
  auto* view = new WordLengthsView(context.workspace.queue(), parent);
  auto* fade = new HeardInstead(context, QObject::tr("The fade was not made."), view);
  QObject::connect(view, &WordLengthsView::hear_wanted, fade, [fade](const WordCut& cut) {
    fade->hear([cut](const Job& job) {
      const Fade made = fade_through(cut, WordLengthsView::rate_hz, job);
      return Comparable{made.before, made.after};
    });
  });
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
          make_word_lengths};
}

}  // namespace heathmist::app
