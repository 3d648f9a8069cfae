// The engines of the bench, a card each: what is known of it so far, a line a kind.
#pragma once
#include <QFrame>
#include <QLabel>
#include <QVBoxLayout>
#include <vector>

#include "app/pages/engines/engine_readings.hpp"
#include "core/compare/null.hpp"

namespace heathmist::app {

/// The kinds in the order in which an engine is asked.
const std::vector<std::string>& engine_kinds();
QString title_of_kind(const std::string& kind);
/// A sentence with true minus signs before its numbers.
QString with_minus(const std::string& text);

/// How a reading bears on what was asked: as its worst finding does.
Severity severity_of(const ProbeReading& reading);

class EngineCard : public QFrame {
  Q_OBJECT

 public:
  EngineCard(const TestedEngine& engine, const EngineReadings& readings, QWidget* parent);
  const std::string& id() const { return id_; }
  void set_chosen(bool chosen, const std::string& kind);
  QString text_of(size_t line) const;

 signals:
  void pressed(const std::string& kind);  ///< empty: the card itself
  void menu_wanted(const QPoint& at);     ///< of the screen

 protected:
  void paintEvent(QPaintEvent* event) override;
  void mousePressEvent(QMouseEvent* event) override;
  void keyPressEvent(QKeyEvent* event) override;
  void contextMenuEvent(QContextMenuEvent* event) override;
  void focusInEvent(QFocusEvent* event) override;
  QSize sizeHint() const override;
  QSize minimumSizeHint() const override { return {160, sizeHint().height()}; }

 private:
  struct Line {
    std::string kind;
    QString name, words, hint;
    std::optional<Severity> severity;
  };
  QRect rect_of(size_t line) const;
  std::string id_, kind_;
  QString name_, origin_;
  std::vector<Line> lines_;
  bool chosen_ = false;
};

class EngineCards : public QWidget {
  Q_OBJECT

 public:
  explicit EngineCards(QWidget* parent = nullptr);
  void show_engines(const std::vector<TestedEngine>& engines, const EngineReadings& readings);
  void choose(const std::string& engine_id, const std::string& kind);
  std::vector<EngineCard*> cards() const { return cards_; }

 signals:
  void chosen(const std::string& engine_id, const std::string& kind);  ///< no kind: as it is
  void menu_wanted(const std::string& engine_id, const QPoint& at);

 private:
  QWidget* inside_;
  QVBoxLayout* rows_;
  QLabel* count_;
  std::vector<EngineCard*> cards_;
};

}  // namespace heathmist::app
