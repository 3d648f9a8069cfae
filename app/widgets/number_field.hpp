// A field for a number: a true minus sign, a decimal point, and nothing is told before it is typed to its end.
#pragma once
#include <QDoubleSpinBox>

namespace heathmist::app {

class NumberField : public QDoubleSpinBox {
 public:
  explicit NumberField(QWidget* parent = nullptr) : QDoubleSpinBox(parent) {
    setLocale(QLocale::c());
    setGroupSeparatorShown(false);
    setKeyboardTracking(false);
  }

 protected:
  QString textFromValue(double value) const override {
    return QDoubleSpinBox::textFromValue(value).replace('-', minus);
  }
  double valueFromText(const QString& text) const override { return QDoubleSpinBox::valueFromText(plain(text)); }
  QValidator::State validate(QString& text, int& place) const override {
    QString typed = plain(text);
    return QDoubleSpinBox::validate(typed, place);
  }

 private:
  static constexpr QChar minus{0x2212};
  static QString plain(QString text) { return text.replace(minus, '-'); }
};

}  // namespace heathmist::app
