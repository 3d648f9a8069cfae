#include "app/model/bench_model.hpp"

#include <QFileInfo>
#include <QStandardPaths>

#include "core/audio/clip.hpp"

namespace heathmist::app {

class BenchChange : public QUndoCommand {
 public:
  BenchChange(BenchModel& model, const QString& what, Bench before, Bench after, int merge)
      : QUndoCommand(what), model_(model), before_(std::move(before)), after_(std::move(after)), merge_(merge) {}
  void undo() override { model_.put(before_); }
  void redo() override { model_.put(after_); }
  int id() const override { return merge_ == 0 ? -1 : merge_; }
  bool mergeWith(const QUndoCommand* later) override {
    after_ = static_cast<const BenchChange*>(later)->after_;
    return true;
  }

 private:
  BenchModel& model_;
  Bench before_, after_;
  int merge_;
};

BenchModel::BenchModel(QObject* parent) : QObject(parent) {
  connect(&undo_, &QUndoStack::cleanChanged, this, [this] { emit file_changed(); });
  prints_timer_.setSingleShot(true);
  connect(&prints_timer_, &QTimer::timeout, this, [this] { put_prints(bench_); });
  autosave_timer_.setInterval(20000);
  connect(&autosave_timer_, &QTimer::timeout, this, &BenchModel::autosave);
  autosave_timer_.start();
}

void BenchModel::edit(const QString& what, const std::function<void(Bench&)>& change, int merge) {
  Bench after = bench_;
  change(after);
  if (after == bench_) return;
  undo_.push(new BenchChange(*this, what, bench_, after, merge));
}

void BenchModel::learn_fingerprint(const std::filesystem::path& file, const std::string& print) {
  if (print.empty()) return;
  prints_[file.native()] = print;
  if (!prints_timer_.isActive()) prints_timer_.start(0);
}

void BenchModel::put_prints(Bench& bench) const {
  const auto put = [&](FileRef& ref) {
    if (const auto known = prints_.find(ref.file.native()); known != prints_.end()) ref.fingerprint = known->second;
  };
  for (Master& m : bench.masters) {
    put(m.audio);
    for (Trial& t : m.trials) put(t.ret);
  }
  for (TestedEngine& e : bench.engines)
    for (EngineRender& r : e.renders)
      if (!r.render.file.empty()) put(r.render);
  for (FileRef& r : bench.responses) put(r);
  if (bench.floor) put(bench.floor->recording);
  if (bench.floor && bench.floor->master) put(*bench.floor->master);
}

void BenchModel::put(const Bench& bench) {
  auto settings = std::move(bench_.settings);
  bench_ = bench;
  put_prints(bench_);
  if (!settings.empty()) bench_.settings = std::move(settings);  // what is set stays so through undo
  emit changed();
}

void BenchModel::open(const QString& file, const Bench& loaded) {
  undo_.clear();
  copy_.drop();
  prints_.clear();
  bench_.settings.clear();
  file_ = QFileInfo(file).absoluteFilePath();
  put(loaded);
  emit file_changed();
}

void BenchModel::save(const QString& file) {
  put_prints(bench_);
  save_bench(bench_, file.toStdString());
  file_ = QFileInfo(file).absoluteFilePath();
  undo_.setClean();
  copy_.drop();
  emit file_changed();
}

void BenchModel::start_anew() {
  undo_.clear();
  copy_.drop();
  prints_.clear();
  file_.clear();
  bench_.settings.clear();
  put(Bench{});
  emit file_changed();
}

std::filesystem::path BenchModel::unsaved_folder() {
  return QStandardPaths::writableLocation(QStandardPaths::AppDataLocation).toStdString();
}

void BenchModel::autosave() {
  if (undo_.isClean()) return copy_.drop();  // its content is in the bench's own file
  if (bench_.masters.empty()) return;
  try {
    copy_.keep(bench_, file_.toStdString());
  } catch (const std::exception& error) {  // tried again at the next tick; the document itself is untouched
    emit copy_failed(tr("No copy of the unsaved bench can be kept: %1").arg(QString::fromUtf8(error.what())));
  }
}

void BenchModel::recover(const UnsavedCopy::Content& content, UnsavedCopy copy) {
  start_anew();
  copy_ = std::move(copy);
  file_ = QString::fromStdString(content.of.string());
  edit(tr("Recover"), [&](Bench& bench) { bench = content.bench; });
  emit file_changed();
}

namespace {

/// Higher: likelier the master. Lossy formats come back; the finer word, the plainer container went out.
int mastership(const QString& file) {
  const QString ending = QFileInfo(file).suffix().toLower();
  static const QStringList lossy{"mp3", "aac", "m4a", "ogg", "opus", "ac3", "mp4", "mkv", "mov", "webm"};
  return lossy.contains(ending) ? 0 : 1;
}

}  // namespace

Drop sort_drop(QStringList files, bool master_selected) {
  if (files.size() == 1 && master_selected) return {{}, files};
  if (files.isEmpty()) return {};
  auto best = files.begin();
  for (auto it = files.begin(); it != files.end(); ++it)
    if (mastership(*it) > mastership(*best)) best = it;
  const QString master = *best;
  files.erase(best);
  return {master, files};
}

QString title_of(const QString& file) { return QFileInfo(file).completeBaseName(); }

}  // namespace heathmist::app
