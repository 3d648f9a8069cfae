// The chain of a trial, edited in place: its stages in order, the values of the one that is chosen, what it came to.
#pragma once
#include <QFrame>
#include <QLabel>
#include <QMenu>
#include <QPushButton>
#include <QSpinBox>
#include <QToolButton>

#include "app/pages/null/stage_form.hpp"

namespace heathmist::app {

class ChainStrip : public QFrame {
  Q_OBJECT

 public:
  enum class Command { keep, run_on_all, read, write, generations, write_return };

  explicit ChainStrip(QWidget* parent = nullptr);
  void show_chain(const Chain& chain);
  void show_reports(const std::vector<StageReport>& stages);
  void set_kept(const std::vector<Chain>& kept) { kept_ = kept; }
  const Chain& chain() const { return chain_; }
  int chosen() const { return chosen_; }  ///< index of the stage whose values are shown; -1: none
  void choose(int index);
  void add_stage(const std::string& type);
  void move_stage(int by);
  void remove_stage();
  void switch_stage(bool on);
  StageForm* form() const { return form_; }
  /// Looks anew at what may run here.
  void refresh_arms() { rebuild(); }

 signals:
  void changed(const heathmist::Chain& chain, const QString& what);
  void commanded(heathmist::app::ChainStrip::Command command);
  void rename_wanted(const heathmist::Chain& kept);
  void drop_wanted(const heathmist::Chain& kept);
  void arm_wanted(const heathmist::Stage& stage);

 protected:
  bool eventFilter(QObject* watched, QEvent* event) override;

 private:
  void rebuild();
  void dress_button(QToolButton* button, const Stage& stage);
  void tell(const QString& what);
  void fill_menu();
  Chain chain_;
  std::vector<Chain> kept_;
  int chosen_ = -1;
  QWidget* stages_;
  QHBoxLayout* stage_row_;
  std::vector<QToolButton*> buttons_;
  QWidget* tools_;
  QToolButton *on_, *earlier_, *later_, *remove_;
  QSpinBox* rounds_;
  QLabel *report_, *disarmed_;
  QPushButton* arm_;
  Grant grant_ = grant_nothing;  // what may run here, as it was when the stages were drawn
  QMenu* menu_;
  StageForm* form_;
};

}  // namespace heathmist::app
