#include "app/pages/aliasing/fold_view.hpp"
#include "app/pages/page.hpp"

namespace heathmist::app {

namespace {

MadePage make_aliasing(PageContext&, QWidget* parent) {
  auto* view = new FoldView(parent);
  return {.widget = view, .first = [view] { return view->tone(); }};
}

}  // namespace

Page aliasing_page() {
  return {"aliasing",
          PageGroup::probes,
          QObject::tr("Aliasing"),
          QObject::tr("Where each frequency lands between two rates, and what else lands there"),
          QKeySequence("Shift+F12"),
          make_aliasing};
}

}  // namespace heathmist::app
