// A blind round as it is heard and answered. It shows letters and nothing else: no names, levels, plots or times.
#pragma once
#include <QBoxLayout>
#include <QElapsedTimer>
#include <QLabel>
#include <QPushButton>
#include <QSlider>
#include <QTimer>

#include "core/hearing/blind_test.hpp"

namespace heathmist::app {

class BlindRun : public QWidget {
  Q_OBJECT

 public:
  explicit BlindRun(QWidget* parent = nullptr);
  /// The next round of a test. `names`: of the buttons, in training; else empty.
  void ask(const BlindTest& test, const Round& round, const QStringList& names = {});
  void show_playing(bool playing);
  void say(const QString& sentence) { note_->setText(sentence); }
  QString question() const { return question_->text(); }
  QString note() const { return note_->text(); }
  int heard() const { return heard_; }  ///< the button
  std::vector<QPushButton*> buttons() const { return letters_; }
  const std::vector<QSlider*>& sliders() const { return sliders_; }

 signals:
  void heard_changed(int button);
  void play_wanted();
  void answered(const heathmist::BlindAnswer& given);
  void taking_back_wanted();
  void leaving_wanted();

 protected:
  bool event(QEvent* event) override;
  void keyPressEvent(QKeyEvent* event) override;

 private:
  void clear();
  void add_button(int n, const QString& name);
  void add_slider(QBoxLayout* column, int n);
  void add_answers();
  QPushButton* answer_button(const QString& text, const QString& hint, std::function<void()> give);
  void hear(int button);
  void give(int button);
  int other_answer() const { return yes_or_no_ ? 0 : open_ + 1; }  ///< of the two, the one to the right
  void give_grades();
  void grade_by(int steps);
  void show_grades();
  bool is_graded() const;

  BlindMethod method_ = BlindMethod::abx;
  int open_ = 0, heard_ = 0;
  bool in_training_ = false, yes_or_no_ = false;
  QLabel *question_, *note_, *keys_;
  QHBoxLayout *row_, *answers_;
  QPushButton *play_, *take_back_;
  QTimer take_back_until_;
  QElapsedTimer since_;
  std::vector<QPushButton*> letters_;
  std::vector<QSlider*> sliders_;  // of the buttons that are graded
  std::vector<QLabel*> grades_;
};

}  // namespace heathmist::app
