#include "app/pages/writing.hpp"

#include "app/theme/theme.hpp"

namespace heathmist::app {

namespace {
constexpr int steps = 1000, a_moment_ms = 400;
}

Writing::Writing(Queue& queue, QWidget* window, QObject* parent) : QObject(parent), window_(window), work_(queue) {
  connect(&work_, &LongWork::progressed, this, &Writing::show);
  connect(&work_, &LongWork::ended, this, [this](Outcome outcome, const QString& failure) {
    dialog_.reset();
    emit ended(outcome, failure);
  });
}

void Writing::start(const QString& what, bool quiet, std::function<void(const Job&, const Tell&)> work) {
  what_ = what;
  if (!quiet) {
    dialog_ = std::make_unique<QProgressDialog>(what, tr("Cancel"), 0, steps, window_);
    dialog_->setMinimumDuration(a_moment_ms);
    dialog_->setAutoClose(false);
    connect(dialog_.get(), &QProgressDialog::canceled, this, [this] { work_.cancel(); });
  }
  work_.start(std::move(work));
}

void Writing::show(double fraction) {
  if (!dialog_) return;
  dialog_->setValue(int(steps * fraction));
  if (const auto left = work_.left_s(fraction))
    dialog_->setLabelText(tr("%1, about %2 left").arg(what_, clock(*left, 0)));
}

}  // namespace heathmist::app
