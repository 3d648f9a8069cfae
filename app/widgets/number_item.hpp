// A table's cell that sorts by its number.
#pragma once
#include <QTableWidgetItem>

#include "app/widgets/saving.hpp"

namespace heathmist::app {

class NumberItem : public QTableWidgetItem {
 public:
  NumberItem(const QString& text, double value) : QTableWidgetItem(text), value_(value) {
    setTextAlignment(Qt::AlignRight | Qt::AlignVCenter);
  }
  bool operator<(const QTableWidgetItem& other) const override {
    const auto* number = dynamic_cast<const NumberItem*>(&other);
    return number ? value_ < number->value_ : QTableWidgetItem::operator<(other);
  }
  double value() const { return value_; }

 private:
  double value_;
};

/// Heads over numbers stand at the right, as the numbers do: columns from `first` on.
void right_heads(QTableWidget* table, int first);

/// How every table of numbers looks and behaves.
void dress_table(QTableWidget* table, const QString& words);

}  // namespace heathmist::app
