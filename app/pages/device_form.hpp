// Which device is recorded from and played through, at what rate and word length; what it converts on the way is said.
#pragma once
#include <QComboBox>
#include <QLabel>
#include <QPushButton>

#include "core/audio/write.hpp"
#include "core/devices/device.hpp"

namespace heathmist::app {

class DeviceForm : public QWidget {
  Q_OBJECT

 public:
  /// `records`: a word length is chosen.
  explicit DeviceForm(bool records, QWidget* parent = nullptr);
  /// What there is just now; what was chosen stays where it is still there.
  void show_devices(const std::vector<Device>& devices);
  /// The rate that what is played has; 0: any.
  void set_wanted_rate(int rate_hz);
  void set_plays(bool plays);
  /// What was chosen; none as long as no device is known.
  std::optional<StreamOrder> order() const;
  WordFormat word() const;
  void choose_input(const QString& name);
  void choose_output(const QString& name);
  /// How fast the stand-in's clock runs; 0: as fast as sound is taken.
  void set_clock(double clock) { clock_ = clock; }
  void choose_stand_in(int preset) { preset_->setCurrentIndex(preset); }
  /// What is converted on the way, a sentence; empty: nothing is.
  QString conversion() const { return conversion_; }
  QComboBox* input() const { return input_; }
  QComboBox* output() const { return output_; }
  QComboBox* rate() const { return rate_; }

 signals:
  void changed();
  void refresh_wanted();  ///< look again what there is

 private:
  const Device* device(const QComboBox* box) const;
  void show_channels(QComboBox* box, int count, int kept) const;
  void show_rates();
  void take_input();
  void take_output();
  void tell();
  std::vector<Device> devices_;
  int wanted_rate_ = 0;
  bool plays_ = true;
  double clock_ = 1;
  QString conversion_;
  QComboBox *input_, *input_channels_, *output_, *output_channels_, *rate_, *word_, *preset_;
  std::vector<QWidget*> output_widgets_;
  QWidget* stand_in_;  // how it behaves, where it is chosen
  QPushButton* again_;
};

}  // namespace heathmist::app
