// What the workspace does with chains.
#include "app/model/workspace.hpp"
#include "core/bench/versions.hpp"

namespace heathmist::app {

namespace {

constexpr int merge_chain = 2;  // changes of one trial's chain in a row are one step of undo: even numbers
constexpr int least_generations = 5;

Trial trial_through(Chain chain) {
  Trial trial{fresh_id(), chain.name, {}, {}};
  chain.name.clear();
  trial.chain = std::move(chain);
  return trial;
}

bool has_chain(const Trial& trial, Chain chain) {
  chain.name.clear();
  return trial.chain && trial.chain->stages == chain.stages && trial.chain->rounds == chain.rounds;
}

}  // namespace

std::optional<Chain> Workspace::current_chain() const {
  const Trial* trial = model_.bench().trial(current_);
  return trial ? trial->chain : std::nullopt;
}

std::string Workspace::current_master() const {
  if (model_.bench().master(current_)) return current_;
  const Master* owner = model_.bench().master_of(current_);
  return owner ? owner->id : std::string();
}

void Workspace::set_chain(const Chain& chain, const QString& what) {
  const std::string id = current_;
  const Trial* now = model_.bench().trial(id);
  if (!now || !now->chain || *now->chain == chain) return;
  state(id).summary.reset();
  state(id).failure.clear();
  model_.edit(
      what,
      [&](Bench& bench) {
        if (Trial* trial = bench.trial(id)) trial->chain = chain;
      },
      merge_chain + 2 * int(std::hash<std::string>()(id) & 0xffffff));
}

void Workspace::make_return(const Chain& chain) {
  const std::string owner = current_master();
  if (owner.empty()) return;
  const Trial trial = trial_through(chain);
  model_.edit(tr("Make a return"), [&](Bench& bench) { bench.master(owner)->trials.push_back(trial); });
  look_at(trial.id);
  emit rows_changed();
}

void Workspace::look_through(const std::string& master_id, const Chain& chain) {
  const Master* owner = model_.bench().master(master_id);
  if (!owner) return;
  for (const Trial& t : owner->trials)
    if (has_chain(t, chain)) {
      look_at(t.id);
      emit rows_changed();
      return;
    }
  current_ = master_id;
  make_return(chain);
}

void Workspace::look_at_pair(const std::string& master_id, const QString& name, const std::filesystem::path& file) {
  const Master* owner = model_.bench().master(master_id);
  if (!owner) return;
  std::string id;
  for (const Trial& t : owner->trials)
    if (!t.chain && t.ret.file == file) id = t.id;
  if (id.empty()) {
    id = fresh_id();
    model_.edit(tr("Compare two clips"), [&](Bench& bench) {
      Master& master = *bench.master(master_id);
      master.trials.push_back({id, name.toStdString(), {file, {}}, {}, {}, heathmist::version_of(master)});
    });
  }
  look_at(id);
  emit rows_changed();
}

void Workspace::make_returns(const std::string& master_id, const std::vector<Chain>& chains) {
  if (!model_.bench().master(master_id) || chains.empty()) return;
  std::string first;
  model_.edit(tr("Make returns of every quality"), [&](Bench& bench) {
    Master& master = *bench.master(master_id);
    for (const Chain& chain : chains) {
      auto t = std::find_if(master.trials.begin(), master.trials.end(),
                            [&](const Trial& one) { return has_chain(one, chain); });
      if (t == master.trials.end()) t = master.trials.insert(master.trials.end(), trial_through(chain));
      if (first.empty()) first = t->id;
    }
  });
  look_at(first);
  emit rows_changed();
}

void Workspace::take_pairs(const std::vector<std::pair<std::filesystem::path, std::filesystem::path>>& pairs) {
  const auto title = [](const std::filesystem::path& file) {
    return title_of(QString::fromStdString(file.string())).toStdString();
  };
  std::string first;
  model_.edit(tr("Make trials of pairs"), [&](Bench& bench) {
    for (const auto& [master, ret] : pairs) {
      auto m = std::find_if(bench.masters.begin(), bench.masters.end(),
                            [&file = master](const Master& one) { return one.audio.file == file; });
      if (m == bench.masters.end())
        m = bench.masters.insert(bench.masters.end(), {fresh_id(), title(master), {master, {}}, {}});
      auto t = std::find_if(m->trials.begin(), m->trials.end(),
                            [&file = ret](const Trial& one) { return !one.chain && one.ret.file == file; });
      if (t == m->trials.end())
        t = m->trials.insert(m->trials.end(), {fresh_id(), title(ret), {ret, {}}, {}, {}, heathmist::version_of(*m)});
      if (first.empty()) first = t->id;
    }
  });
  if (!first.empty()) look_at(first);
  emit rows_changed();
}

void Workspace::run_on_all(const Chain& chain) {
  model_.edit(tr("Run a chain on every master"), [&](Bench& bench) {
    for (Master& m : bench.masters)
      if (std::none_of(m.trials.begin(), m.trials.end(), [&](const Trial& t) { return has_chain(t, chain); }))
        m.trials.push_back(trial_through(chain));
  });
}

void Workspace::compare_generations() {
  const auto chain = current_chain();
  const std::string owner = current_master();
  if (!chain || owner.empty()) return;
  model_.edit(tr("Compare generations"), [&](Bench& bench) {
    Master* master = bench.master(owner);
    for (int rounds = 1; rounds <= std::max(least_generations, chain->rounds); ++rounds) {
      Chain generation = *chain;
      generation.rounds = rounds;
      if (std::none_of(master->trials.begin(), master->trials.end(),
                       [&](const Trial& t) { return has_chain(t, generation); }))
        master->trials.push_back(trial_through(generation));
    }
  });
}

void Workspace::keep_chain(const Chain& chain) {
  model_.edit(tr("Keep a chain"), [&](Bench& bench) {
    std::erase_if(bench.chains, [&](const Chain& c) { return title_of(c) == title_of(chain); });
    bench.chains.push_back(chain);
  });
}

bool Workspace::rename_kept_chain(const Chain& kept, const std::string& name) {
  const auto& chains = model_.bench().chains;
  if (std::any_of(chains.begin(), chains.end(), [&](const Chain& c) { return c != kept && title_of(c) == name; }))
    return false;
  model_.edit(tr("Rename a kept chain"), [&](Bench& bench) {
    for (Chain& c : bench.chains)
      if (c == kept) c.name = name;
  });
  return true;
}

void Workspace::drop_kept_chain(const Chain& kept) {
  model_.edit(tr("Drop a kept chain"), [&](Bench& bench) { std::erase(bench.chains, kept); });
}

void Workspace::set_album(const std::string& master_id, const std::string& album) {
  const Master* master = model_.bench().master(master_id);
  if (!master || master->album == album) return;
  model_.edit(tr("Put a master into an album"), [&](Bench& bench) { bench.master(master_id)->album = album; });
}

void Workspace::move_master(int by) {
  const auto& masters = model_.bench().masters;
  const auto at =
      std::find_if(masters.begin(), masters.end(), [&](const Master& m) { return m.id == current_master(); });
  const int64_t from = at - masters.begin(), to = from + by;
  if (at == masters.end() || to < 0 || to >= int64_t(masters.size())) return;
  model_.edit(tr("Move a master"),
              [&](Bench& bench) { std::swap(bench.masters[size_t(from)], bench.masters[size_t(to)]); });
}

std::string Workspace::master_of_file(const QString& name, const std::filesystem::path& file) {
  for (const Master& m : model_.bench().masters)
    if (m.audio.file == file) return m.id;
  const std::string id = fresh_id();
  model_.edit(tr("Add a master"), [&](Bench& bench) {
    bench.masters.push_back({id, name.toStdString(), {file, {}}, {}});
  });
  return id;
}

}  // namespace heathmist::app
