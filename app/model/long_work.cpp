#include "app/model/long_work.hpp"

#include "app/theme/theme.hpp"

namespace heathmist::app {

LongWork::~LongWork() {
  if (!queue_) return;  // it waited for all work
  for (const Queue::Token token : begun_) queue_->drop_and_wait(token);
}

void LongWork::start(std::function<void(const Job&, const Tell&)> work) {
  drop();
  since_.start();
  std::erase_if(begun_, [this](Queue::Token token) { return !queue_->knows(token); });
  Request request;
  request.work = std::move(work);
  request.progressed = [this](double fraction) { emit progressed(fraction); };
  request.ended = [this](Outcome outcome, const QString& sentence) {
    token_ = 0;
    emit ended(outcome, sentence);
  };
  token_ = queue_->post(std::move(request));
  begun_.push_back(token_);
}

void LongWork::cancel() {
  if (token_) queue_->cancel(token_);
}

void LongWork::drop() {
  if (token_) queue_->drop(std::exchange(token_, 0));
}

QString how_it_ended(Outcome outcome, const QString& sentence) {
  if (!sentence.isEmpty()) return sentence;
  return outcome == Outcome::done ? QString() : QObject::tr("stopped");
}

std::optional<double> LongWork::left_s(double fraction) const {
  if (!since_.isValid() || fraction < 0.02) return {};
  return double(since_.elapsed()) / 1000 * (1 - fraction) / fraction;
}

QString LongWork::in_words(const QString& doing, double fraction) const {
  const auto left = left_s(fraction);
  return left && *left > 1 ? tr("%1, about %2 left").arg(doing, clock(*left, 0)) : tr("%1…").arg(doing);
}

}  // namespace heathmist::app
