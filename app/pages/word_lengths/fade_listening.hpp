// A fade through a cut is heard in place of the trial, until its page is left: master before, return after the cut.
#pragma once
#include "app/model/long_work.hpp"
#include "app/pages/page.hpp"
#include "core/boards/word_board.hpp"

namespace heathmist::app {

class FadeListening : public QObject {
  Q_OBJECT

 public:
  FadeListening(PageContext& context, QObject* parent);
  void hear(const WordCut& cut);
  void stop();  ///< the trial is heard again

 private:
  void play(const Comparable& pair, const std::shared_ptr<const NullReport>& report);
  PageContext& context_;
  LongWork making_;
  bool heard_ = false;
};

}  // namespace heathmist::app
