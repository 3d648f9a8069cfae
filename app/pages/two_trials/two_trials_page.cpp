// The page of two trials in the window: which they are, measured as the bench has them now.
#include "app/pages/page.hpp"
#include "app/pages/two_trials/two_trials_view.hpp"
#include "app/widgets/saving.hpp"

namespace heathmist::app {

namespace {

/// Why a trial has no result and will have none before something changes; empty: it has, or can have one.
QString failure_of(const Workspace& workspace, const std::string& id) {
  const auto state = workspace.states().find(id);
  if (state == workspace.states().end()) return {};
  if (state->second.disarmed) return QObject::tr("A stage of its chain is disarmed: see it on the page Null.");
  if (state->second.file == FileState::missing) return QObject::tr("Its file is missing: point to it anew (Ctrl L).");
  return state->second.failure;
}

/// What is chosen, as it is measured; what is not is asked for.
void show_pair(TwoTrialsView* view, Workspace& workspace) {
  if (!view->isVisible()) return;
  for (const std::string& id : view->chosen())
    if (const QString why = failure_of(workspace, id); !why.isEmpty())
      return view->show_failure(workspace.name_of(id) + ": " + why);
  std::array<std::shared_ptr<const TrialResult>, 2> results;
  const auto ids = view->chosen();
  for (size_t side = 0; side < 2; ++side) {
    if (ids[side].empty()) continue;
    results[side] = workspace.exact_result_of(ids[side]);
    if (!results[side] || !results[side]->why) workspace.measure(ids[side]);
  }
  view->show_results(results);
}

void show_bench(TwoTrialsView* view, Workspace& workspace) {
  view->show_bench(workspace.bench(), workspace.current());
  show_pair(view, workspace);
}

MadePage make_two_trials(PageContext& context, QWidget* parent) {
  auto* view = new TwoTrialsView(parent);
  Workspace& workspace = context.workspace;
  QObject::connect(&workspace, &Workspace::rows_changed, view, [view, &workspace] {
    if (view->isVisible()) show_bench(view, workspace);
  });
  QObject::connect(&workspace, &Workspace::looked_at, view, [view, &workspace] {
    if (view->isVisible()) show_bench(view, workspace);
  });
  QObject::connect(view, &TwoTrialsView::pair_changed, view, [view, &workspace] { show_pair(view, workspace); });
  QObject::connect(&workspace.results(), &TrialResults::finished, view,
                   [view, &workspace] { show_pair(view, workspace); });
  QObject::connect(view, &TwoTrialsView::area_selected, &workspace,
                   [&workspace](double from, double to, double low, double high) {
                     workspace.select_band(std::pair{low, high});
                     workspace.select(std::pair{from, to});
                   });
  QObject::connect(view, &TwoTrialsView::area_cleared, &workspace, [&workspace] {
    workspace.select_band({});
    workspace.select({});
  });
  QObject::connect(view, &TwoTrialsView::went_to, &workspace, &Workspace::go_to);
  const auto pin = [view, &context](int side) {
    return [view, &context, side] {
      const std::string id = context.workspace.current();
      context.show("two");
      view->choose(side, id);
    };
  };
  const auto is_trial = [&workspace] { return workspace.bench().trial(workspace.current()) != nullptr; };
  const auto follow = [view, &workspace] { view->set_selection(workspace.selection(), workspace.band()); };
  MadePage made{.widget = view, .first = [view] { return view->chooser(0); }};
  made.commands = {{QObject::tr("Set this trial beside another, as the first"),
                    MenuKind::measure,
                    pin(0),
                    {},
                    is_trial,
                    QObject::tr("Two trials"),
                    true},
                   {QObject::tr("Set this trial beside another, as the second"),
                    MenuKind::measure,
                    pin(1),
                    {},
                    is_trial,
                    QObject::tr("Two trials"),
                    true},
                   {QObject::tr("Exchange the two trials"),
                    MenuKind::measure,
                    [view] { view->exchange(); },
                    {},
                    [view] { return view->isVisible(); },
                    QObject::tr("Two trials")},
                   {QObject::tr("Save the two trials as CSV\u2026"),
                    MenuKind::file,
                    [view, &context] { save_table(context.window, "two-trials.csv", view->csv()); },
                    {},
                    [view] { return view->isVisible() && view->table()->rows() > 0; }}};
  made.shown = [view, &workspace, follow] {
    show_bench(view, workspace);
    follow();
  };
  made.playhead = [view](double at_s) { view->set_playhead(at_s); };
  made.selection = made.band = follow;
  made.settings_key = "two trials";
  made.settings = [view] {
    if (!view->is_chosen_by_hand()) return nlohmann::ordered_json::object();
    const auto ids = view->chosen();
    return nlohmann::ordered_json{{"first", ids[0]}, {"second", ids[1]}};
  };
  made.restore = [view, &workspace](const nlohmann::ordered_json& settings) {
    view->choose_anew();
    view->show_bench(workspace.bench(), workspace.current());
    for (const auto& [key, side] : {std::pair{"first", 0}, {"second", 1}})
      if (const auto at = settings.find(key); at != settings.end() && at->is_string())
        view->choose(side, at->get<std::string>());
  };
  return made;
}

}  // namespace

Page two_trials_page() {
  return {"two",
          PageGroup::compare,
          QObject::tr("Two trials"),
          QObject::tr("Two trials beside each other: which leaves more, and where"),
          QKeySequence("Shift+F7"),
          make_two_trials};
}

}  // namespace heathmist::app
