// The head of a side panel: its title, and at the right a count that the panel fills in.
#pragma once
#include <QHBoxLayout>
#include <QLabel>
#include <QVBoxLayout>

#include "app/theme/theme.hpp"

namespace heathmist::app {

/// Puts a head on top of `panel`, which has no layout yet; returns the layout for the rest, and the label of the count.
inline std::pair<QVBoxLayout*, QLabel*> put_head(QWidget* panel, const QString& name) {
  auto* rows = new QVBoxLayout(panel);
  rows->setContentsMargins(0, 0, 0, 0);
  rows->setSpacing(0);
  auto* head = new QHBoxLayout;
  head->setContentsMargins(16, 10, 14, 6);
  auto* title = new QLabel(name, panel);
  title->setFont(face(Type::small, true));
  auto* count = new QLabel(panel);
  count->setFont(face(Type::small));
  for (QLabel* label : {title, count}) label->setProperty("soft", true);
  head->addWidget(title);
  head->addStretch();
  head->addWidget(count);
  rows->addLayout(head);
  return {rows, count};
}

}  // namespace heathmist::app
