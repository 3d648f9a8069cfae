// The groups of pages as tabs, and the pages of the group that is seen in a slim row.
#pragma once
#include <QButtonGroup>
#include <QHBoxLayout>
#include <QToolButton>
#include <map>

#include "app/pages/page.hpp"

namespace heathmist::app {

/// The tabs; a group that was seen before opens at the page it was left at.
class GroupTabs : public QWidget {
  Q_OBJECT

 public:
  explicit GroupTabs(QWidget* parent);
  void show_page(const Page& page);

 signals:
  void chosen(const std::string& page_key);

 private:
  QButtonGroup tabs_;
  std::map<PageGroup, std::string> last_;
};

class PageRow : public QWidget {
  Q_OBJECT

 public:
  explicit PageRow(QWidget* parent);
  void show_page(const Page& page);

 signals:
  void chosen(const std::string& page_key);

 private:
  std::map<std::string, QToolButton*> buttons_;
};

}  // namespace heathmist::app
