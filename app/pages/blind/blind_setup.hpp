// What is to be listened to blind, and the tests there were.
#pragma once
#include <QCheckBox>
#include <QComboBox>
#include <QLabel>
#include <QPushButton>
#include <QSpinBox>
#include <QToolButton>
#include <set>

#include "app/widgets/number_field.hpp"
#include "app/widgets/result_table.hpp"
#include "core/bench/document.hpp"

namespace heathmist::app {

struct BlindChoice {
  std::string master;
  std::vector<std::string> trials;
  BlindMethod method = BlindMethod::abx;
  int rounds = 16;
  bool catches = false;
  double from_s = 0, until_s = 0;
  LadderDesign ladder{};     ///< of a threshold
  int right_to_go_down = 2;  ///< as well
};

class BlindSetup : public QWidget {
  Q_OBJECT

 public:
  explicit BlindSetup(QWidget* parent = nullptr);
  void show_bench(const Bench& bench);
  /// The trial that is looked at is proposed, and what is selected of it.
  void propose(const std::string& trial, const std::optional<std::pair<double, double>>& seconds, double length_s);
  BlindChoice choice() const;
  bool crossfades() const { return crossfade_->isChecked(); }
  /// Which trials are graded at once; all that are there otherwise.
  void choose_among(const std::vector<std::string>& trials);
  void choose(BlindMethod method);
  void choose(const LadderDesign& ladder, int right_to_go_down = 2);
  void say(const QString& sentence);
  void show_making(bool making);  ///< there is something to be stopped
  QString answer() const { return answer_->text(); }
  QString chances() const { return chances_->text(); }
  ResultTable* table() const { return table_; }
  QComboBox* trial() const { return trial_; }
  /// The test that is chosen in the table; empty: none.
  std::string chosen_test() const;

 signals:
  void begin_wanted();
  void stop_wanted();
  void training_wanted();
  void test_opened(const std::string& id);

 private:
  struct MasterTrials {
    std::string master;
    std::vector<std::string> trials;
    QStringList names;  ///< of the trials
  };
  QWidget* make_form();
  void make_ladders(QWidget* form);
  void make_among(QWidget* form);
  const MasterTrials* chosen_master() const;
  QString chance_words() const;
  void make_table();
  void refresh();
  Cell result_cell(const BlindTest& test) const;
  std::vector<MasterTrials> masters_;
  std::vector<BlindTest> tests_;  // the latest first
  QLabel *answer_, *chances_, *note_;
  QComboBox *trial_, *method_, *ladder_, *rule_;
  std::vector<QWidget*> counted_;  // what only a method of so many rounds has
  QSpinBox* rounds_;
  QCheckBox *catches_, *crossfade_;
  QToolButton* among_;          // the trials that are graded at once
  std::set<std::string> left_;  // those that are not
  NumberField *from_, *until_;
  QPushButton *begin_, *train_, *stop_;
  ResultTable* table_;
  std::string proposed_;  // what was taken over once is not put over what was typed since
  std::optional<std::pair<double, double>> proposed_seconds_;
};

}  // namespace heathmist::app
