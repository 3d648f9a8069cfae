#include "app/pages/capture/capture_view.hpp"
#include "app/pages/device_form.hpp"
#include "app/pages/page.hpp"

namespace heathmist::app {

namespace {

/// A recording is a trial of its master, and is looked at.
void take_return(PageContext& context, CaptureView& view, const QString& master_id, const QString& file) {
  Workspace& workspace = context.workspace;
  if (!workspace.bench().master(master_id.toStdString()))
    return view.say(QObject::tr("The master is not on the bench any more; the recording is %1.").arg(file));
  workspace.look_at_pair(master_id.toStdString(), QFileInfo(file).completeBaseName(), file.toStdString());
}

MadePage make_capture(PageContext& context, QWidget* parent) {
  auto* view = new CaptureView(context.workspace.queue(), parent);
  auto taken = std::make_shared<std::string>();  // the trial that was recorded last
  auto here = std::make_shared<bool>(false);     // the page is seen
  QObject::connect(view, &CaptureView::recorded, view,
                   [&context, view, taken](const QString& master, const QString& file) {
                     take_return(context, *view, master, file);
                     *taken = context.workspace.current();
                   });
  QObject::connect(view, &CaptureView::floor_recorded, view, [&context, view](const QString& file) {
    context.workspace.set_floor(Floor{QFileInfo(file).completeBaseName().toStdString(), {file.toStdString(), {}}, {}});
    view->say(QObject::tr("It is the floor of the route from now on; Edit, Undo takes that back."));
  });
  QObject::connect(view, &CaptureView::null_wanted, view, [&context, taken] {
    context.workspace.look_at(*taken);
    context.show("null");
  });
  QObject::connect(view, &CaptureView::device_wanted, view, [&context] { context.player.pause(); });
  const auto show = [view, &context] {
    view->show_bench(context.workspace.bench(), context.workspace.current_master());
  };
  const auto run = [view, &context](CaptureView::What what) {
    return [view, &context, what] {
      context.show("capture");
      view->choose(what);
    };
  };
  return {.widget = view,
          .first = [view] { return view->record_button(); },
          .commands = {{QObject::tr("Record what comes back of this master"), MenuKind::make,
                        run(CaptureView::What::round_trip)},
                       {QObject::tr("Record the floor of the route"), MenuKind::make, run(CaptureView::What::floor)},
                       {QObject::tr("Check whether a loop is transparent"), MenuKind::measure,
                        run(CaptureView::What::loop_check)}},
          .shown =
              [view, show, here] {
                show();
                if (!std::exchange(*here, true)) view->form()->look_again();
              },
          .left =
              [view, here] {
                *here = false;
                if (view->is_checking()) view->check_level();
              },
          .trial =
              [view, &context, taken] {
                const auto result = context.workspace.current_result();
                if (!result || taken->empty() || context.workspace.current() != *taken || view->is_running()) return;
                if (result->report && !result->report->findings.empty())
                  view->show_verdict(QString::fromStdString(result->report->findings.front().text));
              }};
}

}  // namespace

Page capture_page() {
  return {"capture",
          PageGroup::listening,
          QObject::tr("Capture"),
          QObject::tr("Record what comes back from a device, while a master is played to it"),
          QKeySequence("Ctrl+F7"),
          make_capture};
}

}  // namespace heathmist::app
