// Word length of master and return: how often each code near zero occurs, and how busy each bit is.
#pragma once
#include "app/plots/plate.hpp"
#include "core/measure/word_length.hpp"

namespace heathmist::app {

class WordsPlate : public Plate {
  Q_OBJECT

 public:
  explicit WordsPlate(QWidget* parent = nullptr);
  /// Either may be empty: floating point and lossy clips have no word length.
  void show_words(const std::optional<WordStudy>& master, const std::optional<WordStudy>& ret);
  QString csv() const override;
  QString read_out(double code) const;

 protected:
  void recolour() override;
  void mouseMoveEvent(QMouseEvent* event) override;
  void leaveEvent(QEvent* event) override;

 private:
  std::optional<WordStudy> master_, ret_;
  QCPAxisRect* below_;
  QCPGraph *master_codes_, *return_codes_;
  QCPBars *master_bits_, *return_bits_;
  QCPItemText *codes_name_, *bits_name_, *text_;
};

}  // namespace heathmist::app
