// Findings: one sentence each, the verdict first; a click or Enter shows the plate and the spot.
#pragma once
#include <QFrame>
#include <QLabel>
#include <QVBoxLayout>
#include <vector>

#include "core/compare/null.hpp"

namespace heathmist::app {

class FindingsPanel : public QWidget {
  Q_OBJECT

 public:
  explicit FindingsPanel(QWidget* parent = nullptr);
  void show_findings(const std::vector<Finding>& findings);
  /// The findings of the null stand; those of the explanation are on their way.
  void show_explaining(double fraction);
  QStringList sentences() const;

 signals:
  void chosen(const heathmist::Finding& finding);

 private:
  QLabel* count_;
  QWidget* cards_;
  QVBoxLayout* rows_;
  std::vector<Finding> findings_;
};

/// One finding as a card that takes the focus.
class FindingCard : public QFrame {
  Q_OBJECT

 public:
  FindingCard(const Finding& finding, bool first, QWidget* parent);

 signals:
  void pressed();

 protected:
  void paintEvent(QPaintEvent* event) override;
  void mousePressEvent(QMouseEvent* event) override;
  void keyPressEvent(QKeyEvent* event) override;

 private:
  Severity severity_;
};

}  // namespace heathmist::app
