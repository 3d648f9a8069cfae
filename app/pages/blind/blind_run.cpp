#include "app/pages/blind/blind_run.hpp"

#include <QDateTime>
#include <QKeyEvent>
#include <QVBoxLayout>

#include "app/theme/theme.hpp"
#include "app/widgets/labels.hpp"

namespace heathmist::app {

namespace {

/// Grades are kept as whole steps: tenths of ITU-R BS.1116's five, hundredths of ITU-R BS.1534's.
QString grade_word(BlindMethod method, int step) {
  if (method == BlindMethod::triple) {
    static const char* words[] = {QT_TR_NOOP("very annoying"), QT_TR_NOOP("annoying"), QT_TR_NOOP("slightly annoying"),
                                  QT_TR_NOOP("perceptible, not annoying"), QT_TR_NOOP("imperceptible")};
    return QString("%1\n%2").arg(step / 10.0, 0, 'f', 1).arg(QObject::tr(words[std::clamp(step / 10 - 1, 0, 4)]));
  }
  static const char* words[] = {QT_TR_NOOP("bad"), QT_TR_NOOP("poor"), QT_TR_NOOP("fair"), QT_TR_NOOP("good"),
                                QT_TR_NOOP("excellent")};
  return QString("%1\n%2").arg(step).arg(QObject::tr(words[std::clamp(step / 20, 0, 4)]));
}

QString question_of(const BlindDesign& design) {
  switch (design.method) {
    case BlindMethod::abx:
      return QObject::tr("Is X the same as A, or as B?");
    case BlindMethod::triple:
      return QObject::tr("One of A and B is the reference again: grade the other");
    case BlindMethod::multi:
      return QObject::tr("How good is each, against the reference?");
    case BlindMethod::preference:
      return QObject::tr("Which sounds better?");
    case BlindMethod::threshold:
      return asks_yes_or_no(design) ? QObject::tr("Does A differ from the reference?")
                                    : QObject::tr("Which differs from the reference?");
  }
  return {};
}

}  // namespace

BlindRun::BlindRun(QWidget* parent) : QWidget(parent) {
  setFocusPolicy(Qt::StrongFocus);
  auto* rows = new QVBoxLayout(this);
  rows->setContentsMargins(24, 18, 24, 14);
  rows->addWidget(question_ = answer_label(this));
  question_->setAlignment(Qt::AlignHCenter);
  rows->addStretch(2);
  row_ = new QHBoxLayout;
  row_->setSpacing(28);
  rows->addLayout(row_);
  rows->addSpacing(26);
  answers_ = new QHBoxLayout;
  answers_->setSpacing(12);
  rows->addLayout(answers_);
  rows->addSpacing(10);
  rows->addWidget(note_ = soft_label({}, this));
  note_->setAlignment(Qt::AlignHCenter);
  note_->setWordWrap(true);
  rows->addStretch(3);
  auto* foot = new QHBoxLayout;
  play_ = new QPushButton(this);
  play_->setMinimumWidth(84);
  connect(play_, &QPushButton::clicked, this, &BlindRun::play_wanted);
  keys_ = soft_label({}, this);
  keys_->setSizePolicy(QSizePolicy::Ignored, QSizePolicy::Preferred);
  take_back_ = new QPushButton(tr("Take the last answer back"), this);
  take_back_->setToolTip(tr("A slip can be taken back for two seconds (Backspace)"));
  connect(take_back_, &QPushButton::clicked, this, &BlindRun::taking_back_wanted);
  auto* leave = new QPushButton(tr("Rest, and go on later"), this);
  leave->setToolTip(tr("Esc"));
  connect(leave, &QPushButton::clicked, this, &BlindRun::leaving_wanted);
  foot->addWidget(play_);
  foot->addWidget(keys_, 1);
  foot->addWidget(take_back_);
  foot->addWidget(leave);
  rows->addLayout(foot);
  for (QPushButton* b : {play_, take_back_, leave}) b->setFocusPolicy(Qt::NoFocus);  // the keys are the page's
  take_back_until_.setSingleShot(true);
  take_back_until_.setInterval(int(take_back_ms));
  connect(&take_back_until_, &QTimer::timeout, this, [this] { take_back_->setEnabled(false); });
  show_playing(false);
}

bool BlindRun::is_graded() const { return method_ == BlindMethod::triple || method_ == BlindMethod::multi; }

void BlindRun::clear() {
  const auto drop = [](QWidget* widget) {  // one of them may be the button that was pressed
    if (widget) widget->hide(), widget->deleteLater();
  };
  for (QLayout* of : {static_cast<QLayout*>(row_), static_cast<QLayout*>(answers_)})
    while (QLayoutItem* item = of->takeAt(0)) {
      if (QLayout* column = item->layout())
        while (QLayoutItem* inner = column->takeAt(0)) {
          drop(inner->widget());
          delete inner;
        }
      drop(item->widget());
      delete item;
    }
  letters_.clear(), sliders_.clear(), grades_.clear();
}

void BlindRun::ask(const BlindTest& test, const Round& round, const QStringList& names) {
  method_ = test.design.method, open_ = open_buttons(method_), in_training_ = !names.isEmpty();
  yes_or_no_ = asks_yes_or_no(test.design);
  clear();
  const int number = counted(test) + 1;
  const QString place = in_training_                        ? tr("Training")
                        : method_ == BlindMethod::threshold ? tr("Round %1").arg(number)
                                                            : tr("Round %1 of %2").arg(number).arg(test.design.rounds);
  question_->setText(tr("%1. %2").arg(place, question_of(test.design)));
  row_->addStretch(1);
  for (int n = 0; n < int(round.buttons.size()); ++n) add_button(n, names.value(n));
  row_->addStretch(1);
  add_answers();
  const bool fresh =
      !test.answers.empty() && QDateTime::currentMSecsSinceEpoch() - test.answers.back().at_ms < take_back_ms;
  take_back_->setEnabled(fresh);
  if (fresh) take_back_until_.start();
  keys_->setText(is_graded() ? tr("Number keys: hear.  Up, Down: grade what is heard.  Enter: next.  Space: play.")
                             : tr("Number keys: hear.  Left, Right: answer.  Space: play.  Backspace: take back."));
  since_.start();
  show_grades();
  hear(0);
  setFocus();
}

void BlindRun::add_button(int n, const QString& name) {
  auto* column = new QVBoxLayout;
  column->setSpacing(6);
  auto* letter = new QPushButton(QString::fromStdString(button_name(method_, n)), this);
  letter->setCheckable(true);
  letter->setProperty("letter", true);
  letter->setFocusPolicy(Qt::NoFocus);
  letter->setFont(face(Type::headline, true));
  letter->setMinimumWidth(n < open_ ? 128 : 96);
  letter->setToolTip(tr("Hear it (%1)").arg(n + 1));
  connect(letter, &QPushButton::clicked, this, [this, n] { hear(n); });
  column->addWidget(letter, 0, Qt::AlignHCenter);
  if (!name.isEmpty()) column->addWidget(soft_label(name, this), 0, Qt::AlignHCenter);
  letters_.push_back(letter);
  if (is_graded() && n >= open_) add_slider(column, n);
  if (is_graded() && n < open_) column->addStretch(1);
  row_->addLayout(column);
}

void BlindRun::add_slider(QBoxLayout* column, int n) {
  auto* slider = new QSlider(Qt::Vertical, this);
  const bool fives = method_ == BlindMethod::triple;
  slider->setRange(fives ? 10 : 0, fives ? 50 : 100);
  slider->setValue(slider->maximum());
  slider->setMinimumHeight(150);
  slider->setFocusPolicy(Qt::NoFocus);
  slider->setAccessibleName(tr("Grade of %1").arg(letters_.back()->text()));
  auto* grade = new QLabel(this);
  grade->setAlignment(Qt::AlignHCenter | Qt::AlignTop);
  grade->setMinimumWidth(fives ? 150 : 76);
  connect(slider, &QSlider::valueChanged, this, [this, n] {
    hear(n);
    show_grades();
  });
  column->addWidget(slider, 1, Qt::AlignHCenter);
  column->addWidget(grade, 0, Qt::AlignHCenter);
  sliders_.push_back(slider);
  grades_.push_back(grade);
}

QPushButton* BlindRun::answer_button(const QString& text, const QString& hint, std::function<void()> give_it) {
  auto* button = new QPushButton(text, this);
  button->setMinimumWidth(132);
  button->setFocusPolicy(Qt::NoFocus);
  button->setToolTip(hint);
  connect(button, &QPushButton::clicked, this, std::move(give_it));
  answers_->addWidget(button);
  return button;
}

void BlindRun::add_answers() {
  answers_->addStretch(1);
  if (in_training_) {
    answer_button(tr("Next"), tr("Enter"), [this] { emit answered({}); })->setProperty("main", true);
  } else if (is_graded()) {
    answer_button(tr("Next round"), tr("Enter"), [this] { give_grades(); })->setProperty("main", true);
  } else if (yes_or_no_) {
    answer_button(tr("It differs"), tr("Left"), [this] { give(open_); });
    answer_button(tr("It is the same"), tr("Right"), [this] { give(other_answer()); });
  } else {
    const bool abx = method_ == BlindMethod::abx;
    const QString words = abx                                  ? tr("X is %1")
                          : method_ == BlindMethod::preference ? tr("%1 is better")
                                                               : tr("%1 differs");
    answer_button(words.arg("A"), tr("Left"), [this] { give(open_); });
    if (method_ == BlindMethod::preference) answer_button(tr("No difference"), tr("Down"), [this] { give(-1); });
    answer_button(words.arg("B"), tr("Right"), [this] { give(other_answer()); });
  }
  answers_->addStretch(1);
}

void BlindRun::show_playing(bool playing) { play_->setText(playing ? tr("Pause") : tr("Play")); }

void BlindRun::show_grades() {
  for (size_t n = 0; n < sliders_.size(); ++n) grades_[n]->setText(grade_word(method_, sliders_[n]->value()));
}

void BlindRun::hear(int button) {
  heard_ = button;
  for (size_t n = 0; n < letters_.size(); ++n) letters_[n]->setChecked(int(n) == button);
  emit heard_changed(button);
}

void BlindRun::give(int button) {
  BlindAnswer given;
  given.button = button;
  given.at_ms = QDateTime::currentMSecsSinceEpoch();
  given.took_s = double(since_.elapsed()) / 1000;
  emit answered(given);
}

void BlindRun::give_grades() {
  const double scale = method_ == BlindMethod::triple ? 10 : 1;
  BlindAnswer given;
  int most = 0;
  for (const QSlider* s : sliders_) given.grades.push_back(s->value() / scale), most = std::max(most, s->value());
  if (method_ == BlindMethod::triple && most < sliders_.front()->maximum())
    return say(tr("One of the two is the reference again: leave one of them at 5.0."));
  given.at_ms = QDateTime::currentMSecsSinceEpoch();
  given.took_s = double(since_.elapsed()) / 1000;
  emit answered(given);
}

void BlindRun::grade_by(int steps) {
  const int at = heard_ - open_;
  if (at >= 0 && at < int(sliders_.size())) sliders_[size_t(at)]->setValue(sliders_[size_t(at)]->value() + steps);
}

bool BlindRun::event(QEvent* event) {
  if (event->type() == QEvent::ShortcutOverride) {  // none of the window's: a slip tells nothing
    event->accept();
    return true;
  }
  return QWidget::event(event);
}

void BlindRun::keyPressEvent(QKeyEvent* event) {
  const int key = event->key();
  const bool two = !is_graded() && !in_training_;
  if (is_graded() && (key == Qt::Key_Up || key == Qt::Key_Down)) return grade_by(key == Qt::Key_Up ? 1 : -1);
  if (event->isAutoRepeat()) return;
  if (event->matches(QKeySequence::Undo) || key == Qt::Key_Backspace) return emit taking_back_wanted();
  if (event->modifiers() & ~(Qt::ShiftModifier | Qt::KeypadModifier)) return;
  if (key == Qt::Key_Escape) return emit leaving_wanted();
  if (key == Qt::Key_Space) return emit play_wanted();
  if (key >= Qt::Key_1 && key < Qt::Key_1 + int(letters_.size())) return hear(key - Qt::Key_1);
  if (two && key == Qt::Key_Left) return give(open_);
  if (two && key == Qt::Key_Right) return give(other_answer());
  if (two && key == Qt::Key_Down && method_ == BlindMethod::preference) return give(-1);
  if (key == Qt::Key_Return || key == Qt::Key_Enter) {
    if (in_training_) return emit answered({});
    if (is_graded()) return give_grades();
  }
}

}  // namespace heathmist::app
