// What the window does with spectra and converters.
#include <QMessageBox>

#include "app/window/main_window.hpp"

namespace heathmist::app {

void MainWindow::make_spectrum_actions() {
  add(tr("Spectra of the clips"), {QKeySequence("F2")}, [this] { show_view(spectrum_page); });
  add(tr("Converters side by side"), {QKeySequence("F12")}, [this] { show_conversions(ConversionsView::board_part); });
  add(tr("Where frequencies land between two rates"), {QKeySequence("Shift+F12")},
      [this] { show_conversions(ConversionsView::folds_part); });
  add(tr("What word lengths leave"), {QKeySequence("Ctrl+F12")},
      [this] { show_conversions(ConversionsView::words_part); });
  add(tr("Sweep every converter"), {}, [this] {
    show_conversions(ConversionsView::board_part);
    if (!converters_->is_running()) converters_->start();
  });
  add(tr("Cut to every word length"), {}, [this] {
    show_conversions(ConversionsView::words_part);
    if (!conversions_->words()->is_running()) conversions_->words()->start();
  });
}

void MainWindow::show_conversions(int part) {
  show_view(converters_page);
  conversions_->show_part(part);
}

/// The fade takes the place of the pair that is heard until the page is left: master before, return after the cut.
void MainWindow::hear_fade(const WordCut& cut) {
  player_.pause();
  fading_.start([this, cut](const Job& job) {
    const Fade fade = fade_through(cut, 48000, job);
    const Comparable pair{fade.before, fade.after};
    NullOptions as_it_stands;
    as_it_stands.held_fit.emplace();
    as_it_stands.held_fit->pairs = plain_pairs(2, 2);
    as_it_stands.held_fit->trusted = true;
    auto report = std::make_shared<NullReport>(null_test(*fade.before, *fade.after, pair, as_it_stands, job));
    QMetaObject::invokeMethod(
        this,
        [this, pair, report] {
          fade_is_heard_ = true;
          view_->plates()->causes()->mark_heard(-1);  // a cause is let go with its pair
          player_.set_source(pair, report->fit);
          listening_->set_pair(report);
          listening_->hear(Heard::ret);
          player_.seek(0);
          player_.play();
        },
        Qt::QueuedConnection);
  });
}

void MainWindow::hear_trial_again() {
  fading_.drop();
  if (!std::exchange(fade_is_heard_, false)) return;
  player_.pause();
  const auto result = desk_.current_result();
  if (result && result->report) {
    player_.set_source(result->pair, result->report->fit);
    listening_->set_pair(result->report);
  } else {
    player_.clear_source();
    listening_->set_pair(nullptr);
  }
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
  connect(converters_, &ConvertersView::probe_written, this, [this](bool whole, const QString& words) {
    if (quiet_) return;
    if (whole)
      QMessageBox::information(this, tr("The probe is written"), words);
    else
      QMessageBox::warning(this, tr("The probe was not written"), words);
  });
  connect(conversions_->words(), &WordBoardView::hear_wished, this, &MainWindow::hear_fade);
  connect(&fading_, &Task::ended, this, [this](bool, const QString& failure) {
    if (!failure.isEmpty() && !quiet_) QMessageBox::warning(this, tr("The fade was not made"), failure);
  });
  connect(&desk_, &Desk::trial_ready, spectrum_, &SpectrumView::show_trial);
  connect(&desk_, &Desk::nothing_selected, spectrum_, [this] { spectrum_->show_trial(nullptr); });
}

void MainWindow::refresh_spectrum() {
  if (views_->currentIndex() == spectrum_page) spectrum_->show_bench(desk_.bench());
}

}  // namespace heathmist::app
