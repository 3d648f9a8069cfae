// What the window does with spectra and converters.
#include "app/window/main_window.hpp"

namespace heathmist::app {

void MainWindow::make_spectrum_actions() {
  add(tr("Spectra of the clips"), {QKeySequence("F2")}, [this] { show_view(spectrum_page); });
  add(tr("Converters side by side"), {QKeySequence("F12")}, [this] { show_view(converters_page); });
  add(tr("Sweep every converter"), {}, [this] {
    show_view(converters_page);
    if (!converters_->is_running()) converters_->start();
  });
}

void MainWindow::connect_spectrum() {
  connect(&player_, &Player::moved, spectrum_, &SpectrumView::set_playhead);
  connect(view_, &NullView::seek, spectrum_, &SpectrumView::set_playhead);
  connect(view_, &NullView::loop_changed, spectrum_, &SpectrumView::set_selection);
  connect(spectrum_, &SpectrumView::seek, this, [this](double at) {
    player_.seek(at);
    view_->set_playhead(at);
    spectrum_->set_playhead(at);
  });
  connect(spectrum_, &SpectrumView::band_chosen, this, [this](double low, double high) {
    view_->set_band(std::pair{low, high});  // heard alone, and for the numbers
  });
  connect(&desk_, &Desk::trial_ready, spectrum_, &SpectrumView::show_trial);
  connect(&desk_, &Desk::nothing_selected, spectrum_, [this] { spectrum_->show_trial(nullptr); });
}

void MainWindow::refresh_spectrum() {
  if (views_->currentIndex() == spectrum_page) spectrum_->show_bench(desk_.bench());
}

}  // namespace heathmist::app
