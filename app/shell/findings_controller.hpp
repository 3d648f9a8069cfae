// The findings of the trial that is looked at: narrowed to the selection, put aside with a reason, brought back.
#pragma once
#include "app/pages/page.hpp"
#include "app/widgets/findings_panel.hpp"

namespace heathmist::app {

class FindingsController : public QObject {
  Q_OBJECT

 public:
  FindingsController(PageContext& context, FindingsPanel* panel, QObject* parent);
  std::vector<Command> commands();
  /// Of the trial that is looked at, as it was measured.
  void refresh();
  /// Without a reason it stays; so does the verdict.
  void put_aside(const Finding& finding, const QString& reason);
  void bring_back(const Finding& finding);

 private:
  void ask(const Finding& finding);
  std::vector<QString> reasons_of(const std::vector<Finding>& findings) const;
  PageContext& context_;
  Workspace& workspace_;
  FindingsPanel* panel_;
  std::vector<QString> shown_;  // reasons
  bool is_technical_ = false;
};

}  // namespace heathmist::app
