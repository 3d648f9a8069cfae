#include "tests/support/layout.hpp"

#include <QAbstractButton>
#include <QAbstractSpinBox>
#include <QAccessible>
#include <QComboBox>
#include <QLabel>
#include <QLineEdit>
#include <QScrollBar>
#include <QStyleOption>
#include <QTest>

namespace heathmist::test {

namespace {

QString words_of(const QWidget& w, const QString& text) {
  const QPoint at = w.mapTo(w.window(), QPoint());
  return QString("%1 '%2' at %3,%4, %5 x %6")
      .arg(w.metaObject()->className(), text)
      .arg(at.x())
      .arg(at.y())
      .arg(w.width())
      .arg(w.height());
}

/// The text that a control shows where it must be whole; empty: none.
QString text_of(const QWidget& w) {
  if (const auto* button = qobject_cast<const QAbstractButton*>(&w)) return button->text().remove('&');
  if (const auto* box = qobject_cast<const QComboBox*>(&w)) return box->currentText();
  if (const auto* edit = qobject_cast<const QLineEdit*>(&w); edit && edit->property("flat").toBool())
    return edit->text();  // a value that stands among others
  if (const auto* label = qobject_cast<const QLabel*>(&w))
    return label->wordWrap() || Qt::mightBeRichText(label->text()) ? QString() : label->text();
  return {};
}

int room_for_text(const QWidget& w) {
  if (const auto* edit = qobject_cast<const QLineEdit*>(&w)) {
    constexpr int beside = 4;  // that a line edit keeps free by itself
    QStyleOptionFrame option;
    option.initFrom(edit);
    const QMargins margins = edit->textMargins();
    return edit->style()->subElementRect(QStyle::SE_LineEditContents, &option, edit).width() - beside - margins.left() -
           margins.right();
  }
  const auto* box = qobject_cast<const QComboBox*>(&w);
  if (!box) return w.width();
  QStyleOptionComboBox option;
  option.initFrom(box);
  option.editable = box->isEditable();
  return box->style()->subControlRect(QStyle::CC_ComboBox, &option, QStyle::SC_ComboBoxEditField, box).width();
}

bool is_pressed_or_typed(const QWidget& w) {
  const auto* button = qobject_cast<const QAbstractButton*>(&w);
  return (button && !button->parentWidget()->inherits("QComboBox")) || qobject_cast<const QComboBox*>(&w) ||
         qobject_cast<const QAbstractSpinBox*>(&w);
}

}  // namespace

QStringList faults_of(const QWidget& window) {
  constexpr int least_text = 11, least_hit = 28;  // pixels
  QStringList faults;
  std::vector<const QWidget*> controls;
  for (const auto* w : window.findChildren<QWidget*>()) {
    if (!w->isVisible() || w->visibleRegion().isEmpty()) continue;
    const QString text = text_of(*w);
    const bool is_control = is_pressed_or_typed(*w);
    if (is_control || !text.isEmpty()) {
      controls.push_back(w);
      if (QFontInfo(w->font()).pixelSize() < least_text) faults << words_of(*w, text) + ": small text";
      if (w->fontMetrics().size(0, text).width() > room_for_text(*w))  // of the widest line
        faults << words_of(*w, text) + ": cut off";
    }
    if (is_control && w->height() < least_hit) faults << words_of(*w, text) + ": too low to hit";
    const auto* bar = qobject_cast<const QScrollBar*>(w);
    if (bar && bar->orientation() == Qt::Horizontal && bar->maximum() > bar->minimum())
      faults << words_of(*bar->parentWidget(), {}) + ": wider than its place";
  }
  for (size_t a = 0; a < controls.size(); ++a)
    for (size_t b = a + 1; b < controls.size(); ++b)
      if (controls[a]->parentWidget() == controls[b]->parentWidget() &&
          controls[a]->geometry().intersects(controls[b]->geometry()))
        faults << words_of(*controls[a], text_of(*controls[a])) + " lies on " +
                      words_of(*controls[b], text_of(*controls[b]));
  return faults;
}

QStringList lasting_faults_of(const QWidget& window, int wait_ms) {
  QStringList faults;
  (void)QTest::qWaitFor([&] { return (faults = faults_of(window)).isEmpty(); }, wait_ms);
  return faults;
}

ToldToReader told_to_a_reader(const QWidget& window) {
  ToldToReader told;
  for (QWidget* w : window.findChildren<QWidget*>()) {
    if (!w->isVisible() || !(w->focusPolicy() & Qt::TabFocus) || w->focusProxy()) continue;
    if (qobject_cast<QAbstractSpinBox*>(w->parentWidget())) continue;  // the field's own inside
    const auto* reader = QAccessible::queryAccessibleInterface(w);
    const QString words = reader ? reader->text(QAccessible::Name) + reader->text(QAccessible::Description) : QString();
    if (words.trimmed().isEmpty()) told.nameless << words_of(*w, w->objectName());
    ++told.count;
  }
  return told;
}

}  // namespace heathmist::test
