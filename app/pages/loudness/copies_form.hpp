// What levelled copies are to be: target, ceiling, words, folder.
#pragma once
#include <QCheckBox>
#include <QComboBox>
#include <QDialog>
#include <QLineEdit>

#include "app/widgets/number_field.hpp"
#include "core/delivery/levelled.hpp"

namespace heathmist::app {

class CopiesForm : public QDialog {
  Q_OBJECT

 public:
  /// `count`: how many copies there will be.
  CopiesForm(double target_lufs, int count, QWidget* parent = nullptr);
  LevelPlan plan() const;
  bool as_album() const { return album_->isChecked(); }
  QString folder() const { return folder_->text(); }
  void set_folder(const QString& folder) { folder_->setText(folder); }
  QComboBox* words() const { return words_; }
  QCheckBox* limiter() const { return limiter_; }
  void accept() override;

 private:
  NumberField *target_, *ceiling_;
  QCheckBox *limiter_, *album_;
  QComboBox *words_, *dither_;
  QLineEdit* folder_;
};

}  // namespace heathmist::app
