// What is done with chains from the Null page: kept, read, written, run over every master, armed; and the return
// written as a file.
#pragma once
#include "app/pages/null/null_view.hpp"
#include "app/pages/page.hpp"
#include "app/pages/writing.hpp"

namespace heathmist::app {

class ChainController : public QObject {
  Q_OBJECT

 public:
  ChainController(PageContext& context, NullView* view);
  std::vector<Command> commands();
  /// Lets a stage do what it would, on this machine: somebody has seen the whole of it and said so.
  void arm_stage(const Stage& stage);
  /// Writes the return of the trial that is looked at, off the interface thread.
  void write_return_to(const Destination& to);
  bool is_writing_return() const { return writing_.is_running(); }

 signals:
  void return_written(bool whole);

 private:
  void refresh();
  void take(ChainStrip::Command command);
  void keep();
  void rename_kept(const Chain& kept);
  void read();
  void write();
  void write_return();
  void end_writing(Outcome outcome, const QString& failure);
  bool can_write_return() const;
  PageContext& context_;
  Workspace& workspace_;
  NullView* view_;
  Writing writing_;
};

}  // namespace heathmist::app
