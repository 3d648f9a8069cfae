// "What is this": the terms that numbers on the screen are told in, with unit, formula, source and what is usual. Each
// is a heading of docs/handbook/terms.md, which is read here: a hidden line with its key, its unit, and the rest.
#pragma once
#include <QStringList>
#include <QWidget>
#include <vector>

namespace heathmist::app {

struct Term {
  QString key, name, unit;  ///< the unit with the word before it: "in dBTP", "as a count"
  QString what, formula, source, usual;
  QStringList codes;  ///< findings and causes that are told in it
};

/// From here on the handbook's files can be read, under :/heathmist/handbook.
void open_handbook_files();

/// All of them, as they stand in the handbook.
const std::vector<Term>& terms();
/// None of that key: null.
const Term* term_of(const QString& key);
/// Of a finding or a cause; where nothing tells more, a cause.
const Term& term_of_code(const std::string& code);
/// Everything about it, as rich text.
QString card_of(const Term& term);

/// The widget shows numbers of this: pressed in the "what is this" mode it shows its card, too.
void set_term(QWidget* widget, const QString& key);

}  // namespace heathmist::app
