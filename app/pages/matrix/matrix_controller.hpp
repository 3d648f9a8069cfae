// From a cell of the matrix to its trial; a probe signal is written as a file first.
#pragma once
#include "app/model/long_work.hpp"
#include "app/pages/matrix/matrix_view.hpp"

namespace heathmist::app {

struct PageContext;

class MatrixController : public QObject {
  Q_OBJECT

 public:
  MatrixController(PageContext& context, MatrixView* view);
  void open_cell(const MatrixRow& row, const Chain& chain);

 private:
  PageContext& context_;
  LongWork writing_;
  std::function<void()> then_;  // what waits for the probe's file
};

}  // namespace heathmist::app
