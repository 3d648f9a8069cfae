#include "app/pages/writing.hpp"

#include "app/theme/theme.hpp"

namespace heathmist::app {

namespace {
constexpr int steps = 1000, a_moment_ms = 400;
}

Writing::Writing(QWidget* window, QObject* parent) : QObject(parent), window_(window) {
  connect(&task_, &Task::progressed, this, &Writing::show);
  connect(&task_, &Task::ended, this, [this](bool whole, const QString& failure) {
    dialog_.reset();
    emit ended(whole, failure);
  });
}

void Writing::start(const QString& what, bool quiet, std::function<void(const Job&)> work) {
  what_ = what;
  if (!quiet) {
    dialog_ = std::make_unique<QProgressDialog>(what, tr("Cancel"), 0, steps, window_);
    dialog_->setMinimumDuration(a_moment_ms);
    dialog_->setAutoClose(false);
    connect(dialog_.get(), &QProgressDialog::canceled, this, [this] { task_.cancel(); });
  }
  task_.start(std::move(work));
}

void Writing::show(double fraction) {
  if (!dialog_) return;
  dialog_->setValue(int(steps * fraction));
  if (const auto left = task_.left_s(fraction))
    dialog_->setLabelText(tr("%1, about %2 left").arg(what_, clock(*left, 0)));
}

}  // namespace heathmist::app
