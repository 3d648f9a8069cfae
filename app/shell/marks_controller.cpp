#include "app/shell/marks_controller.hpp"

#include <QInputDialog>
#include <algorithm>

#include "app/theme/position.hpp"
#include "app/theme/theme.hpp"
#include "app/widgets/saving.hpp"
#include "core/audio/clip.hpp"
#include "core/bench/marks.hpp"
#include "core/compare/json.hpp"

namespace heathmist::app {

MarksController::MarksController(PageContext& context, MarksPanel* panel, QObject* parent)
    : QObject(parent),
      context_(context),
      workspace_(context.workspace),
      panel_(panel),
      writing_(context.workspace.queue(), context.window, this) {
  connect(panel_, &MarksPanel::opened, this, [this](const QString& id) { go_to(id.toStdString()); });
  connect(panel_, &MarksPanel::wording_wanted, this, [this](const QString& id) { ask_words(id.toStdString()); });
  connect(panel_, &MarksPanel::removal_wanted, this, [this](const QString& id) { remove(id.toStdString()); });
  connect(&workspace_.model(), &BenchModel::changed, this, &MarksController::refresh);
  connect(&workspace_, &Workspace::looked_at, this, &MarksController::refresh);
  connect(&Positions::instance(), &Positions::changed, this, &MarksController::refresh);
  connect(&writing_, &Writing::ended, this, [this](Outcome outcome, const QString& failure) {
    if (!failure.isEmpty())
      context_.say(failure);
    else if (outcome != Outcome::done)
      context_.say(tr("The file with cue points was not written: it was cancelled."));
    emit written(outcome == Outcome::done);
  });
  refresh();
}

std::vector<Command> MarksController::commands() {
  const auto heard = [this] { return workspace_.current_result() != nullptr; };
  const auto marked = [this] { return master() && !master()->marks.empty(); };
  const auto any = [this] {
    const auto& masters = workspace_.bench().masters;
    return std::any_of(masters.begin(), masters.end(), [](const Master& m) { return !m.marks.empty(); });
  };
  using M = MenuKind;
  return {
      {tr("Mark this spot or selection\u2026"), M::edit, [this] { ask(); }, {QKeySequence("N")}, heard},
      {tr("Go to the next mark"), M::view, [this] { step(true); }, {QKeySequence("Ctrl+Right")}, marked},
      {tr("Go to the mark before"), M::view, [this] { step(false); }, {QKeySequence("Ctrl+Left")}, marked},
      {tr("Go to the list of marks"),
       M::view,
       [this] { panel_->list()->setFocus(); },
       {QKeySequence("Shift+F8")},
       marked},
      {tr("Save all marks as CSV\u2026"),
       M::file,
       [this] {
         const auto rows = marks_rows(workspace_.bench());
         save_table(context_.window, "marks.csv", QString::fromStdString(csv_of(rows)));
       },
       {},
       any},
      {tr("Save the master with its marks as cue points\u2026"), M::file, [this] { ask_where_cues_go(); }, {}, marked}};
}

const Master* MarksController::master() const {
  const Bench& bench = workspace_.bench();
  return bench.master(workspace_.current_master());
}

void MarksController::change(const QString& what, const std::function<void(Master&)>& how) {
  const std::string id = workspace_.current_master();
  workspace_.model().edit(what, [&](Bench& bench) {
    if (Master* m = bench.master(id)) how(*m);
  });
}

void MarksController::refresh() {
  const Master* m = master();
  panel_->show_marks(m ? m->marks : std::vector<Mark>{}, workspace_.current(),
                     [this](const std::string& trial) { return workspace_.name_of(trial); });
}

Mark MarksController::here() const {
  Mark mark{fresh_id(), {}, context_.player.place_s(), {}, {}};
  if (const auto& range = workspace_.selection()) mark.at_s = range->first, mark.until_s = range->second;
  if (workspace_.bench().trial(workspace_.current())) mark.trial = workspace_.current();
  return mark;
}

void MarksController::put(const QString& words, Mark mark) {
  mark.text = words.trimmed().toStdString();
  if (mark.text.empty()) return;
  change(tr("Mark"), [&](Master& m) { put_mark(m, mark); });
}

/// The spot is taken when it is asked, not when the words are there: the music goes on meanwhile.
void MarksController::ask() {
  const Mark mark = here();
  bool good = false;
  const QString words = QInputDialog::getText(context_.window, tr("Mark"), tr("What is at %1?").arg(place_of(mark)),
                                              QLineEdit::Normal, {}, &good);
  if (good) put(words, mark);
}

void MarksController::ask_words(const std::string& id) {
  const Mark* mark = master() ? mark_of(*master(), id) : nullptr;
  if (!mark) return;
  bool good = false;
  const QString words = QInputDialog::getText(context_.window, tr("Mark"), tr("What is at %1?").arg(place_of(*mark)),
                                              QLineEdit::Normal, QString::fromStdString(mark->text), &good);
  if (good) reword(id, words);
}

void MarksController::reword(const std::string& id, const QString& words) {
  const Mark* mark = master() ? mark_of(*master(), id) : nullptr;
  if (!mark || words.trimmed().isEmpty()) return;
  Mark other = *mark;
  other.text = words.trimmed().toStdString();
  change(tr("Other words of a mark"), [&](Master& m) { put_mark(m, other); });
}

void MarksController::remove(const std::string& id) {
  change(tr("Remove a mark"), [&](Master& m) { drop_mark(m, id); });
}

void MarksController::go_to(const std::string& id) {
  const Mark* mark = master() ? mark_of(*master(), id) : nullptr;
  if (!mark) return;
  const double at_s = mark->at_s;
  workspace_.select(mark->until_s ? std::optional(Range{at_s, *mark->until_s}) : std::nullopt);
  workspace_.go_to(at_s);
}

void MarksController::step(bool forward) {
  const Master* m = master();
  if (!m) return;
  const double at_s = context_.player.place_s();
  const Mark* mark =
      forward ? mark_after(*m, at_s + 0.01) : mark_before(*m, at_s - (context_.player.is_playing() ? 0.5 : 0.01));
  if (!mark)
    return context_.say(forward ? tr("There is no mark behind this place.")
                                : tr("There is no mark before this place."));
  go_to(mark->id);
}

void MarksController::ask_where_cues_go() {
  const Master* m = master();
  if (!m) return;
  const auto to = ask_where(context_.window, {tr("Save the master with its marks"),
                                              QString::fromStdString(m->audio.file.stem().string()) + "-marked.wav",
                                              tr("WAV (*.wav)"), "wav"});
  if (to) write_cues(*to);
}

void MarksController::write_cues(const Destination& to) {
  const Master* m = master();
  if (!m) return;
  writing_.start(tr("Writing the master with its marks"), context_.quiet,
                 [master = *m, to](const Job& job, const Tell&) {
                   write_with_marks(*Clip::open(master.audio.file, job.part(0, 0.1)), master, to, job.part(0.1, 1));
                 });
}

}  // namespace heathmist::app
