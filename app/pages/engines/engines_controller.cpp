#include "app/pages/engines/engines_controller.hpp"

#include <QInputDialog>
#include <QMenu>
#include <algorithm>

#include "app/widgets/audio_files.hpp"
#include "core/audio/write.hpp"
#include "core/probes/score_json.hpp"

namespace heathmist::app {

namespace {

bool has(const TestedEngine& engine, const std::string& kind) {
  return std::any_of(engine.renders.begin(), engine.renders.end(),
                     [&](const EngineRender& r) { return r.kind == kind; });
}

/// Of a crossfade two beside each other.
std::vector<std::filesystem::path> files_of(const ProbeScore& score, const std::filesystem::path& file) {
  if (score.files() == 1) return {file};
  const auto stem = file.parent_path() / file.stem();
  return {stem.string() + "-a.wav", stem.string() + "-b.wav"};
}

}  // namespace

EnginesController::EnginesController(PageContext& context, EnginesView* view)
    : QObject(view), context_(context), view_(view), writing_(context.workspace.queue(), context.window, this) {
  using V = EnginesView;
  connect(view, &V::add_wanted, this, &EnginesController::add_menu);
  connect(view, &V::menu_wanted, this, &EnginesController::engine_menu);
  connect(view, &V::asking_wanted, this, [this] { ask(view_->kind()); });
  connect(view, &V::render_wanted, this, [this] { choose_render(); });
  connect(view, &V::probe_wanted, this, &EnginesController::choose_probe_file);
  connect(view, &V::score_wanted, this, &EnginesController::choose_score_file);
  connect(&writing_, &Writing::ended, this, [this](Outcome outcome, const QString& sentence) {
    if (outcome == Outcome::done) return context_.say(written_);
    if (outcome == Outcome::failed) context_.say(sentence);
  });
}

TestedEngine* EnginesController::edited(Bench& bench) const {
  return view_->engine() ? bench.engine(view_->engine()->id) : nullptr;
}

void EnginesController::add_stand_in(const std::string& key, bool and_ask) {
  for (const Engine& e : known_engines()) {
    if (e.key != key) continue;
    TestedEngine fresh{fresh_id(), e.name, key};
    if (and_ask)
      for (const std::string& kind : engine_kinds()) fresh.renders.push_back({fresh_id(), kind, {}});
    context_.workspace.model().edit(tr("Add the engine %1").arg(QString::fromStdString(e.name)),
                                    [&](Bench& bench) { bench.engines.push_back(fresh); });
    view_->choose(fresh.id, {});
    return;
  }
}

void EnginesController::add_own(const QString& name) {
  if (name.trimmed().isEmpty()) return;
  const TestedEngine fresh{fresh_id(), name.trimmed().toStdString()};
  context_.workspace.model().edit(tr("Add the engine %1").arg(name.trimmed()),
                                  [&](Bench& bench) { bench.engines.push_back(fresh); });
  view_->choose(fresh.id, {});
}

void EnginesController::ask(const std::string& kind) {
  if (!probe_kind(kind)) return;
  context_.workspace.model().edit(tr("Ask for %1").arg(title_of_kind(kind).toLower()), [&](Bench& bench) {
    if (TestedEngine* e = edited(bench); e && !has(*e, kind)) e->renders.push_back({fresh_id(), kind, {}});
  });
}

void EnginesController::ask_everything() {
  context_.workspace.model().edit(tr("Ask for everything"), [&](Bench& bench) {
    TestedEngine* e = edited(bench);
    if (!e || e->stand_in.empty()) return;
    for (const std::string& kind : engine_kinds())
      if (!has(*e, kind)) e->renders.push_back({fresh_id(), kind, {}});
  });
}

/// A render takes the place of the one of its kind and control that was there; undo brings that back.
void EnginesController::bring_in(const QString& file, const std::string& control) {
  const std::string kind = view_->kind();
  if (file.isEmpty() || !probe_kind(kind)) return;
  context_.workspace.model().edit(tr("Bring in a render"), [&](Bench& bench) {
    TestedEngine* e = edited(bench);
    if (!e) return;
    std::erase_if(e->renders, [&](const EngineRender& r) { return r.kind == kind && r.control == control; });
    e->renders.push_back({fresh_id(), kind, {std::filesystem::absolute(file.toStdString()), {}}, control});
  });
}

void EnginesController::remove(const std::string& engine_id) {
  context_.workspace.model().edit(tr("Take an engine off"), [&](Bench& bench) {
    std::erase_if(bench.engines, [&](const TestedEngine& e) { return e.id == engine_id; });
  });
}

void EnginesController::rename(const std::string& engine_id, const QString& name) {
  if (name.trimmed().isEmpty()) return;
  context_.workspace.model().edit(tr("Rename an engine"), [&](Bench& bench) {
    if (TestedEngine* e = bench.engine(engine_id)) e->name = name.trimmed().toStdString();
  });
}

void EnginesController::write_probe(const Destination& to) {
  if (!probe_kind(view_->kind())) return;
  const auto score = probe_score(view_->kind(), view_->rate_hz());
  const auto files = files_of(score, to.file);
  QStringList names;
  for (const auto& file : files) names << QString::fromStdString(file.filename().string());
  written_ =
      tr("%1 is written. Do in the engine what the score says, then bring in the render.").arg(names.join(tr(" and ")));
  writing_.start(tr("Writing the probe"), context_.quiet, [score, to, files](const Job&, const Tell&) {
    // of two files neither takes the place of another that nobody was asked about
    const bool may_replace = to.replace && files.size() == 1;
    for (const auto& file : files) check({file, may_replace, to.inputs});
    for (size_t n = 0; n < files.size(); ++n)
      heathmist::write_probe(score, {files[n], may_replace, to.inputs}, ProbeWord::pcm24, int(n));
  });
}

/// As the ending says.
void EnginesController::write_score(const Destination& to) {
  const auto score = probe_score(view_->kind(), view_->rate_hz());
  AtomicFile file(to);
  const auto ending = to.file.extension();
  if (ending == ".mid") {
    const auto midi = score_midi(score);
    file.write({reinterpret_cast<const char*>(midi.data()), midi.size()});
  } else {
    file.write(ending == ".csv" ? score_csv(score) : text_of(score_json(score)) + "\n");
  }
  file.commit();
}

void EnginesController::choose_render(const std::string& control) {
  const TestedEngine* e = view_->engine();
  if (!e || !e->stand_in.empty()) return;
  const QString title = tr("What %1 made of the probe").arg(QString::fromStdString(e->name));
  bring_in(choose_audio_file(context_.window, title), control);
}

void EnginesController::choose_probe_file() {
  const QString name = QString("%1-%2.wav").arg(QString::fromStdString(view_->kind())).arg(view_->rate_hz());
  if (const auto to = ask_where(context_.window, {tr("Write the probe"), name, tr("WAV (*.wav)"), "wav"}))
    write_probe(*to);
}

void EnginesController::choose_score_file() {
  if (!probe_kind(view_->kind())) return;
  const bool moves = !score_csv(probe_score(view_->kind(), view_->rate_hz())).empty();
  const QString filter = moves ? tr("MIDI file (*.mid);;Table (*.csv);;JSON (*.json)") : tr("JSON (*.json)");
  const QString ending = moves ? "mid" : "json";
  save_as(context_.window, {tr("Save the score"), QString::fromStdString(view_->kind()) + "." + ending, filter, ending},
          [this](const Destination& to) { write_score(to); });
}

void EnginesController::save_csv() { save_table(context_.window, "engines.csv", view_->csv()); }

void EnginesController::ask_name() {
  bool given = false;
  const QString name = QInputDialog::getText(context_.window, tr("An engine of your own"), tr("What you call it:"),
                                             QLineEdit::Normal, tr("The mix room"), &given);
  if (given) add_own(name);
}

void EnginesController::add_menu(const QPoint& at) {
  QMenu menu(context_.window);
  menu.addAction(tr("One of your own\u2026"), this, &EnginesController::ask_name);
  menu.addSeparator();
  std::vector<std::string> refused;
  for (const Engine& e : known_engines(&refused))
    menu.addAction(tr("Stand-in %1").arg(QString::fromStdString(e.name)), this,
                   [this, key = e.key] { add_stand_in(key, true); })
        ->setToolTip(QString::fromStdString(e.what));
  for (const auto& sentence : refused) context_.say(QString::fromStdString(sentence));
  menu.setToolTipsVisible(true);
  menu.exec(at - QPoint(0, menu.sizeHint().height()));
}

void EnginesController::engine_menu(const std::string& engine_id, const QPoint& at) {
  view_->choose(engine_id, {});
  const TestedEngine* e = view_->engine();
  if (!e) return;
  QMenu menu(context_.window);
  if (e->stand_in.empty()) menu.addAction(tr("Bring in the render\u2026"), this, [this] { choose_render(); });
  if (e->stand_in.empty() && view_->kind() == "gain")
    menu.addAction(tr("Bring in the same by clip gain\u2026"), this, [this] { choose_render("clip gain"); });
  if (!e->stand_in.empty()) menu.addAction(tr("Ask for everything"), this, &EnginesController::ask_everything);
  menu.addAction(tr("Rename\u2026"), this, [this, engine_id, name = QString::fromStdString(e->name)] {
    bool given = false;
    const QString fresh = QInputDialog::getText(context_.window, tr("Rename an engine"), tr("What you call it:"),
                                                QLineEdit::Normal, name, &given);
    if (given) rename(engine_id, fresh);
  });
  menu.addAction(tr("Take it off the bench"), this, [this, engine_id] { remove(engine_id); });
  menu.exec(at);
}

}  // namespace heathmist::app
