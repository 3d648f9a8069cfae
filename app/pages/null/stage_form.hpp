// The values of one stage: a small field for each parameter that counts, with its unit and range.
#pragma once
#include <QGridLayout>
#include <QWidget>

#include "core/stages/chain.hpp"

namespace heathmist::app {

class StageForm : public QWidget {
  Q_OBJECT

 public:
  explicit StageForm(QWidget* parent = nullptr);
  void show_stage(const Stage& stage);

 signals:
  void changed(const heathmist::Stage& stage);

 private:
  QWidget* field(const Parameter& parameter);
  QWidget* number_field(const Parameter& parameter, const Json& value);
  QWidget* choice_field(const Parameter& parameter, const Json& value);
  QWidget* text_field(const Parameter& parameter, const Json& value);
  void put(const std::string& key, const Json& value);
  void build();
  QString file_to_keep();
  Stage stage_;
  QGridLayout* grid_;
  std::vector<std::string> shown_;  // the parameters that have a field
};

}  // namespace heathmist::app
