// Blind listening: set up, gone through, shown. The order comes from the sealed key, the sound from a deck of its own.
#pragma once
#include <QStackedWidget>

#include "app/listen/deck.hpp"
#include "app/model/long_work.hpp"
#include "app/model/workspace.hpp"
#include "app/pages/blind/blind_result.hpp"
#include "app/pages/blind/blind_run.hpp"
#include "app/pages/blind/blind_setup.hpp"
#include "core/hearing/ladder.hpp"

namespace heathmist::app {

class BlindView : public QStackedWidget {
  Q_OBJECT

 public:
  BlindView(Workspace& workspace, Deck::Open device, QWidget* parent = nullptr);
  void show_bench();
  void begin();
  void train();
  void go_on(const std::string& test_id);  ///< or shows what it came to
  void leave();                            ///< what runs is gone on with later
  void forget(const std::filesystem::path& file);
  bool is_making() const { return making_.is_running(); }
  bool is_running() const { return currentWidget() == run_; }
  BlindSetup* setup() const { return setup_; }
  BlindRun* run() const { return run_; }
  BlindResultView* result() const { return result_; }
  Deck& deck() { return deck_; }
  QString csv() const { return result_->csv(); }
  bool has_result() const { return currentWidget() == result_; }

 signals:
  void starting();  ///< something is to be heard here: whoever plays stops
  void rested();    ///< what was made is ready, or failed

 private:
  struct Made {
    std::shared_ptr<const Stimuli> stimuli;
    std::shared_ptr<const Ladder> ladder;  ///< of a threshold: then the stimuli are the reference and one rung
    std::vector<BlindStimulus> named;
    std::vector<std::filesystem::path> files;  ///< what they were made of
  };
  /// What is to be made of results, worked out on the interface thread: the bench is its own.
  struct Order {
    BlindChoice choice;
    std::shared_ptr<const Clip> master;
    std::vector<ToHear> others;
    Made made;  ///< without its sound
  };
  std::vector<std::string> missing(const BlindChoice& choice) const;  ///< trials that are not measured
  void stop_waiting();
  void prepare(const BlindChoice& choice, std::function<void()> then);
  static void make(const Order& order, Made& made, const Job& job);
  BlindDesign design_for(const BlindChoice& choice) const;
  int sound_of(int stimulus) const;  ///< the deck's
  void put_rung();
  Order order_for(const BlindChoice& choice, const std::vector<std::shared_ptr<const TrialResult>>& of) const;
  int step() const;  ///< of undo: the test that runs
  bool refuse_the_same(const BlindChoice& choice);
  void start_run();
  void next();
  void take(const BlindAnswer& given);
  void take_back_last();
  void drop_out();
  void finish();
  QString unequal() const;
  const BlindTest* test() const;
  void change(const QString& what, const std::function<void(BlindTest&)>& how);

  Workspace& workspace_;
  BlindSetup* setup_;
  BlindRun* run_;
  BlindResultView* result_;
  Deck deck_;
  LongWork making_;
  Made made_;
  std::string running_;  // id on the bench; empty: none, or training
  std::optional<BlindTest> training_;
  Round round_;
  std::function<void()> then_;  // once it is made
  struct Waiting {
    BlindChoice choice;
    std::function<void()> then;
  };
  std::optional<Waiting> waiting_;  // for trials to be measured
};

}  // namespace heathmist::app
