// Findings: one sentence each, the verdict first; a click or Enter shows the plate and the spot. The first three are
// seen, the rest are folded under "also".
#pragma once
#include <QFrame>
#include <QLabel>
#include <QPushButton>
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
  /// What unfolds the rest; hidden where there is none.
  QPushButton* also() const { return also_; }

 signals:
  void chosen(const heathmist::Finding& finding);

 private:
  void fold();
  QLabel* count_;
  QWidget* below_;  // the first ones: what unfolds the rest
  QPushButton* also_;
  bool is_open_ = false;  // stays as it was left
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
  void contextMenuEvent(QContextMenuEvent* event) override;

 private:
  Severity severity_;
  QString words_;  // as they are copied
};

}  // namespace heathmist::app
