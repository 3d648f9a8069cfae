// Which device is recorded from and played through, at what rate and word length; what it converts on the way is said.
#pragma once
#include <QComboBox>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>

#include "app/model/long_work.hpp"
#include "core/audio/clip.hpp"
#include "core/audio/write.hpp"
#include "core/devices/device.hpp"

namespace heathmist::app {

class DeviceForm : public QWidget {
  Q_OBJECT

 public:
  /// `records`: a word length is chosen.
  DeviceForm(Queue& queue, bool records, QWidget* parent = nullptr);
  /// Looks, beside the interface, what there is just now.
  void look_again();
  /// What there is just now; what was chosen stays where it is still there.
  void show_devices(const std::vector<Device>& devices);
  /// What is played, at its own rate; nothing: any rate will do. There is no order() until its rate is known.
  void set_played(const std::optional<std::filesystem::path>& file);
  /// That file, opened; nullptr: nothing is played, or it is not known yet.
  const std::shared_ptr<const Clip>& played() const { return clip_; }
  void set_plays(bool plays);
  /// What was chosen; none as long as no device is known.
  std::optional<StreamOrder> order() const;
  /// Where sound can be heard while what is chosen sends; empty as long as nothing does.
  std::vector<OutputPair> outputs_beside() const;
  WordFormat word() const;
  void choose_input(const QString& name);
  void choose_output(const QString& name);
  /// How fast the stand-in's clock runs; 0: as fast as sound is taken.
  void set_clock(double clock) { clock_ = clock; }
  void choose_stand_in(int preset) { preset_->setCurrentIndex(preset); }
  /// The stand-in as it is written, in the command line's words.
  QLineEdit* by_hand() const { return by_hand_; }
  void set_by_hand() { preset_->setCurrentIndex(preset_->count() - 1); }
  /// What is converted on the way, or why it cannot be, a sentence that stands under the form; empty: nothing.
  QString note() const { return note_->text(); }
  bool is_looking() const { return devices_.empty() || (wanted_rate_ == not_known && trouble_.isEmpty()); }
  QComboBox* input() const { return input_; }
  QComboBox* output() const { return output_; }
  QComboBox* rate() const { return rate_; }

 signals:
  void changed();

 private:
  const Device* device(const QComboBox* box) const;
  void show_channels(QComboBox* box, int count, int kept) const;
  void show_rates();
  void take_input();
  void take_output();
  void tell();
  std::optional<LoopSettings> stand_in(QString* trouble = nullptr) const;
  void set_wanted_rate(int rate_hz);
  static constexpr int not_known = -1;
  LongWork looking_, opening_;
  std::vector<Device> devices_;
  using FileNow = std::pair<std::filesystem::path, std::filesystem::file_time_type>;
  std::optional<FileNow> played_;
  std::shared_ptr<const Clip> clip_;
  QString trouble_;      // of the file that is played
  int wanted_rate_ = 0;  // 0: any
  bool plays_ = true;
  double clock_ = 1;
  QLabel* note_;
  QComboBox *input_, *input_channels_, *output_, *output_channels_, *rate_, *word_, *preset_;
  std::vector<QWidget*> output_widgets_;
  QLineEdit* by_hand_;
  bool is_written_ = false;
  QWidget* stand_in_;  // how it behaves, where it is chosen
  QPushButton* again_;
};

}  // namespace heathmist::app
