#include <algorithm>

#include "app/pages/page.hpp"
#include "app/pages/responses/responses_view.hpp"
#include "app/widgets/audio_files.hpp"
#include "app/widgets/saving.hpp"

namespace heathmist::app {

namespace {

void add(BenchModel& model, const QStringList& files) {
  model.edit(QObject::tr("Add impulse responses"), [&](Bench& bench) {
    for (const QString& name : files) {
      const std::filesystem::path file = std::filesystem::absolute(name.toStdString()).lexically_normal();
      const auto& all = bench.responses;
      if (std::none_of(all.begin(), all.end(), [&](const FileRef& r) { return r.file == file; }))
        bench.responses.push_back({file, {}});
    }
  });
}

void take_out(BenchModel& model, const std::vector<std::filesystem::path>& files) {
  model.edit(QObject::tr("Take impulse responses out"), [&](Bench& bench) {
    std::erase_if(bench.responses,
                  [&](const FileRef& r) { return std::find(files.begin(), files.end(), r.file) != files.end(); });
  });
}

MadePage make_responses(PageContext& context, QWidget* parent) {
  auto* view = new ResponsesView(context.workspace.queue(), parent);
  BenchModel& model = context.workspace.model();
  const auto choose = [&context, &model] { add(model, choose_audio_files(context.window)); };
  const auto drop = [view, &model] { take_out(model, view->chosen()); };
  QObject::connect(view, &ResponsesView::adding_wanted, view, choose);
  QObject::connect(view, &ResponsesView::taking_out_wanted, view, drop);
  QObject::connect(view, &ResponsesView::files_dropped, view,
                   [&model](const QStringList& files) { add(model, files); });
  return {.widget = view,
          .first = [view] { return view->table(); },
          .commands = {{QObject::tr("Add impulse responses\u2026"), MenuKind::measure,
                        [&context, choose] {
                          context.show("responses");
                          choose();
                        }},
                       {QObject::tr("Take the chosen responses out"),
                        MenuKind::measure,
                        drop,
                        {},
                        [view] { return view->isVisible() && !view->chosen().empty(); }},
                       {QObject::tr("Save the responses as CSV\u2026"),
                        MenuKind::file,
                        [view, &context] { save_table(context.window, "responses.csv", view->csv()); },
                        {},
                        [view] { return !view->rows().empty(); }}},
          .shown = [view, &context] { view->show_bench(context.workspace.bench()); },
          .file_changed = [view](const std::filesystem::path& file) { view->forget(file); }};
}

}  // namespace

Page responses_page() {
  return {"responses",
          PageGroup::probes,
          QObject::tr("Responses"),
          QObject::tr("Impulse responses: how long they ring, how much of each is enough"),
          QKeySequence("Ctrl+F11"),
          make_responses};
}

}  // namespace heathmist::app
