// Editing the rules of a sheet.
#pragma once
#include <QCheckBox>
#include <QDialog>
#include <QLabel>
#include <QLineEdit>
#include <QTableWidget>

#include "core/delivery/rules.hpp"

namespace heathmist::app {

class RulesForm : public QDialog {
  Q_OBJECT

 public:
  explicit RulesForm(const Rules& rules, QWidget* parent = nullptr);
  /// What the fields say. Throws RulesError, a sentence that names the rule.
  Rules rules() const;
  void show_rules(const Rules& rules);
  void accept() override;
  /// Of one number; empty: it is not asked for.
  void set_bounds(const std::string& key, const QString& least, const QString& most);

 private:
  QWidget* make_fields();
  void make_bounds();
  QWidget* make_buttons();
  void open();
  void save();
  QString words_of_fault() const;  ///< empty: they can be
  QLineEdit *name_, *rates_, *bits_, *channels_, *codecs_, *tags_, *file_name_;
  QCheckBox *lossy_, *upsampled_;
  QTableWidget* bounds_;
  QLabel* fault_;
};

}  // namespace heathmist::app
