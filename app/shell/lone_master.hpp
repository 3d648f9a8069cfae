// A master that nothing was laid on yet is heard by itself.
#pragma once
#include "app/model/long_work.hpp"
#include "app/pages/page.hpp"

namespace heathmist::app {

class LoneMaster : public QObject {
  Q_OBJECT

 public:
  LoneMaster(PageContext& context, QObject* parent);

 private:
  void hear();
  void let_go();
  void take(std::shared_ptr<const Clip> clip);
  PageContext& context_;
  LongWork opening_;
  std::filesystem::path held_;  // that is heard, or being opened; empty: none
};

}  // namespace heathmist::app
