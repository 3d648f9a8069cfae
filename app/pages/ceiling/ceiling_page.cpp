#include <QTimer>
#include <algorithm>

#include "app/pages/ceiling/ceiling_view.hpp"
#include "app/pages/page.hpp"
#include "core/boards/matrix.hpp"

namespace heathmist::app {

namespace {

/// Chains whose return can come back higher than it went in: those with a lossy codec.
std::vector<Chain> with_codecs(const Bench& bench) {
  const auto& known = bench.chains.empty() ? common_settings() : bench.chains;
  std::vector<Chain> found;
  std::copy_if(known.begin(), known.end(), std::back_inserter(found), [](const Chain& chain) {
    return std::any_of(chain.stages.begin(), chain.stages.end(),
                       [](const Stage& s) { return s.on && s.type == "codec"; });
  });
  return found;
}

/// To the null of a point's encode, at its worst moment (under 0: none).
void open_point(PageContext& context, const Chain& chain, double at_s) {
  Workspace& workspace = context.workspace;
  const std::string owner = workspace.current_master();
  context.show("null");
  workspace.look_through(owner, chain);
  if (at_s < 0) return;
  const auto jump = [&workspace, at_s] { workspace.go_to(at_s); };
  if (workspace.current_result())
    QTimer::singleShot(0, &workspace, jump);
  else
    QObject::connect(&workspace, &Workspace::trial_ready, &workspace, jump,
                     Qt::ConnectionType(Qt::SingleShotConnection | Qt::QueuedConnection));
}

MadePage make_ceiling(PageContext& context, QWidget* parent) {
  auto* view = new CeilingView(context.workspace.queue(), parent);
  QObject::connect(view, &CeilingView::opened, view,
                   [&context](const Chain& chain, double at_s) { open_point(context, chain, at_s); });
  const auto show = [view, &workspace = context.workspace] {
    const Bench& bench = workspace.bench();
    const Master* master = bench.master(workspace.current_master());
    if (!master && !bench.masters.empty()) master = &bench.masters.front();
    view->set_subject(master ? QString::fromStdString(master->name) : QString(),
                      master ? master->audio.file : std::filesystem::path(), with_codecs(bench));
  };
  return {.widget = view,
          .first = [view] { return view->table(); },
          .commands = {{QObject::tr("Search the ceiling of this master"),
                        MenuKind::make,
                        [view, &context] {
                          context.show("ceiling");
                          if (!view->is_running()) view->start();
                        },
                        {},
                        [&context] { return !context.workspace.bench().masters.empty(); }}},
          .shown = show,
          .file_changed = [view](const std::filesystem::path& file) { view->forget(file); }};
}

}  // namespace

Page ceiling_page() {
  return {"ceiling",
          PageGroup::make,
          QObject::tr("Ceiling"),
          QObject::tr("How far a master must come down for its encodes"),
          QKeySequence("F11"),
          make_ceiling};
}

}  // namespace heathmist::app
