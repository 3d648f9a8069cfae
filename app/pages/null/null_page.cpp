// The Null page in the window: what it hears of the trial that is looked at, and what is done from it.
#include "app/pages/null/chain_controller.hpp"
#include "app/pages/null/null_view.hpp"
#include "app/pages/page.hpp"
#include "app/widgets/audio_files.hpp"

namespace heathmist::app {

namespace {

void show_nothing(NullView* view) {
  view->hide_progress();
  view->show_empty(
      QObject::tr("What came back?"),
      QObject::tr("Drop two files here: the master and what came back of it.\nThe null is on screen at once."));
}

void show_failure(NullView* view, const Workspace& workspace, const QString& sentence) {
  view->hide_progress();
  if (workspace.is_disarmed(workspace.current()))
    view->show_empty(QObject::tr("A stage is disarmed"),
                     QObject::tr("%1\n\nNothing of it has run. In the chain above it can be seen whole, and armed.")
                         .arg(workspace.words_of_disarmed(workspace.current())),
                     false);
  else
    view->show_failure(sentence);
}

/// What becomes of the trial, as the view shows it.
void follow_trial(NullView* view, Workspace& workspace) {
  using W = Workspace;
  QObject::connect(&workspace, &W::nothing_selected, view, [view] { show_nothing(view); });
  QObject::connect(&workspace, &W::master_selected, view, [view](const QString& name) {
    view->hide_progress();
    view->show_empty(name, QObject::tr("Drop what came back of it here, or make a return with a chain (Ctrl R)."));
  });
  QObject::connect(&workspace, &W::measuring, view, [view](const QString& name) {
    view->show_empty(name, QObject::tr("It is laid on its master…"), false);
    view->show_progress(QObject::tr("Reading"), 0);
  });
  QObject::connect(&workspace, &W::trial_failed, view,
                   [view, &workspace](const QString& sentence) { show_failure(view, workspace, sentence); });
  QObject::connect(&workspace, &W::progressed, view, &NullView::show_progress);
  QObject::connect(&workspace, &W::idle, view, &NullView::hide_progress);
  QObject::connect(view, &NullView::hold_changed, &workspace,
                   [&workspace](const FitHold& hold, const QString& what) { workspace.hold(hold, what); });
  QObject::connect(view, &NullView::cancel, &workspace, [&workspace] { workspace.cancel(); });
}

/// Selection, band and place are the workspace's; a cause and a cell are heard.
void follow_hands(NullView* view, PageContext& context) {
  Workspace& workspace = context.workspace;
  QObject::connect(view, &NullView::loop_changed, &workspace, &Workspace::select);
  QObject::connect(view, &NullView::band_changed, &workspace, &Workspace::select_band);
  QObject::connect(&workspace, &Workspace::went_to, view, &NullView::show_spot);
  QObject::connect(view, &NullView::seek, view, [&context](double at) { context.player.seek(at); });
  QObject::connect(view, &NullView::cell_heard, view, [view, &context] {
    if (!view->selection()) return;
    context.player.seek(view->selection()->first);
    if (!context.player.is_playing()) context.listening.toggle_play();
  });
  QObject::connect(view, &NullView::cause_heard, view, [&context](auto clip, const QString& name, Heard heard) {
    context.player.set_cause(clip);
    context.listening.name_cause(name);
    if (clip) context.listening.hear(heard);
    if (clip && !context.player.is_playing()) context.listening.toggle_play();
  });
  QObject::connect(&context.player, &Player::source_changed, view,
                   [view] { view->plates()->causes()->mark_heard(-1); });
  QObject::connect(&context.listening, &ListeningBar::heard_changed, view, [view, &context](Heard heard) {
    const bool other = heard == Heard::ret && context.listening.other();
    view->set_heard(other ? std::nullopt : std::optional(heard));
  });
  QObject::connect(view, &NullView::choose_files, view, [&context] {
    const QStringList files = choose_audio_files(context.window);
    if (!files.isEmpty()) context.workspace.add_files(files);
  });
}

/// What is noted of the master stands in its lanes.
void show_marks(NullView* view, const Workspace& workspace) {
  std::vector<std::pair<double, double>> places;
  if (const Master* master = workspace.bench().master(workspace.current_master()))
    for (const Mark& m : master->marks) places.emplace_back(m.at_s, m.until_s.value_or(m.at_s));
  view->lanes()->set_marks(places);
}

void follow_marks(NullView* view, Workspace& workspace) {
  const auto show = [view, &workspace] { show_marks(view, workspace); };
  QObject::connect(&workspace.model(), &BenchModel::changed, view, show);
  QObject::connect(&workspace, &Workspace::looked_at, view, show);
}

void choose_floor(PageContext& context) {
  const QString file =
      choose_audio_file(context.window, QObject::tr("Choose a recording of silence through the same route"));
  if (!file.isEmpty()) context.workspace.set_floor(Floor{title_of(file).toStdString(), {file.toStdString(), {}}, {}});
}

/// Each plate by its place, with Alt and a digit.
std::vector<Command> plate_commands(NullView* view, PageContext& context) {
  std::vector<Command> commands;
  int key = 1;
  for (Chooser* side : {view->plates()->left(), view->plates()->right()})
    for (int page = 0; page < side->pages()->count(); ++page, ++key)
      commands.push_back({QObject::tr("Show plate: %1").arg(side->name(page)),
                          MenuKind::view,
                          [&context, side, page] {
                            context.show("null");
                            side->choose(page);
                            side->pages()->currentWidget()->setFocus();
                          },
                          {QKeySequence(QString("Alt+%1").arg(key % 10))},
                          {},
                          QObject::tr("Plates")});
  for (QAction* action : view->view_actions())
    commands.push_back({QObject::tr("Plates: %1").arg(action->text()),
                        MenuKind::view,
                        [action] { action->trigger(); },
                        {},
                        {},
                        QObject::tr("How they are drawn")});
  commands.push_back({view->plates()->tied()->text(),
                      MenuKind::view,
                      [view] { view->plates()->tied()->toggle(); },
                      {},
                      {},
                      QObject::tr("How they are drawn")});
  return commands;
}

std::vector<Command> commands(NullView* view, PageContext& context, ChainController* chains) {
  Workspace& workspace = context.workspace;
  const auto shown = [&workspace] { return workspace.current_result() != nullptr; };
  auto all = chains->commands();
  const auto plates = plate_commands(view, context);
  all.insert(all.end(), plates.begin(), plates.end());
  const QString floor = QObject::tr("Floor of the route");
  const std::vector<Command> more{{QObject::tr("Snap the delay to the nearest null"),
                                   MenuKind::measure,
                                   [view] { view->snap(); },
                                   {QKeySequence("Ctrl+G")},
                                   shown},
                                  {QObject::tr("Take a recording of silence as the floor of the route…"),
                                   MenuKind::measure,
                                   [&context] { choose_floor(context); },
                                   {},
                                   {},
                                   floor},
                                  {QObject::tr("Take this trial as the floor of the route"),
                                   MenuKind::measure,
                                   [&workspace] { workspace.floor_from(workspace.current()); },
                                   {},
                                   [&workspace] { return workspace.current_result() && !workspace.current_chain(); },
                                   floor,
                                   true},
                                  {QObject::tr("Let the floor of the route go"),
                                   MenuKind::measure,
                                   [&workspace] { workspace.set_floor({}); },
                                   {},
                                   [&workspace] { return workspace.bench().floor.has_value(); },
                                   floor}};
  all.insert(all.end(), more.begin(), more.end());
  return all;
}

MadePage make_null(PageContext& context, QWidget* parent) {
  Workspace& workspace = context.workspace;
  auto* view = new NullView(workspace.results(), workspace.queue(), parent);
  auto* chains = new ChainController(context, view);
  follow_trial(view, workspace);
  follow_hands(view, context);
  follow_marks(view, workspace);
  MadePage made{.widget = view, .first = [view] { return view->lanes(); }};
  made.commands = commands(view, context, chains);
  made.trial = [view, &workspace] {
    const auto result = workspace.current_result();
    if (!result) return;
    view->hide_progress();
    view->show_trial(result, workspace.current_hold());
  };
  made.playhead = [view](double at) { view->set_playhead(at); };
  made.selection = [view, &workspace] {
    if (view->selection() != workspace.selection()) view->set_selection(workspace.selection());
  };
  made.band = [view, &workspace] {
    if (view->band() != workspace.band()) view->set_band(workspace.band());
  };
  made.evidence = [view](const Finding& finding) { view->show_evidence(finding); };
  made.settings_key = "spectra";
  made.settings = [view] { return view->settings(); };
  made.restore = [view](const nlohmann::ordered_json& settings) { view->restore(settings); };
  show_nothing(view);
  return made;
}

}  // namespace

Page null_page() {
  return {"null",
          PageGroup::compare,
          QObject::tr("Null"),
          QObject::tr("Lanes, fit and plates of one trial"),
          QKeySequence("F7"),
          make_null};
}

}  // namespace heathmist::app
