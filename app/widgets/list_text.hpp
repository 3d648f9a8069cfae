// A short list as text in a field: "44100, 96000".
#pragma once
#include <QStringList>

#include "core/json.hpp"

namespace heathmist::app {

template <class Values>
QString listed(const Values& values) {
  QStringList words;
  for (const auto& value : values)
    if constexpr (std::is_arithmetic_v<std::decay_t<decltype(value)>>)
      words << QString::number(value);
    else
      words << QString::fromStdString(value);
  return words.join(", ");
}

inline QStringList words_in(const QString& text) {
  QStringList words;
  for (const QString& word : text.split(',', Qt::SkipEmptyParts))
    if (!word.trimmed().isEmpty()) words << word.trimmed();
  return words;
}

/// As JSON: whole numbers where they are such; a word that is none stays one, for whoever reads it to refuse.
inline Json list_in(const QString& text) {
  Json all = Json::array();
  for (const QString& word : words_in(text)) {
    bool is_number = false;
    const int value = word.toInt(&is_number);
    is_number ? all.push_back(value) : all.push_back(word.toStdString());
  }
  return all;
}

}  // namespace heathmist::app
