// The Spectrum view over time: spectrograms of the chosen clips, worked out for what is in view.
#include "app/pages/spectrum/opened_clips.hpp"
#include "app/theme/theme.hpp"

namespace heathmist::app {

namespace {
constexpr int most_clips = 4, fine_blocks = 8;
}

void SpectrumView::connect_over_time() {
  connect(kind_, &QComboBox::currentIndexChanged, this, &SpectrumView::show_kind);
  connect(levels_, &QComboBox::currentIndexChanged, this,
          [this] { over_time_->set_levels(levels_->currentData().toDouble(), 0); });
  connect(scale_, &QComboBox::currentIndexChanged, this, [this] {
    if (is_over_time()) ask();
  });
  connect(over_time_, &SpectrogramPlate::range_changed, this, [this] {
    if (is_over_time()) ask();
  });
  connect(layout_, &QComboBox::currentIndexChanged, this, [this] {
    over_time_->set_side_by_side(layout_->currentData().toBool());
    if (is_over_time()) ask();
  });
  connect(over_time_, &SpectrogramPlate::clicked, this, &SpectrumView::seek);
  connect(over_time_, &SpectrogramPlate::band_selected, this, &SpectrumView::band_chosen);
  connect(plate_, &LinesPlate::band_selected, this, &SpectrumView::band_chosen);
}

/// Long transforms tell lines apart, short ones moments: each kind begins with a size of its own.
void SpectrumView::show_kind() {
  const bool over_time = is_over_time();
  const bool was = plates_->currentWidget() == over_time_;
  plates_->setCurrentWidget(over_time ? static_cast<QWidget*>(over_time_) : plate_);
  for (QWidget* box : {static_cast<QWidget*>(window_), static_cast<QWidget*>(unit_), static_cast<QWidget*>(slope_),
                       static_cast<QWidget*>(overlap_), static_cast<QWidget*>(blocks_)})
    box->setVisible(!over_time);
  for (QWidget* box : {static_cast<QWidget*>(levels_), static_cast<QWidget*>(layout_)}) box->setVisible(over_time);
  const QSignalBlocker quiet(blocks_);
  if (!over_time)
    blocks_->setCurrentIndex(blocks_->findData(kind_->currentIndex() == moment ? 1
                                               : kind_->currentIndex() == hold ? every_block
                                                                               : most_blocks));
  if (over_time != was) size_->setCurrentIndex(size_->findData(over_time ? 4096 : 65536));
  table_->setVisible(!over_time);
}

void SpectrumView::run_over_time(const std::vector<Subject>& wanted) {
  SpectrogramOptions o;
  o.fft_size = size_t(size_->currentData().toInt());
  o.scale = FrequencyScale(scale_->currentData().toInt());
  o.reassigned = kind_->currentIndex() == over_time_sharp;
  const QPoint listen = listen_->currentData().toPoint();
  o.listen = Listen(listen.x());
  o.channel = listen.y();
  o.columns = std::min(over_time_->columns(), 1600);
  o.rows = std::clamp(
      (over_time_->height() - 30) / (layout_->currentData().toBool() ? 1 : std::min(most_clips, int(wanted.size()))) -
          6,
      40, 500);
  if (length_of_ == wanted.front().key) o.first_s = over_time_->from_s(), o.last_s = over_time_->to_s();
  if (const auto band = over_time_->band()) o.low_hz = band->first, o.high_hz = band->second;
  work_.start([this, wanted, o, opened = opened_](const Job& job, const Tell& tell) {
    std::vector<std::shared_ptr<const Clip>> clips;
    for (const Subject& subject : wanted)
      if (clips.size() < most_clips) clips.push_back(opened->open(subject, job));
    double seconds = 0, high_hz = 0;
    for (const auto& clip : clips) {
      seconds = std::max(seconds, clip->format().duration_s());
      high_hz = std::max(high_hz, clip->format().sample_rate_hz / 2.0);
    }
    SpectrogramOptions own = o;
    if (own.high_hz <= own.low_hz) own.high_hz = high_hz;
    if (own.last_s <= own.first_s) own.last_s = seconds;
    SpectrogramOptions soon = own;  // something soon, then nothing missed
    soon.columns = std::max(1, own.columns / 2);
    const double column = (own.last_s - own.first_s) * clips.front()->format().sample_rate_hz / own.columns;
    if (column >= double(own.fft_size) / 2) own.blocks = fine_blocks;
    for (const SpectrogramOptions& stage : {soon, own}) {
      if (stage.columns != own.columns && opened->has(clips, own)) continue;
      std::vector<NamedSpectrogram> shown;
      for (size_t n = 0; n < clips.size(); ++n)
        shown.push_back({wanted[n].name, std::make_shared<Spectrogram>(
                                             opened->tiles.cells(*clips[n], opened->name_of(clips[n]), stage, job))});
      tell([this, shown, key = wanted.front().key, seconds] {
        if (length_of_ != key) {
          const QSignalBlocker quiet(over_time_);
          length_of_ = key;
          over_time_->set_length(seconds);
        }
        over_time_->show_cells(shown);
        over_time_->set_playhead(playhead_s_);
        QStringList names;
        for (const auto& clip : shown) names << clip.name;
        headline_->setText(tr("%1: dark %2 dBFS, bright at 0").arg(names.join(", "), levels_->currentText()));
      });
    }
  });
}

}  // namespace heathmist::app
