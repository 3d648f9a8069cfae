#include <QStandardPaths>

#include "app/pages/matrix/matrix_controller.hpp"
#include "app/pages/page.hpp"
#include "core/audio/write.hpp"

namespace heathmist::app {

namespace {

constexpr int probe_rate_hz = 44100;

/// Where a probe signal lies once it has been written: among the user's own data.
std::filesystem::path probe_file(const ProbeSignal& signal) {
  const auto folder = QStandardPaths::writableLocation(QStandardPaths::AppDataLocation) + "/probes";
  return std::filesystem::path(folder.toStdString()) / (signal.key + "-44100.wav");
}

void write_probe(const ProbeSignal& signal, const std::filesystem::path& file) {
  std::error_code ignored;
  std::filesystem::create_directories(file.parent_path(), ignored);
  const Planar sound = render(signal, probe_rate_hz, 8);
  ClipWriter out({file, true}, probe_rate_hz, sound.channels(), WordFormat::float64);
  out.write(sound);
  out.finish();
}

}  // namespace

MatrixController::MatrixController(PageContext& context, MatrixView* view)
    : QObject(view), context_(context), writing_(context.workspace.queue()) {
  connect(view, &MatrixView::opened, this, &MatrixController::open_cell);
  connect(&writing_, &LongWork::ended, this, [this](Outcome outcome, const QString& failure) {
    const auto then = std::exchange(then_, {});
    if (!failure.isEmpty()) context_.say(failure);
    if (outcome == Outcome::done && then) then();
  });
}

void MatrixController::open_cell(const MatrixRow& row, const Chain& chain) {
  const ProbeSignal* signal = row.file.empty() ? probe_signal(row.probe) : nullptr;
  const auto file = signal ? probe_file(*signal) : row.file;
  auto open = [this, name = QString::fromStdString(row.name), file, chain] {
    context_.show("null");
    context_.workspace.look_through(context_.workspace.master_of_file(name, file), chain);
  };
  if (!signal || std::filesystem::exists(file)) return open();
  then_ = open;
  writing_.start([signal = *signal, file](const Job&, const Tell&) { write_probe(signal, file); });
}

namespace {

MadePage make_matrix(PageContext& context, QWidget* parent) {
  auto* view = new MatrixView(context.workspace.queue(), parent);
  new MatrixController(context, view);
  return {.widget = view,
          .first = [view] { return view->table(); },
          .commands = {{QObject::tr("Run the setting matrix"), MenuKind::make,
                        [view, &context] {
                          context.show("matrix");
                          if (!view->is_running()) view->start();
                        }}},
          .shown = [view, &context] { view->show_bench(context.workspace.bench()); },
          .file_changed = [view](const std::filesystem::path& file) { view->forget(file); }};
}

}  // namespace

Page matrix_page() {
  return {"matrix",
          PageGroup::make,
          QObject::tr("Matrix"),
          QObject::tr("Masters and probes by settings"),
          QKeySequence("F10"),
          make_matrix};
}

}  // namespace heathmist::app
