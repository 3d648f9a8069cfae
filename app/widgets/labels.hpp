// The labels every view has: a title, an answer in large type, a small soft note.
#pragma once
#include <QLabel>

#include "app/theme/theme.hpp"
#include "app/widgets/terms.hpp"

namespace heathmist::app {

inline QLabel* title_label(const QString& text, QWidget* parent) {
  auto* label = new QLabel(text, parent);
  label->setFont(face(Type::body, true));
  return label;
}

/// `term`: what its numbers are (terms.hpp); empty: there are none in it.
inline QLabel* answer_label(QWidget* parent, const QString& term = {}) {
  auto* label = new QLabel(parent);
  set_term(label, term);
  label->setFont(face(Type::headline, true));
  label->setContentsMargins(0, 5, 0, 2);
  label->setWordWrap(true);
  return label;
}

inline QLabel* soft_label(const QString& text, QWidget* parent) {
  auto* label = new QLabel(text, parent);
  label->setFont(face(Type::small));
  label->setProperty("soft", true);
  return label;
}

/// What goes on, at the right of a head row; a long sentence does not widen the window.
inline QLabel* note_label(QWidget* parent) {
  auto* label = soft_label("", parent);
  label->setAlignment(Qt::AlignRight | Qt::AlignVCenter);
  label->setSizePolicy(QSizePolicy::Ignored, QSizePolicy::Preferred);
  return label;
}

}  // namespace heathmist::app
