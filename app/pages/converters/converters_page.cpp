#include <QMessageBox>

#include "app/pages/converters/converters_view.hpp"
#include "app/pages/page.hpp"

namespace heathmist::app {

namespace {

MadePage make_converters(PageContext& context, QWidget* parent) {
  auto* view = new ConvertersView(context.workspace.queue(), parent);
  QObject::connect(view, &ConvertersView::probe_written, view, [&context](bool whole, const QString& words) {
    if (context.quiet) return;
    if (whole)
      QMessageBox::information(context.window, QObject::tr("The probe is written"), words);
    else
      QMessageBox::warning(context.window, QObject::tr("The probe was not written"), words);
  });
  return {.widget = view,
          .first = [view] { return view->table(); },
          .commands = {{QObject::tr("Sweep every converter"), MenuKind::measure,
                        [view, &context] {
                          context.show("converters");
                          if (!view->is_running()) view->start();
                        }}},
          .shown = [view] { view->recall(); }};
}

}  // namespace

Page converters_page() {
  return {"converters",
          PageGroup::probes,
          QObject::tr("Converters"),
          QObject::tr("Every converter, swept and read, and what each folds back"),
          QKeySequence("F12"),
          make_converters};
}

}  // namespace heathmist::app
