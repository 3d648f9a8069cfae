// Findings: one sentence each, the verdict first; a click or Enter shows the plate and the spot. The first three are
// seen, the rest are folded under "also"; with a selection, what lies elsewhere too.
#pragma once
#include <QFrame>
#include <QLabel>
#include <QPushButton>
#include <QVBoxLayout>
#include <vector>

#include "core/compare/null.hpp"

namespace heathmist::app {

class FindingCard;

class FindingsPanel : public QWidget {
  Q_OBJECT

 public:
  explicit FindingsPanel(QWidget* parent = nullptr);
  /// `reasons`, of each: why it was put aside, empty where it was not; none: none can be.
  void show_findings(const std::vector<Finding>& findings, const std::vector<QString>& reasons = {});
  /// Under each sentence its data in a line.
  void show_technical(bool shown);
  /// What is selected: s of the master, Hz.
  void narrow(const std::optional<std::pair<double, double>>& seconds,
              const std::optional<std::pair<double, double>>& hz);
  /// The findings of the null stand; those of the explanation are on their way.
  void show_explaining(double fraction);
  QStringList sentences() const;
  /// What unfolds the rest; hidden where there is none.
  QPushButton* also() const { return also_; }

 signals:
  void chosen(const heathmist::Finding& finding);
  void putting_aside_wanted(const heathmist::Finding& finding);
  void bringing_back_wanted(const heathmist::Finding& finding);

 private:
  void lay_out();
  void fold();
  bool is_elsewhere(size_t n) const;
  bool is_aside(size_t n) const { return n < reasons_.size() && !reasons_[n].isEmpty(); }
  QLabel* count_;
  QWidget* below_;  // the first ones: what unfolds the rest
  QPushButton* also_;
  bool is_open_ = false;  // stays as it was left
  QWidget* cards_;
  QVBoxLayout* rows_;
  std::vector<Finding> findings_;
  std::vector<QString> reasons_;
  bool is_technical_ = false;
  std::vector<FindingCard*> cards_of_;  // of each finding
  size_t seen_ = 0;                     // in front of the fold
  std::optional<std::pair<double, double>> seconds_, hz_;
};

/// One finding as a card that takes the focus.
class FindingCard : public QFrame {
  Q_OBJECT

 public:
  /// What can be done to it beside being read.
  enum Aside { never, can_be, is };
  FindingCard(const Finding& finding, bool first, Aside aside, const QString& reason, QWidget* parent);
  void show_technical(bool shown) { technical_->setVisible(shown); }

 signals:
  void pressed();
  void putting_aside_wanted();
  void bringing_back_wanted();

 protected:
  void paintEvent(QPaintEvent* event) override;
  void mousePressEvent(QMouseEvent* event) override;
  void keyPressEvent(QKeyEvent* event) override;
  void contextMenuEvent(QContextMenuEvent* event) override;

 private:
  Severity severity_;
  Aside aside_;
  QString words_;  // as they are copied
  QLabel* technical_;
};

}  // namespace heathmist::app
