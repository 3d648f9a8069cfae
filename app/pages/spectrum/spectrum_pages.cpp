// Lines and Over time: two pages of the one view of spectra.
#include "app/pages/page.hpp"
#include "app/pages/spectrum/spectrum_view.hpp"

namespace heathmist::app {

namespace {

void follow_hands(SpectrumView* view, PageContext& context) {
  QObject::connect(view, &SpectrumView::seek, view, [&context](double at) { context.workspace.go_to(at); });
  QObject::connect(view, &SpectrumView::band_chosen, view, [&context](double low, double high) {
    context.workspace.select_band(Range{low, high});
  });
  QObject::connect(view->kind(), &QComboBox::currentIndexChanged, view,
                   [view, &context, was = false](int kind) mutable {
                     const bool over_time = kind >= SpectrumView::over_time_plain;
                     if (std::exchange(was, over_time) == over_time || !view->isVisible())
                       return;  // within a page the hand stays there
                     context.show(over_time ? "spectrogram" : "spectrum");
                   });
}

MadePage make_lines(PageContext& context, QWidget* parent) {
  auto* view = new SpectrumView(context.workspace.queue(), parent);
  follow_hands(view, context);
  MadePage made{.widget = view, .first = [view] { return view->plate(); }};
  made.shown = [view, &context] {
    if (view->kind()->currentIndex() >= SpectrumView::over_time_plain)
      view->kind()->setCurrentIndex(SpectrumView::average);
    view->show_bench(context.workspace.bench());
  };
  made.trial = [view, &context] {
    view->show_trial(context.workspace.current_result());
    view->show_master(context.workspace.current_master());
  };
  made.playhead = [view](double at) { view->set_playhead(at); };
  made.selection = [view, &context] { view->set_selection(context.workspace.selection()); };
  made.file_changed = [view](const std::filesystem::path&) { view->look_again(); };
  return made;
}

/// The view is there already: the pages are made in order.
MadePage make_over_time(PageContext& context, QWidget* parent) {
  auto* view = parent->findChild<SpectrumView*>();
  return {.widget = view,
          .first = [view] { return view->over_time(); },
          .shown =
              [view, &context] {
                if (view->kind()->currentIndex() < SpectrumView::over_time_plain)
                  view->kind()->setCurrentIndex(SpectrumView::over_time_plain);
                view->show_bench(context.workspace.bench());
              }};
}

}  // namespace

Page lines_page() {
  return {"spectrum",           PageGroup::spectrum,
          QObject::tr("Lines"), QObject::tr("Spectra of any clips of the bench, and what their lines are"),
          QKeySequence("F2"),   make_lines};
}

Page over_time_page() {
  return {"spectrogram",
          PageGroup::spectrum,
          QObject::tr("Over time"),
          QObject::tr("Spectrograms on one time axis"),
          QKeySequence("Shift+F2"),
          make_over_time};
}

}  // namespace heathmist::app
