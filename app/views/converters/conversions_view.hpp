// Everything about conversions on one page of the window: the board, the fold calculator, word lengths.
#pragma once
#include <QButtonGroup>
#include <QStackedWidget>

#include "app/views/converters/converters_view.hpp"
#include "app/views/converters/fold_view.hpp"
#include "app/views/converters/word_board_view.hpp"

namespace heathmist::app {

class ConversionsView : public QWidget {
  Q_OBJECT

 public:
  explicit ConversionsView(QWidget* parent = nullptr);
  ConvertersView* board() const { return board_; }
  FoldView* folds() const { return folds_; }
  WordBoardView* words() const { return words_; }
  enum Part { board_part, folds_part, words_part };
  void show_part(int part);
  Part part() const { return Part(parts_->currentIndex()); }

 private:
  QButtonGroup* choice_;
  QStackedWidget* parts_;
  ConvertersView* board_;
  FoldView* folds_;
  WordBoardView* words_;
};

}  // namespace heathmist::app
