// The row under the menu bar: the bench's name, the groups of pages, the search.
#pragma once
#include <QLabel>

#include "app/shell/tabs.hpp"

namespace heathmist::app {

class TopRow : public QWidget {
  Q_OBJECT

 public:
  explicit TopRow(QWidget* parent);
  void name_bench(const QString& name, bool changed);
  GroupTabs* tabs() const { return tabs_; }
  QPoint under_search() const;  ///< on the screen: where what it opens stands

 signals:
  void search_wanted();
  void rename_wanted();

 protected:
  void resizeEvent(QResizeEvent* event) override;

 private:
  void fit();
  void dress();
  QToolButton *bench_, *search_;
  GroupTabs* tabs_;
};

}  // namespace heathmist::app
