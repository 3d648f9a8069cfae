// Something that is made here and heard in place of the trial, until its page is left.
#pragma once
#include "app/model/long_work.hpp"
#include "app/pages/page.hpp"

namespace heathmist::app {

class HeardInstead : public QObject {
  Q_OBJECT

 public:
  /// `failed`: the sentence before what went wrong: "The fade was not made."
  HeardInstead(PageContext& context, const QString& failed, QObject* parent);
  /// `make` gives what is heard as master and as return, as they stand; off the interface thread.
  void hear(std::function<Comparable(const Job& job)> make);
  void stop();  ///< the trial is heard again

 private:
  void play(const Comparable& pair, const std::shared_ptr<const NullReport>& report);
  PageContext& context_;
  LongWork making_;
  bool heard_ = false;
};

}  // namespace heathmist::app
